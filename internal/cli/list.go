package cli

import (
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"fernladder/core/landing"
	"fernladder/core/settings"
	"fernladder/core/store"
	"fernladder/internal/term"
)

func (a *app) listCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "list",
		Short: "List what is built, and what of it is in use",
		Long: `Lists every build whose tree is there, with its id, and whether it is on the landing:
asked for, or needed by another. Where several builds of a release are there, it says
in which options they differ.`,
		Example: `  fernladder list`,
		Args:    noNames,
		RunE:    func(*cobra.Command, []string) error { return a.list() },
	}
}

// listed is an installed build in JSON.
type listed struct {
	store.Ref
	Summary string `json:"summary"`
	Landing string `json:"landing"` // asked, needed or no
	Size    int64  `json:"size"`
	Began   string `json:"built"`
	Tree    string `json:"tree"`
}

func (a *app) list() error {
	m, err := a.open()
	if err != nil {
		return err
	}
	receipts, err := m.Store.Receipts()
	if err != nil {
		return err
	}
	current, err := landing.Current(m.Store)
	if err != nil {
		return err
	}
	builds := make([]listed, len(receipts))
	rows := make([][]string, len(receipts))
	for i, r := range receipts {
		builds[i] = listed{r.Ref, r.Summary, onLanding(current, r.Ref), r.Size, r.Began.Format("2006-01-02T15:04:05Z07:00"), r.Tree}
		on := map[string]string{"asked": a.screen.Good("asked for"), "needed": "needed", "beside": "beside", "no": ""}[builds[i].Landing]
		rows[i] = []string{a.screen.Strong(r.Name), r.Version, r.ID, on, term.Bytes(r.Size), r.Began.Local().Format("2006-01-02 15:04"), apart(r, receipts), term.OneLine(r.Summary)}
	}
	if a.screen.JSON {
		return a.screen.PrintJSON(map[string]any{"root": m.Store.Root, "landing": current.Number, "builds": builds})
	}
	if m.Settings.File == "" && a.root == "" && a.getenv("FERNLADDER_ROOT") == "" {
		a.screen.Note("No %s is here or above, nor among this user's and the machine's: this is the usual root.", settings.FileName)
	}
	if len(rows) == 0 {
		a.screen.Print("Nothing is built in %s.", m.Store.Root)
		return nil
	}
	a.screen.Table([]string{"package", "version", "build id", "landing", "size", "built", "options", "summary"}, rows)
	a.screen.Print("\n%s in %s, %s.", term.Count(len(rows), "build"), m.Store.Root, sizes(receipts))
	return nil
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

func onLanding(state landing.State, r store.Ref) string {
	switch m := state.Has(r); {
	case m == nil:
		return "no"
	case m.Beside:
		return "beside"
	case m.Asked:
		return "asked"
	}
	return "needed"
}
