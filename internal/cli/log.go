package cli

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"fernladder/core/build"
	"fernladder/core/landing"
	"fernladder/core/store"
)

func (a *app) logCommand() *cobra.Command {
	var f logFlags
	c := &cobra.Command{
		Use:   "log NAME",
		Short: "Show the log of a package's last build",
		Long: `Shows the output of the stages of a package's last build, whether it succeeded, failed or
is still running.`,
		Example: `  fernladder log mistplan
  fernladder log mistplan --stage compile
  fernladder log mistplan --errors            only where something went wrong
  fernladder log mistplan --follow            as it is written, until the build ends`,
		Args:              exactlyOne,
		ValidArgsFunction: a.completeInstalled,
		RunE: func(c *cobra.Command, args []string) error {
			if err := onlyOne(c, "errors", "follow"); err != nil {
				return err
			}
			return a.log(c.Context(), args[0], f)
		},
	}
	c.Flags().BoolVar(&f.errors, "errors", false, "only the lines around the first error of each stage")
	c.Flags().BoolVarP(&f.follow, "follow", "f", false, "continue until the build ends")
	c.Flags().StringVar(&f.stage, "stage", "", "only this `STAGE`: "+strings.Join(build.LoggedStages, ", "))
	return c
}

type logFlags struct {
	stage          string
	errors, follow bool
}

func (a *app) log(ctx context.Context, name string, flags logFlags) error {
	only := flags.stage
	if only != "" && !slices.Contains(build.LoggedStages, only) {
		return usage("there is no log of a stage %q; there are: %s", only, strings.Join(build.LoggedStages, ", "))
	}
	m, err := a.open()
	if err != nil {
		return err
	}
	last, err := lastBuild(m.Store, name)
	if err != nil {
		return err
	}
	if flags.follow {
		return a.follow(ctx, m.Store, last, only)
	}
	var shown []map[string]any
	for _, stage := range build.LoggedStages {
		file := filepath.Join(m.Store.Logs(last), stage+".log")
		f, err := os.Open(file)
		if errors.Is(err, fs.ErrNotExist) || only != "" && stage != only {
			continue
		}
		if err != nil {
			return m.Store.Wrap(err)
		}
		var lines []string
		entry := map[string]any{"stage": stage, "file": file}
		if flags.errors {
			table, _ := m.Causes()
			cause := build.DiagnoseBuild(table, m.Store, last, file)
			if !cause.Known() {
				f.Close()
				continue
			}
			entry["cause"], entry["errors"] = cause, cause.Lines
			lines = append(cause.Lines, "Cause: "+cause.String()+".")
		}
		shown = append(shown, entry)
		switch {
		case a.screen.JSON:
		case flags.errors:
			a.screen.Print("%s\n%s", a.screen.Strong("── "+last.Name+" "+last.Version+", "+stage+" ──"),
				strings.Join(lines, "\n"))
		default:
			a.screen.Print("%s", a.screen.Strong("── "+last.Name+" "+last.Version+", "+stage+" ──"))
			err = a.screen.Log(f)
		}
		if err = errors.Join(err, f.Close()); err != nil {
			return err
		}
	}
	if a.screen.JSON {
		return a.screen.PrintJSON(map[string]any{"build": last, "logs": shown})
	}
	if len(shown) == 0 && flags.errors {
		a.screen.Note("Nothing in the logs of %s %s looks like an error.", last.Name, last.Version)
	} else if len(shown) == 0 {
		of := ""
		if only != "" {
			of = " of stage " + only
		}
		a.screen.Note("The last build of %s %s left no log%s.", last.Name, last.Version, of)
	}
	return nil
}

// follow shows the logs of a build as they are written, until no process builds it
// any more.
func (a *app) follow(ctx context.Context, s *store.Store, r store.Ref, only string) error {
	const often = 200 * time.Millisecond
	at := map[string]int64{} // how far each log has been shown
	shown := ""              // the stage that was shown last
	for ended := false; ; {
		for _, stage := range build.LoggedStages {
			if only != "" && stage != only {
				continue
			}
			f, err := os.Open(filepath.Join(s.Logs(r), stage+".log"))
			if err != nil {
				continue // it has not begun
			}
			info, err := f.Stat()
			if err != nil {
				f.Close()
				return s.Wrap(err)
			}
			if info.Size() < at[stage] {
				at[stage] = 0 // it has begun anew
			}
			if info.Size() > at[stage] && shown != stage {
				shown = stage
				a.screen.Print("%s", a.screen.Strong("── "+r.Name+" "+r.Version+", "+stage+" ──"))
			}
			err = a.screen.Log(io.NewSectionReader(f, at[stage], info.Size()-at[stage]))
			at[stage] = info.Size()
			f.Close()
			if err != nil {
				return s.Wrap(err)
			}
		}
		if ended {
			return nil
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(often):
		}
		// Whoever builds it holds its lock; when that is free, there is one more look.
		soon, cancel := context.WithTimeout(ctx, often/10)
		unlock, err := s.ShareBuild(soon, r)
		cancel()
		if err == nil {
			unlock()
			ended = true
		}
	}
}

// lastBuild is the build of the package that wrote a log last, whether it
// succeeded, failed or was broken off.
func lastBuild(s *store.Store, name string) (store.Ref, error) {
	last, found, err := landing.LastLogged(s, name, func(store.Ref) bool { return true })
	if err == nil && !found {
		err = landing.NotBuilt(name, s.Root)
	}
	return last, err
}
