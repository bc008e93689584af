package cli

import (
	"errors"

	"github.com/spf13/cobra"

	"fernladder/core/keyfile"
	"fernladder/core/recipe"
	"fernladder/internal/term"
)

func (a *app) checkCommand() *cobra.Command {
	schema := false
	c := &cobra.Command{
		Use:   "check [NAME...]",
		Short: "Read recipes and report every mistake in them",
		Long: `Reads the recipes of these packages, or all recipes on the shelves, and reports
every mistake with its file, line and column; then what is allowed and probably
not meant. Only mistakes change the exit status. Nothing is fetched or built.`,
		Example: `  fernladder check
  fernladder check mistplan --json
  fernladder check --schema >recipe.schema.json     for editors`,
		ValidArgsFunction: a.completeRecipes,
		RunE: func(_ *cobra.Command, args []string) error {
			if schema {
				return a.screen.PrintJSON(keyfile.Schema("A recipe of Fern Ladder", recipe.Keys(&recipe.Recipe{})))
			}
			return a.check(args)
		},
	}
	c.Flags().BoolVar(&schema, "schema", false, "print a JSON Schema of recipes, and check nothing")
	return c
}

func (a *app) check(names []string) error {
	s, err := a.open()
	if err != nil {
		return err
	}
	if len(names) == 0 {
		if names, err = s.shelves.Names(); err != nil {
			return err
		}
	}
	if len(s.settings.Shelves) == 0 {
		return usage("no shelf is set: name one in %s, or make a folder to work in with: fernladder new DIR", orDefault(s.settings.File, "fernladder.toml"))
	}
	problems, doubts := keyfile.Problems{}, keyfile.Problems{}
	for _, name := range names {
		r, err := s.shelves.Find(name)
		var found keyfile.Problems
		if errors.As(err, &found) {
			problems = append(problems, found...)
		} else if err != nil {
			return err
		} else {
			doubts = append(doubts, r.Doubts()...)
		}
	}
	problems = append(problems, unknownNeeds(s.shelves, names)...)
	if a.screen.JSON {
		err = a.screen.PrintJSON(struct {
			Recipes  int              `json:"recipes"`
			Problems keyfile.Problems `json:"problems"`
			Doubts   keyfile.Problems `json:"doubts"`
		}{len(names), problems, doubts})
	} else {
		a.showProblems(len(names), problems, doubts)
	}
	if err == nil && len(problems) > 0 {
		err = &alreadyShown{problems}
	}
	return err
}

func (a *app) showProblems(recipes int, problems, doubts keyfile.Problems) {
	if len(problems) > 0 {
		a.screen.Print("%v\n", problems)
	}
	if len(doubts) > 0 {
		a.screen.Print("%s\n%v\n", a.screen.Strong("Doubtful, but allowed:"), doubts)
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
func unknownNeeds(shelves *recipe.Shelves, names []string) keyfile.Problems {
	var problems keyfile.Problems
	for _, name := range names {
		r, err := shelves.Find(name)
		if err != nil {
			continue
		}
		for _, need := range r.Needs {
			for _, n := range need.Names() {
				_, err := shelves.Find(n)
				var missing *recipe.NotFound
				if errors.As(err, &missing) {
					problems = append(problems, keyfile.Problem{Position: need.Position, Message: missing.Error(), Source: "[[need]]"})
				}
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
