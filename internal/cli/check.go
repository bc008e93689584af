package cli

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"fernladder/core/recipe"
	"fernladder/core/session"
	"fernladder/core/tomlfile"
	"fernladder/internal/term"
)

func (a *app) checkCommand() *cobra.Command {
	schema, online, fix := false, false, false
	c := &cobra.Command{
		Use:   "check [NAME...]",
		Short: "Read recipes and report every mistake in them",
		Long: `Reads the recipes of these packages, or all recipes on the shelves, and reports every
mistake with its file, line and column, then what is allowed but probably not meant.
Patches are tried on archives that are here. With --online, it also asks the sites of
archives whether they still have them, serve them by https, and offer signatures that the
recipe does not name. Only mistakes change the exit status. Nothing is fetched or built.`,
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
	c.Flags().BoolVar(&fix, "fix", false,
		"if a recipe uses from the operating system what another recipe has, write the need")
	c.Flags().BoolVar(&schema, "schema", false, "print a JSON Schema of recipes, and check nothing")
	return c
}

func (a *app) check(ctx context.Context, names []string, online, fix bool) error {
	s, err := a.open()
	if err != nil {
		return err
	}
	r, err := s.Check(ctx, session.CheckRequest{Names: names, Online: online, Fix: fix,
		Fixed: func(r *recipe.Recipe, p tomlfile.Problem) {
			a.screen.Note("%s: %s; it has a need instead now", r.File, p.Message)
		}})
	if r == nil {
		return err
	}
	if shown := a.answer(r, func() { a.showProblems(r) }); shown != nil {
		return shown
	}
	return judged(err)
}

func (a *app) showProblems(r *session.CheckReport) {
	problems, warnings := r.Problems, r.Warnings
	if len(problems) > 0 {
		a.screen.Print("%v\n", problems)
	}
	if len(warnings) > 0 {
		a.screen.Print("%s\n%v\n", a.screen.Strong("Allowed, but probably not meant:"), warnings)
	}
	for _, name := range slices.Sorted(maps.Keys(r.Hidden)) {
		if x, err := a.session.Shelves.Find(name); err == nil {
			a.screen.Print("%s hides %s", x.File, strings.Join(r.Hidden[name], ", "))
		}
	}
	sum := ", no mistakes"
	if len(problems) > 0 {
		sum = ", " + a.screen.Bad(term.Count(len(problems), "mistake"))
	}
	if len(warnings) > 0 {
		sum += ", " + term.Count(len(warnings), "warning")
	}
	a.screen.Print("%s%s", term.Count(r.Recipes, "recipe"), sum)
	const few = 8
	if n := len(r.Nameless); n > 0 {
		names := r.Nameless[:min(few, n)]
		if n > few {
			names = append(slices.Clone(names), fmt.Sprintf("%d more", n-few))
		}
		a.screen.Note("No name elsewhere is known, so no security advisory is found for: %s. Add [known_as] to the recipes.",
			strings.Join(names, ", "))
	}
}

func orDefault(text, other string) string {
	if text == "" {
		return other
	}
	return text
}
