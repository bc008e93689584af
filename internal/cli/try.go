package cli

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"fernladder/core/build"
	"fernladder/core/landing"
	"fernladder/internal/term"
)

// tryError is the error when tries failed.
type tryError struct{ failed, all int }

func (e *tryError) Error() string { return fmt.Sprintf("%d of %d tries failed", e.failed, e.all) }

func (a *app) tryCommand() *cobra.Command {
	return &cobra.Command{
		Use:               "try NAME...",
		Short:             "Run the tries of installed packages again",
		Long:              "Runs the commands by which the recipes of installed packages show that they work,\nas the recipes were when the packages were built.",
		Example:           "  fernladder try mistplan",
		Args:              atLeastOne,
		ValidArgsFunction: a.completeInstalled,
		RunE:              func(c *cobra.Command, args []string) error { return a.try(c.Context(), args) },
	}
}

func (a *app) try(ctx context.Context, names []string) error {
	m, err := a.open()
	if err != nil {
		return err
	}
	type tried struct {
		Package string            `json:"package"`
		Version string            `json:"version"`
		Tries   []build.TryResult `json:"tries"`
	}
	if err := m.Store.Prepare(); err != nil {
		return err
	}
	var all []tried
	sum := &tryError{}
	for _, name := range names {
		r, err := landing.FindBuild(m.Store, name)
		if err != nil {
			return err
		}
		results, err := build.Tries(ctx, m, r)
		if err != nil {
			return m.Store.Wrap(err)
		}
		all = append(all, tried{r.Name, r.Version, append([]build.TryResult{}, results...)})
		sum.all += len(results)
		for _, result := range results {
			if result.Problem != "" {
				sum.failed++
			}
			if !a.screen.JSON {
				a.showTry(r.Name, result)
			}
		}
		if len(results) == 0 && !a.screen.JSON {
			a.screen.Print("%s %s: its recipe has no tries", r.Name, r.Version)
		}
	}
	if a.screen.JSON {
		if err := a.screen.PrintJSON(all); err != nil {
			return err
		}
	}
	if sum.failed > 0 {
		return sum
	}
	return nil
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

func seconds(s float64) string { return term.Duration(time.Duration(s * float64(time.Second))) }
