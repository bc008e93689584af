package cli

import (
	"cmp"
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"fernladder/core/clean"
	"fernladder/core/landing"
	"fernladder/core/machine"
	"fernladder/core/settings"
	"fernladder/core/store"
	"fernladder/internal/term"
)

// listing says which builds are listed, and in which order.
type listing struct {
	landing, unused, bySize bool
	older, larger           string
}

func (a *app) listCommand() *cobra.Command {
	f := listing{}
	c := &cobra.Command{
		Use:   "list",
		Short: "List what is built, and what of it is in use",
		Long: `Lists every build whose tree is there, with its id, and whether it is on the landing:
asked for, or needed by another. Where several builds of a release are there, it says
in which options they differ.`,
		Example: `  fernladder list
  fernladder list --landing
  fernladder list --unused --older 90d        what fernladder clean --trees would delete
  fernladder list --larger 100MB --by-size`,
		Args: noNames,
		RunE: func(*cobra.Command, []string) error { return a.list(f) },
	}
	c.Flags().BoolVar(&f.landing, "landing", false, "only what is on the landing")
	c.Flags().BoolVar(&f.unused, "unused", false, "only what no state of the landing stands on")
	c.Flags().StringVar(&f.older, "older", "", "only what was built longer ago than `AGE`: 12h, 30d, 8w")
	c.Flags().StringVar(&f.larger, "larger", "", "only what is larger than `SIZE`: 500kB, 100MB, 2GB")
	c.Flags().BoolVar(&f.bySize, "by-size", false, "the largest first")
	return c
}

// filter takes out what is not to be listed, and brings the rest into order.
func (f listing) filter(m *machine.Machine, receipts []*store.Receipt, current landing.State) ([]*store.Receipt, error) {
	older, err := parseAge(f.older)
	if err != nil {
		return nil, err
	}
	larger, err := parseSize(f.larger)
	if err != nil {
		return nil, err
	}
	unused := map[store.Ref]bool{}
	if f.unused {
		found, err := clean.Find(m, clean.What{Trees: true})
		if err != nil {
			return nil, err
		}
		for _, r := range found.Trees {
			unused[r.Ref] = true
		}
	}
	now := m.Now()
	left := slices.DeleteFunc(slices.Clone(receipts), func(r *store.Receipt) bool {
		return f.landing && current.Has(r.Ref) == nil || f.unused && !unused[r.Ref] || now.Sub(r.Began) < older || r.Size < larger
	})
	if f.bySize {
		slices.SortStableFunc(left, func(a, b *store.Receipt) int { return cmp.Compare(b.Size, a.Size) })
	}
	return left, nil
}

// listed is an installed build in JSON.
type listed struct {
	store.Ref
	Summary string `json:"summary"`
	Landing string `json:"landing"` // asked, needed, beside or no
	Preset  string `json:"preset,omitempty"`
	Size    int64  `json:"size"`
	Began   string `json:"built"`
	Tree    string `json:"tree"`
	Prefix  string `json:"prefix,omitempty"` // the directory that it was built for, where that is not its tree
}

func (a *app) list(f listing) error {
	m, err := a.open()
	if err != nil {
		return err
	}
	all, err := m.Store.Receipts()
	if err != nil {
		return err
	}
	current, err := landing.Current(m.Store)
	if err != nil {
		return err
	}
	receipts, err := f.filter(m, all, current)
	if err != nil {
		return err
	}
	builds := make([]listed, len(receipts))
	rows := make([][]string, len(receipts))
	for i, r := range receipts {
		builds[i] = listed{r.Ref, r.Summary, current.How(r.Ref), presetOf(current, r), r.Size, r.Began.Format("2006-01-02T15:04:05Z07:00"), r.Tree, r.Prefix}
		on := map[string]string{"asked": a.screen.Good("asked for"), "needed": "needed", "beside": "beside", "no": ""}[builds[i].Landing]
		rows[i] = []string{a.screen.Strong(r.Name), r.Version, r.ID, on, r.Prefix, builds[i].Preset, term.Bytes(r.Size), r.Began.Local().Format("2006-01-02 15:04"), apart(r, all), term.OneLine(r.Summary)}
	}
	if a.screen.JSON {
		return a.screen.PrintJSON(map[string]any{"root": m.Store.Root, "landing": current.Number, "builds": builds})
	}
	if m.Settings.File == "" && a.root == "" && a.getenv("FERNLADDER_ROOT") == "" {
		a.screen.Note("No %s is here or above, nor among this user's and the machine's: this is the usual root.", settings.FileName)
	}
	if len(rows) == 0 && len(all) > 0 {
		a.screen.Print("None of the %s in %s is such a one.", term.Count(len(all), "build"), m.Store.Root)
		return nil
	}
	if len(rows) == 0 {
		a.screen.Print("Nothing is built in %s.", m.Store.Root)
		return nil
	}
	a.screen.Table([]string{"package", "version", "build id", "landing", "for", "preset", "size", "built", "options", "summary"}, rows)
	a.screen.Print("\n%s in %s, %s.", term.Count(len(rows), "build"), m.Store.Root, sizes(receipts))
	return nil
}

// presetOf is the preset that a build was made by: as it was asked for the last time, or
// as it was known when it was built.
func presetOf(current landing.State, r *store.Receipt) string {
	if m := current.Has(r.Ref); m != nil && m.Preset != "" {
		return m.Preset
	}
	return r.Preset
}

// apart says in which options a build differs from others of the same release.
func apart(r *store.Receipt, all []*store.Receipt) string {
	differs := map[string]bool{}
	for _, other := range all {
		if other.Name != r.Name || other.Version != r.Version || other.ID == r.ID {
			continue
		}
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
