package cli

import (
	"context"

	"github.com/spf13/cobra"
)

// atNodeCommand is what the jobs of --cluster run on their nodes. It is not for people to type.
func (a *app) atNodeCommand() *cobra.Command {
	c := &cobra.Command{
		Use:    "at-node ORDER",
		Short:  "Build what an order says, on a node of a cluster",
		Hidden: true,
		Args:   exactly(1, "the file of an order"),
		RunE:   func(c *cobra.Command, args []string) error { return a.atNode(c.Context(), args[0]) },
	}
	c.Flags().IntVarP(&a.jobs, "jobs", "j", 0, "run at most `N` jobs at once")
	c.Flags().StringVar(&a.isolation, "isolation", "", "build at this `LEVEL` of isolation: open, fenced or sealed")
	return c
}

func (a *app) atNode(ctx context.Context, order string) error {
	s, err := a.open()
	if err != nil {
		return err
	}
	return s.ExecuteOrder(ctx, order)
}
