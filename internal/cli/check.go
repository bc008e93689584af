package cli

import (
	"context"
	"errors"
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"fernladder/core/build"
	"fernladder/core/draft"
	"fernladder/core/machine"
	"fernladder/core/recipe"
	"fernladder/core/tomlfile"
	"fernladder/core/upstream"
	"fernladder/internal/term"
)

func (a *app) checkCommand() *cobra.Command {
	schema, online, fix := false, false, false
	c := &cobra.Command{
		Use:   "check [NAME...]",
		Short: "Read recipes and report every mistake in them",
		Long: `Reads the recipes of these packages, or all recipes on the shelves, and reports
every mistake with its file, line and column; then what is allowed and probably
not meant. Patches are tried on archives that are here. With --online, the sites
that archives come from are asked too: whether they still have them, serve them by
https, and offer signatures that the recipe does not name. Only mistakes change the
exit status. Nothing is fetched or built.`,
		Example: `  fernladder check
  fernladder check mistplan --json
  fernladder check --online
  fernladder check --schema >recipe.schema.json     for editors`,
		ValidArgsFunction: a.completeRecipes,
		RunE: func(c *cobra.Command, args []string) error {
			if schema {
				return a.screen.PrintJSON(tomlfile.Schema("A recipe of Fern Ladder", recipe.Keys(&recipe.Recipe{})))
			}
			return a.check(c.Context(), args, online, fix)
		},
	}
	c.Flags().BoolVar(&online, "online", false, "ask the sites that archives come from")
	c.Flags().BoolVar(&fix, "fix", false, "where a recipe takes from the operating system what another recipe has, write the need")
	c.Flags().BoolVar(&schema, "schema", false, "print a JSON Schema of recipes, and check nothing")
	return c
}

func (a *app) check(ctx context.Context, names []string, online, fix bool) error {
	m, err := a.open()
	if err != nil {
		return err
	}
	if len(m.Settings.Shelves) == 0 {
		return usage("no shelf is set: name one in %s, or make a folder to work in with: fernladder new DIR", orDefault(m.Settings.File, "fernladder.toml"))
	}
	all := len(names) == 0
	if all {
		if names, err = m.Shelves.Names(); err != nil {
			return err
		}
	}
	var known *draft.Known // which takes all recipes
	if all || fix {
		known, err = draft.Survey(m.Shelves, m.Store)
	} else {
		m.Shelves.ReadAll(names)
	}
	if err != nil {
		return err
	}
	problems, warnings := tomlfile.Problems{}, tomlfile.Problems{}
	for _, name := range names {
		r, err := m.Shelves.Find(name)
		var found tomlfile.Problems
		if errors.As(err, &found) {
			problems = append(problems, found...)
			continue
		}
		if err != nil {
			return err
		}
		more, err := a.warnings(ctx, m, r, online)
		if err != nil {
			return err
		}
		var upward tomlfile.Problems
		if known != nil {
			upward = known.Upward(r)
		}
		if fix && len(upward) > 0 {
			if err := r.Change(func(e *tomlfile.Edit) { known.Raise(r, e) }); err != nil {
				return err
			}
			for _, p := range upward {
				a.screen.Note("%s: %s; a need is there now in its place", r.File, p.Message)
			}
			upward = nil
		}
		warnings = append(append(warnings, more...), upward...)
	}
	var shadowed map[string][]string
	if all {
		_, more := m.Causes()
		problems = append(problems, more...)
		if shadowed, err = m.Shelves.Shadowed(); err != nil {
			return err
		}
	}
	if a.screen.JSON {
		err = a.screen.PrintJSON(struct {
			Recipes  int                 `json:"recipes"`
			Problems tomlfile.Problems   `json:"problems"`
			Warnings tomlfile.Problems   `json:"warnings"`
			Hidden   map[string][]string `json:"hidden"`
		}{len(names), problems, warnings, shadowed})
	} else {
		a.showProblems(m, len(names), problems, warnings, shadowed)
	}
	if err == nil && len(problems) > 0 {
		err = &alreadyShown{problems}
	}
	return err
}

// warnings are what is allowed in a recipe and probably not meant.
func (a *app) warnings(ctx context.Context, m *machine.Machine, r *recipe.Recipe, online bool) (tomlfile.Problems, error) {
	warnings := append(r.Warnings(), m.Shelves.UnknownNeeds(r)...)
	if build.HasPatched(m, r) {
		if err := m.Store.Prepare(); err != nil {
			return nil, err
		}
		more, err := build.CheckPatches(ctx, m, r)
		if err != nil {
			return nil, err
		}
		warnings = append(warnings, more...)
	}
	if online {
		more, err := upstream.Warnings(ctx, m, r)
		if err != nil {
			return nil, err
		}
		warnings = append(warnings, more...)
	}
	warnings.Sort()
	return warnings, nil
}

func (a *app) showProblems(m *machine.Machine, recipes int, problems, warnings tomlfile.Problems, shadowed map[string][]string) {
	if len(problems) > 0 {
		a.screen.Print("%v\n", problems)
	}
	if len(warnings) > 0 {
		a.screen.Print("%s\n%v\n", a.screen.Strong("Allowed, but probably not meant:"), warnings)
	}
	for _, name := range slices.Sorted(maps.Keys(shadowed)) {
		if r, err := m.Shelves.Find(name); err == nil {
			a.screen.Print("%s hides %s", r.File, strings.Join(shadowed[name], ", "))
		}
	}
	sum := ", no mistakes"
	if len(problems) > 0 {
		sum = ", " + a.screen.Bad(term.Count(len(problems), "mistake"))
	}
	if len(warnings) > 0 {
		sum += ", " + term.Count(len(warnings), "warning")
	}
	a.screen.Print("%s%s", term.Count(recipes, "recipe"), sum)
}

func orDefault(text, other string) string {
	if text == "" {
		return other
	}
	return text
}
