package cli

import (
	"context"
	"strings"

	"github.com/spf13/cobra"

	"fernladder/core/build"
	"fernladder/core/quantity"
	"fernladder/core/session"
)

func (a *app) tryCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "try NAME...",
		Short: "Run the tries of installed packages again",
		Long: `Runs the tries of installed packages: commands that check whether they work, as the
recipes were when the packages were built.`,
		Example:           "  fernladder try mistplan",
		Args:              a.atLeastOne,
		ValidArgsFunction: a.completeInstalled,
		RunE:              func(c *cobra.Command, args []string) error { return a.try(c.Context(), args) },
	}
}

func (a *app) try(ctx context.Context, names []string) error {
	s, err := a.open()
	if err != nil {
		return err
	}
	show := func(x session.Tried) {
		for _, result := range x.Tries {
			a.showTry(x.Package, result)
		}
		if len(x.Tries) == 0 {
			a.screen.Print("%s %s: its recipe has no tries", x.Package, x.Version)
		}
	}
	if a.screen.JSON {
		show = nil
	}
	all, err := s.Try(ctx, names, show)
	if all != nil && a.screen.JSON {
		if shown := a.screen.PrintJSON(all); shown != nil {
			return shown
		}
	}
	return err
}

func (a *app) showTry(name string, r build.TryResult) {
	a.screen.Print("%s$ %s", name, r.Try)
	for line := range strings.Lines(r.Output) {
		a.screen.Print("    %s", strings.TrimRight(line, "\n"))
	}
	if r.Problem != "" {
		a.screen.Print("  %s: %s", a.screen.Bad("failed"), r.Problem)
	} else {
		a.screen.Print("  %s", a.screen.Good("good"))
	}
}

func seconds(s float64) string { return quantity.Seconds(s) }
