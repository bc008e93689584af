package cli

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"fernladder/core/event"
	"fernladder/core/keyfile"
	"fernladder/core/recipe"
	"fernladder/internal/term"
)

func (a *app) checkCommand() *cobra.Command {
	schema, online := false, false
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
				return a.screen.PrintJSON(keyfile.Schema("A recipe of Fern Ladder", recipe.Keys(&recipe.Recipe{})))
			}
			return a.check(c.Context(), args, online)
		},
	}
	c.Flags().BoolVar(&online, "online", false, "ask the sites that archives come from")
	c.Flags().BoolVar(&schema, "schema", false, "print a JSON Schema of recipes, and check nothing")
	return c
}

func (a *app) check(ctx context.Context, names []string, online bool) error {
	s, err := a.open()
	if err != nil {
		return err
	}
	if len(s.settings.Shelves) == 0 {
		return usage("no shelf is set: name one in %s, or make a folder to work in with: fernladder new DIR", orDefault(s.settings.File, "fernladder.toml"))
	}
	all := len(names) == 0
	if all {
		if names, err = s.shelves.Names(); err != nil {
			return err
		}
	}
	s.shelves.ReadAll(names)
	problems, doubts := keyfile.Problems{}, keyfile.Problems{}
	for _, name := range names {
		r, err := s.shelves.Find(name)
		var found keyfile.Problems
		if errors.As(err, &found) {
			problems = append(problems, found...)
			continue
		}
		if err != nil {
			return err
		}
		more, err := a.doubts(ctx, s, r, online)
		if err != nil {
			return err
		}
		doubts = append(doubts, more...)
	}
	var shadowed map[string][]string
	if all {
		if shadowed, err = s.shelves.Shadowed(); err != nil {
			return err
		}
	}
	if a.screen.JSON {
		err = a.screen.PrintJSON(struct {
			Recipes  int                 `json:"recipes"`
			Problems keyfile.Problems    `json:"problems"`
			Doubts   keyfile.Problems    `json:"doubts"`
			Hidden   map[string][]string `json:"hidden"`
		}{len(names), problems, doubts, shadowed})
	} else {
		a.showProblems(s, len(names), problems, doubts, shadowed)
	}
	if err == nil && len(problems) > 0 {
		err = &alreadyShown{problems}
	}
	return err
}

// doubts are what is allowed in a recipe and probably not meant.
func (a *app) doubts(ctx context.Context, s *session, r *recipe.Recipe, online bool) (keyfile.Problems, error) {
	doubts := append(r.Doubts(), unknownNeeds(s.shelves, r)...)
	if s.workshop.HasPatched(r) {
		if err := s.store.Prepare(); err != nil {
			return nil, err
		}
		if err := a.isolate(ctx, s); err != nil {
			return nil, err
		}
		more, err := s.workshop.CheckPatches(ctx, r)
		if err != nil {
			return nil, err
		}
		doubts = append(doubts, more...)
	}
	if online {
		more, err := a.upstreamDoubts(ctx, s, r)
		if err != nil {
			return nil, err
		}
		doubts = append(doubts, more...)
	}
	doubts.Sort()
	return doubts, nil
}

// upstreamDoubts asks the sites of a recipe's newest release.
func (a *app) upstreamDoubts(ctx context.Context, s *session, r *recipe.Recipe) (keyfile.Problems, error) {
	archives, err := a.archives(s, event.Nowhere)
	if err != nil {
		return nil, err
	}
	var doubts keyfile.Problems
	for _, x := range r.Releases {
		for _, url := range r.Sources(x) {
			offer, err := archives.Ask(ctx, url, len(r.Signatures(x)) > 0)
			if err != nil {
				return nil, err
			}
			doubt := func(advice, format string, args ...any) {
				at := x.Position
				at.File = r.File
				doubts = append(doubts, keyfile.Problem{Position: at, Source: "[[release]]", Message: fmt.Sprintf(format, args...), Advice: advice})
			}
			if offer.Gone != "" {
				doubt("", "%s: %s", offer.URL, offer.Gone)
			}
			if offer.HTTPS != "" {
				doubt("write https", "%s is served by https too", offer.URL)
			}
			if offer.Sig != "" {
				doubt("name it as signature, and its key in [source]", "release %s names no signature, but there is one: %s", x.Version, offer.Sig)
			}
		}
	}
	return doubts, nil
}

func (a *app) showProblems(s *session, recipes int, problems, doubts keyfile.Problems, shadowed map[string][]string) {
	if len(problems) > 0 {
		a.screen.Print("%v\n", problems)
	}
	if len(doubts) > 0 {
		a.screen.Print("%s\n%v\n", a.screen.Strong("Doubtful, but allowed:"), doubts)
	}
	for _, name := range slices.Sorted(maps.Keys(shadowed)) {
		if r, err := s.shelves.Find(name); err == nil {
			a.screen.Print("%s hides %s", r.File, strings.Join(shadowed[name], ", "))
		}
	}
	sum := ", no mistakes"
	if len(problems) > 0 {
		sum = ", " + a.screen.Bad(term.Count(len(problems), "mistake"))
	}
	if len(doubts) > 0 {
		sum += ", " + term.Count(len(doubts), "doubt")
	}
	a.screen.Print("%s%s", term.Count(recipes, "recipe"), sum)
}

// unknownNeeds finds needs on recipes that no shelf has.
func unknownNeeds(shelves *recipe.Shelves, r *recipe.Recipe) keyfile.Problems {
	var problems keyfile.Problems
	for _, need := range r.Needs {
		for _, n := range need.Names() {
			_, err := shelves.Find(n)
			var missing *recipe.NotFound
			if errors.As(err, &missing) {
				problems = append(problems, keyfile.Problem{Position: need.Position, Message: missing.Error(), Source: "[[need]]"})
			}
		}
	}
	return problems
}

func orDefault(text, other string) string {
	if text == "" {
		return other
	}
	return text
}
