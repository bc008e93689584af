package cli

import (
	"context"

	"fernladder/core/install"
	"fernladder/core/machine"
	"fernladder/core/recipe"
	"fernladder/internal/term"
)

// probe builds a drafted recipe, and tells what came of that.
func (a *app) probe(ctx context.Context, m *machine.Machine, name string) error {
	done, err := install.Probe(ctx, m, name, install.Probing{
		Answered: func(r *recipe.Recipe, lines string) { a.screen.Note("Added to %s:\n%s", r.File, indent(lines)) },
		Inside:   func() { a.screen.Note("Trying it in the source's own directory.") },
	})
	switch {
	case done.Failure != nil:
		next := "Change it"
		if done.Lacks {
			next = "Have it installed (fernladder host " + name + " --install), or change it"
		}
		a.screen.Note("%s says so now. %s, then: fernladder build %s", done.Recipe.File, next, name)
		return a.failed(m, err)
	case err != nil:
		return a.failed(m, err)
	}
	r := done.Receipt
	if a.screen.JSON {
		return a.screen.PrintJSON(map[string]any{"probed": r.Ref, "files": r.Files, "seconds": r.Seconds})
	}
	a.screen.Print("It builds: %s in %s. The recipe says so, and what it offers.", term.Count(r.Files, "file"), seconds(r.Seconds))
	return nil
}
