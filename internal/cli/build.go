package cli

import (
	"context"
	"errors"

	"github.com/spf13/cobra"

	"fernladder/core/store"
	"fernladder/internal/term"
)

func (a *app) fetchCommand() *cobra.Command {
	var f ladderFlags
	c := &cobra.Command{
		Use:   "fetch [NAME...]",
		Short: "Download and verify everything the ladder needs",
		Long: `Downloads the archive of every package that is still to be built, each from the
first of its URLs that serves the right file. After that, the rest works offline.`,
		Example:           `  fernladder fetch glasshouse`,
		ValidArgsFunction: a.completeRecipes,
		RunE:              func(c *cobra.Command, args []string) error { return a.fetch(c.Context(), args, &f) },
	}
	a.addLadderFlags(c, &f, false)
	return c
}

func (a *app) fetch(ctx context.Context, names []string, f *ladderFlags) error {
	l, err := a.plan(ctx, names, f)
	if err != nil {
		return err
	}
	missing := 0
	for _, j := range l.todo() {
		if !l.workshop.Fetched(ctx, j) {
			missing++
		}
	}
	if err := l.workshop.CheckSupplies(l.todo()); err != nil {
		return err
	}
	if err := l.workshop.CheckOffline(ctx, l.todo()); err != nil {
		return err
	}
	if len(l.todo()) > 0 { // what is there is verified again
		if err := l.store.Prepare(); err != nil {
			return err
		}
		b, end, err := a.builder(l, len(l.todo()))
		if err != nil {
			return err
		}
		results := b.Fetch(ctx, l.todo())
		end()
		if err := a.failed(ctx, results); err != nil {
			return err
		}
	}
	if a.screen.JSON {
		return a.screen.PrintJSON(map[string]int{"fetched": missing, "there": len(l.todo()) - missing})
	}
	switch {
	case len(l.todo()) == 0:
		a.screen.Print("Nothing to fetch: everything is installed.")
	case missing == 0:
		a.screen.Print("Nothing to fetch: all sources are here, verified.")
	default:
		a.screen.Print("The sources of %s are here, verified.", term.Count(missing, "package"))
	}
	return nil
}

func (a *app) buildCommand() *cobra.Command {
	var f ladderFlags
	prove, shell, watch := false, false, false
	c := &cobra.Command{
		Use:   "build [NAME...]",
		Short: "Build the ladder without changing what is in use",
		Long: `Builds these packages and everything they need, each into its tree. The landing
stays as it is. What is built already is not built again; a build that failed or
was broken off goes on where it stopped.`,
		Example: `  fernladder build mistplan
  fernladder build mistplan -o plots=off      a second build beside the first
  fernladder build --prove mistplan           twice, and compare what comes out
  fernladder build --watch mistplan           and record every file of the system that it uses
  fernladder build --shell mistplan           look around where a build has failed`,
		ValidArgsFunction: a.completeRecipes,
		RunE: func(c *cobra.Command, args []string) error {
			if err := onlyOne(c, "prove", "shell", "watch"); err != nil {
				return err
			}
			switch {
			case shell:
				return a.buildShell(c.Context(), args, &f)
			case prove:
				return a.prove(c.Context(), args, &f)
			case watch:
				return a.watch(c.Context(), args, &f)
			}
			return a.build(c.Context(), args, &f)
		},
	}
	a.addLadderFlags(c, &f, true)
	c.Flags().BoolVar(&prove, "prove", false, "build what is named a second time, in another directory, and say what differs")
	c.Flags().BoolVar(&watch, "watch", false, "record every file that the builds of what is named read, and say what of this machine they use; what is built already is built again for it")
	c.Flags().BoolVar(&shell, "shell", false, "open a shell in the place of a build that has failed, with its environment")
	return c
}

func (a *app) build(ctx context.Context, names []string, f *ladderFlags) error {
	l, err := a.buildLadder(ctx, names, f)
	if err != nil {
		return err
	}
	if a.screen.JSON {
		return a.screen.PrintJSON(map[string]any{"built": refs(l.todo()), "packages": refs(l.jobs)})
	}
	if len(l.todo()) == 0 {
		a.screen.Print("Nothing to build.")
	}
	for _, j := range l.jobs {
		if j.Package.Asked {
			a.screen.Print("%s %s is in %s", a.screen.Strong(j.Name), j.Version, j.Tree)
		}
	}
	return nil
}

// buildLadder plans a ladder and builds it.
func (a *app) buildLadder(ctx context.Context, names []string, f *ladderFlags) (l *ladder, err error) {
	err = a.unlessRemoved(func() error {
		if l, err = a.plan(ctx, names, f); err != nil {
			return err
		}
		return a.construct(ctx, l)
	})
	if err != nil {
		return nil, err
	}
	return l, a.keepLock(ctx, l, f)
}

// unlessRemoved does something again if another program has removed meanwhile what
// it had built or found built.
func (a *app) unlessRemoved(do func() error) error {
	const tries = 8
	for try := 1; ; try++ {
		err := do()
		if try == tries || !errors.Is(err, store.ErrGone) {
			return err
		}
		a.screen.Note("Another fernladder has removed what this needs. It is built again.")
	}
}
