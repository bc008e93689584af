package cli

import (
	"context"

	"github.com/spf13/cobra"

	"fernladder/core/plan"
	"fernladder/internal/term"
)

func (a *app) lockCommand() *cobra.Command {
	var ask plan.Ask
	c := &cobra.Command{
		Use:   "lock [NAME...]",
		Short: "Record the exact ladder, for this and other machines",
		Long: `Works out the ladder for these packages, or for what the settings want, and writes it to
ladder.lock beside the settings: versions, digests, commits, options and build ids.
Existing entries stay if they fit; fernladder upgrade moves them. If there is a lock file,
installs update it, and with --locked nothing else is built than what it says.`,
		Example: `  fernladder lock
  fernladder lock glasshouse
  fernladder install --locked`,
		ValidArgsFunction: a.completeRecipes,
		RunE:              func(c *cobra.Command, args []string) error { return a.lock(c.Context(), with(&ask, args)) },
	}
	a.addLadderFlags(c, &ask, false)
	return c
}

func (a *app) lock(ctx context.Context, ask plan.Ask) error {
	s, err := a.open()
	if err != nil {
		return err
	}
	r, err := s.Lock(ctx, a.ladder(ask))
	if err != nil {
		return err
	}
	return a.answer(r, func() { a.screen.Print("%s locks %s.", r.Shown, term.Count(r.Builds, "build")) })
}
