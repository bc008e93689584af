package cli

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"fernladder/core/resolve"
	"fernladder/core/store"
)

// loggedStages are the stages that leave a log, in their order.
var loggedStages = []string{"patch", "configure", "compile", "check", "place", "try"}

func (a *app) logCommand() *cobra.Command {
	stage := ""
	c := &cobra.Command{
		Use:   "log NAME",
		Short: "Show the log of a package's last build",
		Example: `  fernladder log mistplan
  fernladder log mistplan --stage compile`,
		Args:              exactlyOne,
		ValidArgsFunction: a.completeInstalled,
		RunE:              func(_ *cobra.Command, args []string) error { return a.log(args[0], stage) },
	}
	c.Flags().StringVar(&stage, "stage", "", "only this `STAGE`: "+strings.Join(loggedStages, ", "))
	return c
}

func (a *app) log(name, only string) error {
	if only != "" && !slices.Contains(loggedStages, only) {
		return usage("there is no log of a stage %q; there are: %s", only, strings.Join(loggedStages, ", "))
	}
	w, err := resolve.ParseWanted(name)
	if err != nil {
		return usage("%v", err)
	}
	s, err := a.open()
	if err != nil {
		return err
	}
	last, err := lastBuild(s.store, w)
	if err != nil {
		return err
	}
	var shown []map[string]string
	for _, stage := range loggedStages {
		file := filepath.Join(s.store.Logs(last), stage+".log")
		f, err := os.Open(file)
		if errors.Is(err, fs.ErrNotExist) || only != "" && stage != only {
			continue
		}
		if err != nil {
			return s.store.Wrap(err)
		}
		shown = append(shown, map[string]string{"stage": stage, "file": file})
		if !a.screen.JSON {
			a.screen.Print("%s", a.screen.Strong("── "+last.Name+" "+last.Version+", "+stage+" ──"))
			_, err = io.Copy(a.screen.Out, f)
		}
		if err = errors.Join(err, f.Close()); err != nil {
			return err
		}
	}
	if a.screen.JSON {
		return a.screen.PrintJSON(map[string]any{"build": last, "logs": shown})
	}
	if len(shown) == 0 {
		a.screen.Note("The last build of %s %s has left no log%s.", last.Name, last.Version, map[bool]string{true: " of stage " + only}[only != ""])
	}
	return nil
}

// lastBuild is the build of the package that wrote a log last, whether it
// succeeded, failed or was broken off.
func lastBuild(s *store.Store, w resolve.Wanted) (store.Ref, error) {
	builds, err := s.Logged(w.Name)
	if err != nil {
		return store.Ref{}, err
	}
	var last store.Ref
	var when time.Time
	for _, b := range builds {
		if inRange(b.Version, w) && b.Wrote.After(when) {
			last, when = b.Ref, b.Wrote
		}
	}
	if when.IsZero() {
		return last, &notInstalled{w.Name, s.Root}
	}
	return last, nil
}
