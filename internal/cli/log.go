package cli

import (
	"context"
	"errors"
	"io"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"fernladder/core/build"
	"fernladder/core/session"
	"fernladder/core/store"
)

func (a *app) logCommand() *cobra.Command {
	var r session.LogsRequest
	follow := false
	c := &cobra.Command{
		Use:   "log NAME",
		Short: "Show the log of a package's last build",
		Long: `Shows the output of the stages of a package's last build, whether it succeeded, failed or
is still running.`,
		Example: `  fernladder log mistplan
  fernladder log mistplan --stage compile
  fernladder log mistplan --errors            only where something went wrong
  fernladder log mistplan --follow            as it is written, until the build ends`,
		Args:              a.exactlyOne,
		ValidArgsFunction: a.completeInstalled,
		RunE: func(c *cobra.Command, args []string) error {
			if err := onlyOne(c, "errors", "follow"); err != nil {
				return err
			}
			if r.Name = args[0]; follow {
				return a.follow(c.Context(), r)
			}
			return a.log(r)
		},
	}
	c.Flags().BoolVar(&r.Errors, "errors", false, "only the lines around the first error of each stage")
	c.Flags().BoolVarP(&follow, "follow", "f", false, "continue until the build ends")
	c.Flags().StringVar(&r.Stage, "stage", "", "only this `STAGE`: "+strings.Join(build.LoggedStages, ", "))
	return c
}

// log shows the logs of a build, and follow as they are written.
func (a *app) log(r session.LogsRequest) error {
	s, err := a.open()
	if err != nil {
		return err
	}
	report, err := s.Logs(r)
	if err != nil {
		return err
	}
	if a.screen.JSON {
		return a.screen.PrintJSON(report)
	}
	for _, log := range report.Logs {
		a.logHeading(report.Build, log.Stage)
		if r.Errors {
			a.screen.Print("%s\nCause: %s.", strings.Join(log.Errors, "\n"), log.Cause)
			continue
		}
		f, err := os.Open(log.File)
		if err != nil {
			return s.Store.Wrap(err)
		}
		if err = errors.Join(a.screen.Log(f), f.Close()); err != nil {
			return err
		}
	}
	if len(report.Logs) > 0 {
		return nil
	}
	last := report.Build
	built, err := a.session.Store.Receipt(last)
	switch {
	case err == nil && built.From != nil:
		a.screen.Note("%s %s came from the depot %s; its logs are where it was built.", last.Name, last.Version,
			built.From.Depot)
	case r.Errors:
		a.screen.Note("Nothing in the logs of %s %s looks like an error.", last.Name, last.Version)
	case r.Stage != "":
		a.screen.Note("The last build of %s %s left no log of stage %s.", last.Name, last.Version, r.Stage)
	default:
		a.screen.Note("The last build of %s %s left no log.", last.Name, last.Version)
	}
	return nil
}

func (a *app) logHeading(r store.Ref, stage string) {
	a.screen.Print("%s", a.screen.Strong("── "+r.Name+" "+r.Version+", "+stage+" ──"))
}

func (a *app) follow(ctx context.Context, r session.LogsRequest) error {
	s, err := a.open()
	if err != nil {
		return err
	}
	shown := "" // the stage that was shown last
	return s.FollowLogs(ctx, r, func(of store.Ref, stage string, text io.Reader) error {
		if stage != shown {
			shown = stage
			a.logHeading(of, stage)
		}
		return a.screen.Log(text)
	})
}
