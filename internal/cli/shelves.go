package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"fernladder/core/session"
	"fernladder/internal/term"
)

func (a *app) shelvesCommand() *cobra.Command {
	fetch := false
	c := &cobra.Command{
		Use:   "shelves",
		Short: "List the shelves of recipes, and fetch those that are repositories",
		Long: `Lists the shelves in search order, with the recipes on them that an earlier shelf hides.
Shelves that are git repositories, [[remote_shelf]] in the settings, are pinned to a
commit; --fetch fetches them to the root.`,
		Example: "  fernladder shelves\n  fernladder shelves --fetch",
		Args:    noNames,
		RunE:    func(c *cobra.Command, _ []string) error { return a.shelves(c.Context(), fetch) },
	}
	c.Flags().BoolVar(&fetch, "fetch", false, "fetch the shelves that are repositories and not here yet")
	return c
}

func (a *app) shelves(ctx context.Context, fetch bool) error {
	s, err := a.open()
	if err != nil {
		return err
	}
	all, err := s.ListShelves(ctx, fetch)
	if err != nil {
		return err
	}
	return a.answer(all, func() {
		rows := [][]string{}
		for i, l := range all {
			where, state := l.Shown, term.Count(l.Recipes, "recipe")
			if l.Git != "" {
				where = fmt.Sprintf("%s at %s", l.Git, l.Commit[:12])
			}
			if !l.Here {
				state = a.screen.Bad("not fetched")
			}
			rows = append(rows, []string{fmt.Sprint(i + 1), a.screen.Strong(where), state, strings.Join(l.Hidden, " ")})
		}
		a.screen.Table([]string{"", "shelf", "holds", "hidden by shelves above"}, rows)
		if slices.ContainsFunc(all, func(l session.Shelf) bool { return !l.Here }) {
			a.screen.Note("To fetch what is missing: fernladder shelves --fetch")
		}
	})
}
