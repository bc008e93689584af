package cli

import (
	"bufio"
	"context"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"fernladder/core/build"
	"fernladder/core/ground"
	"fernladder/core/landing"
	"fernladder/core/source"
	"fernladder/core/store"
	"fernladder/internal/term"
)

func (a *app) cleanCommand() *cobra.Command {
	f := cleaning{}
	c := &cobra.Command{
		Use:   "clean [NAME...]",
		Short: "Say what can be deleted and how much that frees, then delete it",
		Long: `Lists the directories of builds that have failed or were broken off, with size and
age. With --trees also trees that nothing on the landing stands on, with --archives
also the verified archives, which can be fetched again. Deletes them after asking;
where nobody can answer, only with --yes. What is in use stays.`,
		Example: `  fernladder clean
  fernladder clean mistplan --yes
  fernladder clean --trees --archives`,
		ValidArgsFunction: a.completeRecipes,
		RunE:              func(c *cobra.Command, args []string) error { return a.clean(c.Context(), args, f) },
	}
	c.Flags().BoolVar(&f.trees, "trees", false, "trees, too, that nothing on the landing stands on; earlier landings that have them go")
	c.Flags().BoolVar(&f.archives, "archives", false, "verified archives, too")
	c.Flags().BoolVar(&f.yes, "yes", false, "do not ask")
	return c
}

type cleaning struct{ trees, archives, yes bool }

// rubbish is what can be deleted.
type rubbish struct {
	Works    []build.Work     `json:"work"`
	Trees    []*store.Receipt `json:"-"`
	Refs     []store.Ref      `json:"trees"`
	Archives int64            `json:"bytes_of_archives"`
	Bytes    int64            `json:"bytes"`
	Deleted  bool             `json:"deleted"`
}

func (a *app) clean(ctx context.Context, names []string, f cleaning) error {
	s, err := a.open()
	if err != nil {
		return err
	}
	if len(names) > 0 && f.archives {
		return usage("archives are not those of one package; leave the names out, or --archives")
	}
	if _, err := os.Stat(s.store.Root); err == nil && (f.yes || a.screen.Interactive(os.Stdin)) {
		if err := s.store.Prepare(); err != nil {
			return err
		}
	}
	r, err := a.find(s, names, f)
	if err != nil {
		return err
	}
	if !a.screen.JSON {
		a.showRubbish(r, f)
	}
	if r.Bytes == 0 && len(r.Works)+len(r.Trees) == 0 {
		if a.screen.JSON {
			return a.screen.PrintJSON(r)
		}
		a.screen.Print("Nothing to delete.")
		return nil
	}
	if !f.yes {
		if !a.screen.Interactive(os.Stdin) {
			if a.screen.JSON {
				return a.screen.PrintJSON(r)
			}
			a.screen.Note("Nothing was deleted. To delete it: the same command with --yes")
			return nil
		}
		fmt.Fprintf(a.screen.Err, "Delete this? [y/N] ")
		answer, _ := bufio.NewReader(os.Stdin).ReadString('\n')
		if answer = strings.ToLower(strings.TrimSpace(answer)); answer != "y" && answer != "yes" {
			a.screen.Note("Nothing was deleted.")
			return nil
		}
	}
	if err := a.deleteRubbish(ctx, s, r, names, f); err != nil {
		return err
	}
	r.Deleted = true
	if a.screen.JSON {
		return a.screen.PrintJSON(r)
	}
	a.screen.Print("Deleted: %s.", term.Bytes(r.Bytes))
	return nil
}

// find finds what can be deleted, of all packages or of those named.
func (a *app) find(s *session, names []string, f cleaning) (*rubbish, error) {
	r := &rubbish{Works: []build.Work{}, Refs: []store.Ref{}}
	works, err := build.Works(s.store)
	if err != nil {
		return nil, err
	}
	for _, w := range works {
		if len(names) == 0 || slices.Contains(names, w.Name) {
			r.Works = append(r.Works, w)
			r.Bytes += w.Size
		}
	}
	if f.trees {
		if r.Trees, err = unused(s.store, names); err != nil {
			return nil, err
		}
		for _, t := range r.Trees {
			r.Refs = append(r.Refs, t.Ref)
			r.Bytes += t.Size
		}
	}
	if f.archives {
		r.Archives = ground.Size(s.store.Archives())
		r.Bytes += r.Archives
	}
	return r, nil
}

// unused lists the trees that nothing on the landing stands on, as it runs or as
// it was built.
func unused(s *store.Store, names []string) ([]*store.Receipt, error) {
	receipts, err := s.Receipts()
	if err != nil {
		return nil, err
	}
	current, err := landing.Current(s)
	if err != nil {
		return nil, err
	}
	byRef := map[store.Ref]*store.Receipt{}
	for _, r := range receipts {
		byRef[r.Ref] = r
	}
	used := map[store.Ref]bool{}
	var use func(r store.Ref)
	use = func(r store.Ref) {
		if used[r] || byRef[r] == nil {
			return
		}
		used[r] = true
		for _, need := range byRef[r].Needs {
			use(need.Ref)
		}
	}
	for _, m := range current.Members {
		use(m.Ref)
	}
	// A named package keeps what others of its kind stand on.
	for _, r := range receipts {
		if len(names) > 0 && !slices.Contains(names, r.Name) {
			use(r.Ref)
		}
	}
	return slices.DeleteFunc(receipts, func(r *store.Receipt) bool { return used[r.Ref] }), nil
}

func (a *app) showRubbish(r *rubbish, f cleaning) {
	var rows [][]string
	for _, w := range r.Works {
		rows = append(rows, []string{"build", a.screen.Strong(w.Name), w.Version, term.Bytes(w.Size), ago(a.now().Sub(w.Touched)), w.Done()})
	}
	for _, t := range r.Trees {
		rows = append(rows, []string{"tree", a.screen.Strong(t.Name), t.Version, term.Bytes(t.Size), ago(a.now().Sub(t.Began)), ""})
	}
	if f.archives && r.Archives > 0 {
		rows = append(rows, []string{"archives", "", "", term.Bytes(r.Archives), "", "can be fetched again"})
	}
	if len(rows) > 0 {
		a.screen.Table([]string{"what", "package", "version", "size", "age", ""}, rows)
		a.screen.Print("\n%s in all.", term.Bytes(r.Bytes))
	}
}

// ago is an age in one unit.
func ago(d time.Duration) string {
	switch days := int(d.Hours() / 24); {
	case days > 0:
		return term.Count(days, "day")
	case d >= time.Hour:
		return term.Count(int(d.Hours()), "hour")
	}
	return term.Count(int(d.Minutes()), "minute")
}

func (a *app) deleteRubbish(ctx context.Context, s *session, r *rubbish, names []string, f cleaning) error {
	for _, w := range r.Works {
		deleted, err := w.Delete(ctx, s.store)
		if err != nil {
			return err
		}
		if !deleted {
			r.Bytes -= w.Size
			a.screen.Note("%s %s is being built, and stays.", w.Name, w.Version)
		}
	}
	if len(r.Trees) > 0 {
		_, _, err := a.changeLanding(ctx, s.store, func(current landing.State) (asked []store.Ref, err error) {
			for _, m := range current.Members {
				if m.Asked {
					asked = append(asked, m.Ref)
				}
			}
			return asked, nil
		}, func(landing.State) error {
			// While the answer was waited for, some may have come into use.
			still, err := unused(s.store, names)
			if err != nil {
				return err
			}
			kept := func(t *store.Receipt) bool {
				return !slices.ContainsFunc(still, func(other *store.Receipt) bool { return other.Ref == t.Ref })
			}
			for _, t := range r.Trees {
				if kept(t) {
					r.Bytes -= t.Size
					a.screen.Note("%s %s is in use by now, and stays.", t.Name, t.Version)
				}
			}
			r.Trees = slices.DeleteFunc(r.Trees, kept)
			_, err = a.deleteTrees(ctx, s.store, r.Trees)
			return err
		})
		if err != nil {
			return err
		}
	}
	if f.archives && r.Archives > 0 {
		archives := source.Archives{Dir: s.store.Archives()}
		kept, err := archives.Clear(ctx)
		if kept > 0 {
			a.screen.Note("%s in use, and stay.", term.Count(kept, "archive"))
		}
		return s.store.Wrap(err)
	}
	return nil
}
