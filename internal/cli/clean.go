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

	"fernladder/core/clean"
	"fernladder/core/session"
	"fernladder/internal/term"
)

func (a *app) cleanCommand() *cobra.Command {
	f := cleaning{}
	c := &cobra.Command{
		Use:   "clean [NAME...]",
		Short: "Show what can be deleted and how much that frees, then delete it",
		Long: `Lists the directories of failed and interrupted builds, with size and age, and what mend
moved aside. The flags add trees that no state of the landing needs (--trees), earlier
states of the landing (--landings; with --trees also what only they use), logs of builds
that no longer exist (--logs), and verified archives, which can be fetched again
(--archives). --older and --larger narrow the list. Deletes them after asking; without a
terminal, only with --yes. What is in use stays, including what comes into use in the
meantime and what a lock file given with --keep needs. It never waits. With --depot, it
lists what a depot has and no lock file given with --keep names, and deletes that there.`,
		Example: `  fernladder clean
  fernladder clean mistplan --yes
  fernladder clean --trees mistplan@3f9c      one build
  fernladder clean --trees --landings --older 90d --keep ladder.lock
  fernladder clean --archives --larger 100MB
  fernladder clean --archives mistplan        the archives of one package
  fernladder clean --depot site --keep ladder.lock --older 90d`,
		ValidArgsFunction: a.completeInstalled,
		RunE: func(c *cobra.Command, args []string) error {
			if f.Names = args; f.depot == "" {
				return a.clean(c.Context(), f)
			}
			if err := noNames(c, args); err != nil {
				return err
			}
			for _, flag := range []string{"trees", "landings", "logs", "archives", "larger"} {
				if c.Flags().Changed(flag) {
					return usage("--depot cannot be combined with --%s", flag)
				}
			}
			return a.cleanDepot(c.Context(), f)
		},
	}
	c.Flags().BoolVar(&f.Trees, "trees", false, "also trees that no state of the landing needs")
	c.Flags().BoolVar(&f.Landings, "landings", false, "also earlier states of the landing")
	c.Flags().BoolVar(&f.Logs, "logs", false, "also logs of builds that no longer exist")
	c.Flags().BoolVar(&f.Archives, "archives", false, "also verified archives")
	c.Flags().StringVar(&f.older, "older", "", "only what is older than `AGE`: 12h, 30d, 8w")
	c.Flags().StringVar(&f.larger, "larger", "", "only what is larger than `SIZE`: 500kB, 100MB, 2GB")
	c.Flags().StringArrayVar(&f.Keep, "keep", nil, "keep what the lock file `FILE` needs; can be given several times")
	c.Flags().StringVar(&f.depot, "depot", "",
		"instead, builds in the depot `NAME` that no lock file given with --keep names")
	c.Flags().BoolVar(&f.yes, "yes", false, "do not ask")
	return c
}

// cleaning are the flags of clean.
type cleaning struct {
	session.CleanRequest
	older, larger string
	depot         string
	yes           bool
}

func (a *app) clean(ctx context.Context, f cleaning) (err error) {
	s, err := a.open()
	if err != nil {
		return err
	}
	if f.Older, err = parseAge(f.older); err != nil {
		return err
	}
	if f.Larger, err = parseSize(f.larger); err != nil {
		return err
	}
	ask := f.yes || a.screen.Interactive(os.Stdin)
	if ask {
		f.Confirm = func(r *session.CleanReport) bool {
			a.showCandidates(r.Found)
			return f.yes || a.agrees("Delete this?")
		}
	}
	r, err := s.Clean(ctx, f.CleanRequest)
	if err != nil && r == nil {
		return err
	}
	a.showStayed(r.Gone)
	if err != nil {
		return err
	}
	return a.answer(r, func() {
		g := r.Gone
		switch {
		case r.Found.Empty():
			a.showCandidates(r.Found)
		case !ask:
			a.showCandidates(r.Found)
			a.screen.Note("Nothing was deleted. To delete it: the same command with --yes")
		case !r.Deleted:
			a.screen.Note("Nothing was deleted.")
		case len(g.Works)+len(g.Trees)+len(g.Landings)+len(g.Logs) == 0 && g.Bytes == 0:
			a.screen.Print("Nothing was deleted.")
		default:
			a.screen.Print("Deleted: %s.", term.Bytes(g.Bytes))
		}
	})
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
		rows = append(rows, []string{"build", a.screen.Strong(w.Name), w.Version, w.ID, term.Bytes(w.Size),
			ago(a.now().Sub(w.Touched)), w.Done()})
	}
	for _, t := range c.Trees {
		rows = append(rows, []string{"tree", a.screen.Strong(t.Name), t.Version, t.ID, term.Bytes(t.Size),
			ago(a.now().Sub(t.Began)), ""})
	}
	for _, x := range c.Landings {
		rows = append(rows, []string{"landing", "", fmt.Sprint(x.Number), "", "", ago(a.now().Sub(x.Made)),
			term.OneLine(x.Command)})
	}
	for _, l := range c.Logs {
		rows = append(rows, []string{"logs", a.screen.Strong(l.Name), l.Version, l.ID, term.Bytes(l.Size),
			ago(a.now().Sub(l.Wrote)), ""})
	}
	for _, d := range c.Damaged {
		rows = append(rows, []string{"damaged", filepath.Base(d.Path), "", "", term.Bytes(d.Size), ago(a.now().Sub(d.Wrote)),
			"moved aside by mend"})
	}
	if n := len(c.Archives); n > 0 {
		rows = append(rows, []string{"archives", "", "", "", term.Bytes(c.ArchiveBytes()), "", term.Count(n, "file") +
			", can be fetched again"})
	}
	if len(rows) == 0 {
		a.screen.Print("Nothing to delete.")
		return
	}
	a.screen.Table([]string{"what", "package", "version", "build id", "size", "age", ""}, rows)
	a.screen.Print("\n%s in all.", term.Bytes(c.Bytes()))
}

// showStayed reports what was not deleted after all, and why.
func (a *app) showStayed(d clean.Deleted) {
	for _, s := range d.Stayed {
		why := map[clean.Reason]string{clean.BeingBuilt: "is being built, or built with", clean.InUse: "is now in use",
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
