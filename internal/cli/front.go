package cli

import (
	"context"

	"github.com/spf13/cobra"

	"fernladder/core/session"
)

func (a *app) frontCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "front NAME:VERSION",
		Short: "Choose which of several builds of a package has the plain names",
		Long: `Gives an existing build the plain names of its package on the landing. Other builds of the
package on the landing stay beside it, under the names that their recipe has for that
([[beside]]); those without such names leave the landing.`,
		Example: `  fernladder install glasshouse:1.9 --beside  a second build, beside the first
  fernladder front glasshouse:1.9             now it has the plain names
  fernladder front glasshouse@3f9c`,
		Args:              exactly(1, "the name of one build"),
		ValidArgsFunction: a.completeInstalled,
		RunE:              func(c *cobra.Command, args []string) error { return a.front(c.Context(), args[0]) },
	}
}

func (a *app) front(ctx context.Context, text string) error {
	return a.changeLanding(func(s *session.Session) (*session.LandingReport, error) { return s.Front(ctx, text) })
}
