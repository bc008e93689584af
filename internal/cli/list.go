package cli

import (
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"fernladder/core/session"
	"fernladder/core/settings"
	"fernladder/core/store"
	"fernladder/internal/term"
)

func (a *app) listCommand() *cobra.Command {
	var r session.ListRequest
	older, larger := "", ""
	c := &cobra.Command{
		Use:   "list",
		Short: "List all builds, and which of them are in use",
		Long: `Lists all builds, with their ids, and whether they are on the landing: requested, or
needed by another. If there are several builds of a release, it shows the options in which
they differ.`,
		Example: `  fernladder list
  fernladder list --landing
  fernladder list --unused --older 90d        what fernladder clean --trees would delete
  fernladder list --larger 100MB --by-size`,
		Args: noNames,
		RunE: func(*cobra.Command, []string) (err error) {
			if r.Older, err = parseAge(older); err != nil {
				return err
			}
			if r.Larger, err = parseSize(larger); err != nil {
				return err
			}
			return a.list(r)
		},
	}
	c.Flags().BoolVar(&r.Landing, "landing", false, "only what is on the landing")
	c.Flags().BoolVar(&r.Unused, "unused", false, "only what no state of the landing needs")
	c.Flags().StringVar(&older, "older", "", "only what was built longer ago than `AGE`: 12h, 30d, 8w")
	c.Flags().StringVar(&larger, "larger", "", "only what is larger than `SIZE`: 500kB, 100MB, 2GB")
	c.Flags().BoolVar(&r.BySize, "by-size", false, "the largest first")
	return c
}

func (a *app) list(request session.ListRequest) error {
	s, err := a.open()
	if err != nil {
		return err
	}
	r, err := s.List(request)
	if err != nil {
		return err
	}
	return a.answer(r, func() { a.showList(r) })
}

func (a *app) showList(r *session.ListReport) {
	if a.session.Settings.File == "" && a.root == "" && a.getenv("FERNLADDER_ROOT") == "" {
		a.screen.Note("There is no %s here or above, nor for this user or machine: this is the default root.",
			settings.FileName)
	}
	switch {
	case len(r.All) == 0:
		a.screen.Print("Nothing is built in %s.", r.Root)
		return
	case len(r.Builds) == 0:
		a.screen.Print("No build matches.")
		return
	}
	rows, same := make([][]string, len(r.Builds)), sameRelease(r.All)
	for i, b := range r.Builds {
		x := r.Receipts[i]
		on := map[string]string{"asked": a.screen.Good("requested"), "needed": "needed", "beside": "beside"}[b.Landing]
		rows[i] = []string{a.screen.Strong(b.Name), b.Version, b.ID, on, b.Prefix, b.Preset, term.Bytes(b.Size),
			x.Began.Local().Format("2006-01-02 15:04"), apart(x, same), term.OneLine(b.Summary)}
	}
	a.screen.Table([]string{"package", "version", "build id", "landing", "for", "preset", "size", "built", "options",
		"summary"}, rows)
	a.screen.Print("\n%s in %s, %s.", term.Count(len(rows), "build"), r.Root, sizes(r.Receipts))
}

// sameRelease are builds by their package and version.
func sameRelease(all []*store.Receipt) map[[2]string][]*store.Receipt {
	same := map[[2]string][]*store.Receipt{}
	for _, r := range all {
		same[[2]string{r.Name, r.Version}] = append(same[[2]string{r.Name, r.Version}], r)
	}
	return same
}

// apart says in which options a build differs from others of the same release.
func apart(r *store.Receipt, same map[[2]string][]*store.Receipt) string {
	differs := map[string]bool{}
	for _, other := range same[[2]string{r.Name, r.Version}] {
		for option, value := range r.Options {
			if other.Options[option] != value {
				differs[option] = true
			}
		}
	}
	var texts []string
	for _, option := range slices.Sorted(maps.Keys(differs)) {
		texts = append(texts, option+"="+r.Options[option])
	}
	return strings.Join(texts, " ")
}
