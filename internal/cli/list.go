package cli

import (
	"github.com/spf13/cobra"

	"fernladder/core/landing"
	"fernladder/core/store"
	"fernladder/internal/term"
)

func (a *app) listCommand() *cobra.Command {
	return &cobra.Command{
		Use:     "list",
		Short:   "List what is installed",
		Long:    "Lists every tree, and whether it is on the landing: asked for, or needed by another.",
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
	s, err := a.open()
	if err != nil {
		return err
	}
	receipts, err := s.store.Receipts()
	if err != nil {
		return err
	}
	current, err := landing.Current(s.store)
	if err != nil {
		return err
	}
	builds := make([]listed, len(receipts))
	rows := make([][]string, len(receipts))
	for i, r := range receipts {
		builds[i] = listed{r.Ref, r.Summary, onLanding(current, r.Ref), r.Size, r.Began.Format("2006-01-02T15:04:05Z07:00"), r.Tree}
		on := map[string]string{"asked": a.screen.Good("asked for"), "needed": "needed", "no": ""}[builds[i].Landing]
		rows[i] = []string{a.screen.Strong(r.Name), r.Version, r.ID, on, term.Bytes(r.Size), r.Began.Local().Format("2006-01-02 15:04"), term.OneLine(r.Summary)}
	}
	if a.screen.JSON {
		return a.screen.PrintJSON(map[string]any{"root": s.store.Root, "landing": current.Number, "builds": builds})
	}
	if len(rows) == 0 {
		a.screen.Print("Nothing is installed in %s.", s.store.Root)
		return nil
	}
	a.screen.Table([]string{"package", "version", "build id", "landing", "size", "built", "summary"}, rows)
	a.screen.Print("\n%s in %s, %s.", term.Count(len(rows), "build"), s.store.Root, sizes(receipts))
	return nil
}

func onLanding(state landing.State, r store.Ref) string {
	for _, m := range state.Members {
		if m.Ref == r {
			return map[bool]string{true: "asked", false: "needed"}[m.Asked]
		}
	}
	return "no"
}
