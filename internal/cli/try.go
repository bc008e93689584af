package cli

import (
	"context"
	"strings"
	"time"

	"fernladder/core/problem"

	"github.com/spf13/cobra"

	"fernladder/core/build"
	"fernladder/core/landing"
	"fernladder/internal/term"
)

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
	failed, tries := 0, 0
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
		tries += len(results)
		for _, result := range results {
			if result.Problem != "" {
				failed++
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
	if failed > 0 {
		return triesFailed(failed, tries)
	}
	return nil
}

func triesFailed(failed, all int) error {
	return problem.New(problem.Build, "", "%d of %d tries failed", failed, all)
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
