package cli

import (
	"bufio"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"fernladder/core/build"
	"fernladder/core/clean"
	"fernladder/core/landing"
	"fernladder/core/lock"
	"fernladder/core/store"
	"fernladder/internal/term"
)

func (a *app) cleanCommand() *cobra.Command {
	f := cleaning{}
	c := &cobra.Command{
		Use:   "clean [NAME...]",
		Short: "Say what can be deleted and how much that frees, then delete it",
		Long: `Lists the directories of builds that have failed or were broken off, with size and
age, and what mend has moved aside. With --trees also trees that no state of the landing stands on, with --landings
earlier states (and with --trees what only they use), with --logs the logs of builds
that are not there, with --archives the verified archives, which can be fetched again.
--older and --larger narrow all that. Deletes them after asking; where nobody can
answer, only with --yes. What is in use stays, also what has come into use meanwhile,
and what a lock file needs that is given with --keep; nothing is waited for.`,
		Example: `  fernladder clean
  fernladder clean mistplan --yes
  fernladder clean --trees mistplan@3f9c      one build
  fernladder clean --trees --landings --older 90d --keep ladder.lock
  fernladder clean --archives --larger 100MB
  fernladder clean --archives mistplan        the archives of one package`,
		ValidArgsFunction: a.completeInstalled,
		RunE:              func(c *cobra.Command, args []string) error { return a.clean(c.Context(), args, f) },
	}
	c.Flags().BoolVar(&f.trees, "trees", false, "trees, too, that nothing on the landing stands on, as it is and as it was")
	c.Flags().BoolVar(&f.landings, "landings", false, "earlier states of the landing, too")
	c.Flags().BoolVar(&f.logs, "logs", false, "logs, too, of builds that are not there")
	c.Flags().BoolVar(&f.archives, "archives", false, "verified archives, too")
	c.Flags().StringVar(&f.older, "older", "", "only what is older than `AGE`: 12h, 30d, 8w")
	c.Flags().StringVar(&f.larger, "larger", "", "only what is larger than `SIZE`: 500kB, 100MB, 2GB")
	c.Flags().StringArrayVar(&f.keep, "keep", nil, "keep what the lock file `FILE` needs; can be given several times")
	c.Flags().BoolVar(&f.yes, "yes", false, "do not ask")
	return c
}

type cleaning struct {
	trees, archives, landings, logs, yes bool
	older, larger                        string
	keep                                 []string
}

// cleaned is what can be deleted, or was, in JSON.
type cleaned struct {
	Works    []build.Work   `json:"work"`
	Trees    []store.Ref    `json:"trees"`
	Landings []int          `json:"landings"`
	Logs     []store.Ref    `json:"logs"`
	Archives int64          `json:"bytes_of_archives"`
	Bytes    int64          `json:"bytes"`
	Deleted  bool           `json:"deleted"`
	Stayed   []clean.Stayed `json:"stayed"`
}

func (a *app) clean(ctx context.Context, names []string, f cleaning) error {
	m, err := a.open()
	if err != nil {
		return err
	}
	if len(names) > 0 && f.landings {
		return usage("landings are not those of one package; leave the names out, or --landings")
	}
	what := clean.What{Trees: f.trees, Archives: f.archives, Landings: f.landings, Logs: f.logs}
	if what.Older, err = parseAge(f.older); err != nil {
		return err
	}
	if what.Larger, err = parseSize(f.larger); err != nil {
		return err
	}
	for _, file := range f.keep {
		path, err := filepath.Abs(file)
		if err != nil {
			return err
		}
		locked, err := lock.Read(path, file)
		if err != nil {
			return err
		}
		if !locked.There {
			return usage("--keep %s: there is no such lock file", file)
		}
		what.Locks = append(what.Locks, locked)
	}
	for _, text := range names {
		name, err := landing.ParseName(text)
		if err != nil {
			return err
		}
		what.Names = append(what.Names, name)
	}
	if _, err := os.Stat(m.Store.Root); err == nil && (f.yes || a.screen.Interactive(os.Stdin)) {
		if err := m.Store.Prepare(); err != nil {
			return err
		}
		if err := clean.Sweep(ctx, m); err != nil {
			return err
		}
	}
	found, err := clean.Find(m, what)
	if err != nil {
		return err
	}
	result := cleaned{Works: append([]build.Work{}, found.Works...), Trees: []store.Ref{}, Landings: []int{}, Logs: []store.Ref{},
		Archives: found.ArchiveBytes(), Bytes: found.Bytes(), Stayed: []clean.Stayed{}}
	for _, x := range found.Landings {
		result.Landings = append(result.Landings, x.Number)
	}
	for _, l := range found.Logs {
		result.Logs = append(result.Logs, l.Ref)
	}
	for _, t := range found.Trees {
		result.Trees = append(result.Trees, t.Ref)
	}
	a.showCandidates(found)
	switch {
	case found.Empty():
	case !f.yes && !a.screen.Interactive(os.Stdin):
		a.screen.Note("Nothing was deleted. To delete it: the same command with --yes")
	case !f.yes && !a.agrees("Delete this?"):
		a.screen.Note("Nothing was deleted.")
	default:
		gone, err := clean.Delete(ctx, m, found)
		a.showStayed(gone)
		if err != nil {
			return err
		}
		result.Deleted, result.Bytes = true, gone.Bytes
		result.Stayed = append(result.Stayed, gone.Stayed...)
		switch {
		case a.screen.JSON:
		case len(gone.Works)+len(gone.Trees)+len(gone.Landings)+len(gone.Logs) == 0 && gone.Bytes == 0:
			a.screen.Print("Nothing was deleted.")
		default:
			a.screen.Print("Deleted: %s.", term.Bytes(gone.Bytes))
		}
	}
	if a.screen.JSON {
		return a.screen.PrintJSON(result)
	}
	return nil
}

// agrees asks a person something.
func (a *app) agrees(question string) bool {
	fmt.Fprintf(a.screen.Err, "%s [y/N] ", question)
	answer, _ := bufio.NewReader(os.Stdin).ReadString('\n')
	answer = strings.ToLower(strings.TrimSpace(answer))
	return answer == "y" || answer == "yes"
}

func (a *app) showCandidates(c clean.Candidates) {
	if a.screen.JSON {
		return
	}
	var rows [][]string
	for _, w := range c.Works {
		rows = append(rows, []string{"build", a.screen.Strong(w.Name), w.Version, w.ID, term.Bytes(w.Size), ago(a.now().Sub(w.Touched)), w.Done()})
	}
	for _, t := range c.Trees {
		rows = append(rows, []string{"tree", a.screen.Strong(t.Name), t.Version, t.ID, term.Bytes(t.Size), ago(a.now().Sub(t.Began)), ""})
	}
	for _, x := range c.Landings {
		rows = append(rows, []string{"landing", "", fmt.Sprint(x.Number), "", "", ago(a.now().Sub(x.Made)), term.OneLine(x.Command)})
	}
	for _, l := range c.Logs {
		rows = append(rows, []string{"logs", a.screen.Strong(l.Name), l.Version, l.ID, term.Bytes(l.Size), ago(a.now().Sub(l.Wrote)), ""})
	}
	for _, d := range c.Damaged {
		rows = append(rows, []string{"damaged", filepath.Base(d.Path), "", "", term.Bytes(d.Size), ago(a.now().Sub(d.Wrote)), "moved aside by mend"})
	}
	if n := len(c.Archives); n > 0 {
		rows = append(rows, []string{"archives", "", "", "", term.Bytes(c.ArchiveBytes()), "", term.Count(n, "file") + ", can be fetched again"})
	}
	if len(rows) == 0 {
		a.screen.Print("Nothing to delete.")
		return
	}
	a.screen.Table([]string{"what", "package", "version", "build id", "size", "age", ""}, rows)
	a.screen.Print("\n%s in all.", term.Bytes(c.Bytes()))
}

// showStayed tells what was not deleted after all, and why.
func (a *app) showStayed(d clean.Deleted) {
	for _, s := range d.Stayed {
		why := map[clean.Reason]string{clean.BeingBuilt: "is being built, or built with", clean.InUse: "is in use by now",
			clean.NeededNow: "is needed by " + s.By.Name + " " + s.By.Version}[s.Why]
		a.screen.Note("%s %s %s, and stays.", s.Build.Name, s.Build.Version, why)
	}
	if d.Archives > 0 {
		a.screen.Note("%s in use, and stay.", term.Count(d.Archives, "archive"))
	}
}

// ago is an age in one unit.
func ago(d time.Duration) string {
	switch days := int(d.Hours() / 24); {
	case days > 0:
		return term.Count(days, "day")
	case d >= time.Hour:
		return term.Count(int(d.Hours()), "hour")
	case d < time.Minute:
		return term.Count(int(d.Seconds()), "second")
	}
	return term.Count(int(d.Minutes()), "minute")
}
