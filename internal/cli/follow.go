package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"syscall"

	"github.com/spf13/cobra"

	"fernladder/core/cluster"
	"fernladder/internal/term"
)

func (a *app) followCommand() *cobra.Command {
	end := false
	c := &cobra.Command{
		Use:   "follow [RUN]",
		Short: "Return to a ladder that is being built on a cluster",
		Long: `Shows the progress of the jobs that a command with --cluster submitted, and then does what
that command does: install and upgrade change the landing. Without a name it follows the
only run; if there are several, it lists them.`,
		Example: `  fernladder install glasshouse --cluster --detach
  fernladder follow                           to the end, and then onto the landing
  fernladder follow --end                     end its jobs instead`,
		ValidArgsFunction: a.completeRuns,
		Args:              atMostOne,
		RunE: func(c *cobra.Command, args []string) error {
			return a.followRun(c.Context(), strings.Join(args, ""), end)
		},
	}
	c.Flags().BoolVar(&end, "end", false, "end the jobs of the run; what is built stays")
	return c
}

func (a *app) followRun(ctx context.Context, name string, end bool) error {
	s, err := a.open()
	if err != nil {
		return err
	}
	runs, followed, err := s.Runs()
	if err != nil {
		return err
	}
	if name == "" {
		switch len(runs) {
		case 0:
			if a.screen.JSON {
				return a.screen.PrintJSON(map[string]any{"runs": []*cluster.Run{}})
			}
			a.screen.Print("No run is in progress.")
			return nil
		case 1:
			name = runs[0].Name
		default:
			return a.showRuns(runs, followed)
		}
	}
	if end {
		if err := s.EndRun(ctx, name); err != nil {
			return err
		}
		a.screen.Note("The run %s is ended. Its builds stay.", name)
		return nil
	}
	for _, r := range runs {
		if r.Name == name {
			return a.comeBack(ctx, r)
		}
	}
	return cluster.NoRun(name)
}

// comeBack completes the command that has begun a run, with its builds.
func (a *app) comeBack(ctx context.Context, r *cluster.Run) error {
	a.nodes.Follow, a.nodes.Command = r.Name, r.Command
	a.screen.Note("Following %s, which was submitted %s ago: %s", r.Name, ago(a.now().Sub(r.Began)), r.Title())
	if r.Command == "build" {
		return a.buildLadder(ctx, r.Ask)
	}
	return a.install(ctx, r.Ask)
}

func (a *app) showRuns(runs []*cluster.Run, followed map[*cluster.Run]bool) error {
	if a.screen.JSON {
		return a.screen.PrintJSON(map[string]any{"runs": runs})
	}
	var rows [][]string
	for _, r := range runs {
		by := "not followed"
		if followed[r] {
			by = "followed"
		}
		rows = append(rows, []string{a.screen.Strong(r.Name), r.Title(), ago(a.now().Sub(r.Began)) + " ago",
			term.Count(len(r.Builds()), "package"), by})
	}
	a.screen.Table([]string{"run", "command", "submitted", "of", ""}, rows)
	a.screen.Note("To follow one: fernladder follow %s", runs[0].Name)
	return nil
}

func (a *app) completeRuns(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
	var names []string
	if s, err := a.open(); err == nil {
		runs, _, _ := s.Runs()
		for _, r := range runs {
			names = append(names, r.Name+"\t"+r.Title())
		}
	}
	return names, cobra.ShellCompDirectiveNoFileComp
}

// showLeft reports that jobs continue, and how to return to them.
func (a *app) showLeft(left *cluster.Left) {
	switch {
	case a.screen.JSON:
		a.screen.PrintJSON(map[string]any{"run": left.Run, "jobs": left.Jobs})
	case left.Detached:
		a.screen.Print("The run %s has started, with %s.\nTo follow it: fernladder follow", left.Run,
			term.Count(left.Jobs, "job"))
	default:
		a.screen.Note("The run %s continues, with %s. To return to it: fernladder follow %s", left.Run,
			term.Count(left.Jobs, "job"), left.Run)
	}
}

// leaves decides what happens to the jobs when the program is ended: they continue if its
// terminal is gone, or if the user wants that.
func (a *app) leaves(cause error) bool {
	if by := (ended{}); errors.As(cause, &by) && by.Signal == syscall.SIGHUP {
		return true
	}
	if !a.screen.Interactive(os.Stdin) {
		return false
	}
	a.screen.Settle()
	fmt.Fprintln(a.screen.Err) // after the echo of the key
	return !a.agrees("The jobs can continue without this program. End them?")
}
