package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"fernladder/internal/term"
)

func (a *app) shelvesCommand() *cobra.Command {
	fetch := false
	c := &cobra.Command{
		Use:   "shelves",
		Short: "List the shelves of recipes, and bring those that are repositories",
		Long: `Lists the shelves in the order in which they are searched, with the recipes on
them that an earlier shelf hides. Shelves that are git repositories, [[remote_shelf]] in
the settings, are pinned to a commit; --fetch brings them to the root.`,
		Example: "  fernladder shelves\n  fernladder shelves --fetch",
		Args:    noNames,
		RunE:    func(c *cobra.Command, _ []string) error { return a.shelves(c.Context(), fetch) },
	}
	c.Flags().BoolVar(&fetch, "fetch", false, "bring the shelves that are repositories and not here yet")
	return c
}

// listedShelf is a shelf in JSON.
type listedShelf struct {
	Dir     string   `json:"dir"`
	Git     string   `json:"git,omitempty"`
	Commit  string   `json:"commit,omitempty"`
	Here    bool     `json:"here"`
	Recipes int      `json:"recipes"`
	Hidden  []string `json:"hidden"` // names that an earlier shelf has too
}

func (a *app) shelves(ctx context.Context, fetch bool) error {
	m, err := a.open()
	if err != nil {
		return err
	}
	if len(m.Settings.Shelves) == 0 {
		return usage("no shelf is set: name one in %s, or make a folder to work in with: fernladder new DIR", orDefault(m.Settings.File, "fernladder.toml"))
	}
	seen := map[string]bool{}
	all := []listedShelf{}
	rows := [][]string{}
	for i, shelf := range m.Settings.Shelves {
		if fetch && shelf.Git != "" {
			if err := m.BringShelf(ctx, shelf); err != nil {
				return err
			}
		}
		l := listedShelf{Dir: shelf.Dir, Git: shelf.Git, Commit: shelf.Commit, Hidden: []string{}}
		names, err := shelf.Names()
		if err != nil && shelf.Git == "" {
			return err
		}
		l.Here, l.Recipes = err == nil, len(names)
		for _, name := range names {
			if seen[name] {
				l.Hidden = append(l.Hidden, name)
			}
			seen[name] = true
		}
		all = append(all, l)
		where, state := shelf.Shown, term.Count(l.Recipes, "recipe")
		if shelf.Git != "" {
			where = fmt.Sprintf("%s at %s", shelf.Git, shelf.Commit[:12])
		}
		if !l.Here {
			state = a.screen.Bad("not here")
		}
		rows = append(rows, []string{fmt.Sprint(i + 1), a.screen.Strong(where), state, strings.Join(l.Hidden, " ")})
	}
	if a.screen.JSON {
		return a.screen.PrintJSON(all)
	}
	a.screen.Table([]string{"", "shelf", "holds", "hidden by shelves above"}, rows)
	if slices.ContainsFunc(all, func(l listedShelf) bool { return !l.Here }) {
		a.screen.Note("To bring what is not here: fernladder shelves --fetch")
	}
	return nil
}
