package cli

import (
	"context"

	"github.com/spf13/cobra"

	"fernladder/internal/term"
)

func (a *app) lockCommand() *cobra.Command {
	var f ladderFlags
	c := &cobra.Command{
		Use:   "lock [NAME...]",
		Short: "Write down exactly what the ladder is, for this and other machines",
		Long: `Works out the ladder for these packages, or for what is wanted in the settings,
and writes it to ladder.lock, beside the settings: versions, digests, commits,
options and build ids. What is locked already stays, where it fits; fernladder
upgrade moves it. Where there is a lock file, what is installed is written to it
too, and with --locked nothing else is built than what it says.`,
		Example: `  fernladder lock
  fernladder lock glasshouse
  fernladder install --locked glasshouse`,
		ValidArgsFunction: a.completeRecipes,
		RunE: func(c *cobra.Command, args []string) error {
			l, err := a.plan(c.Context(), args, &f)
			if err != nil {
				return err
			}
			return a.lock(c.Context(), l)
		},
	}
	a.addLadderFlags(c, &f, false)
	return c
}

func (a *app) lock(ctx context.Context, l *ladder) error {
	if err := l.writeLock(ctx); err != nil {
		return err
	}
	if a.screen.JSON {
		return a.screen.PrintJSON(map[string]any{"file": l.lock.Path, "packages": refs(l.jobs)})
	}
	a.screen.Print("%s locks %s.", l.lock.Shown, term.Count(len(l.lock.Builds), "build"))
	return nil
}

// keepLock writes what was built to the lock file, where there is one and it is
// not what was built from.
func (a *app) keepLock(ctx context.Context, l *ladder, f *ladderFlags) error {
	if !l.lock.There || f.locked {
		return nil
	}
	return l.writeLock(ctx)
}
