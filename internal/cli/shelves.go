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
	var r session.ShelvesRequest
	c := &cobra.Command{
		Use:   "shelves",
		Short: "List the shelves of recipes, and fetch those that are repositories",
		Long: `Lists the shelves in search order, with the recipes on them that an earlier shelf hides.
Shelves that are git repositories, [[remote_shelf]] in the settings, are pinned to a
commit; --fetch fetches them to the root. Of a shelf with keys, the commit or its tag must be
signed by one of them, and come after the commit that was used before, which is in
ladder.lock; --older accepts another.`,
		Example: "  fernladder shelves\n  fernladder shelves --fetch",
		Args:    noNames,
		RunE:    func(c *cobra.Command, _ []string) error { return a.shelves(c.Context(), r) },
	}
	c.Flags().BoolVar(&r.Fetch, "fetch", false, "fetch the shelves that are repositories and not here yet")
	c.Flags().BoolVar(&r.Older, "older", false, "with --fetch, accept commits that do not come after the ones before")
	return c
}

func (a *app) shelves(ctx context.Context, r session.ShelvesRequest) error {
	s, err := a.open()
	if err != nil {
		return err
	}
	all, err := s.ListShelves(ctx, r)
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
			signed := ""
			if l.Signed != nil {
				signed = l.Signed.String()
			}
			rows = append(rows, []string{fmt.Sprint(i + 1), a.screen.Strong(where), state, signed, strings.Join(l.Hidden, " ")})
		}
		a.screen.Table([]string{"", "shelf", "holds", "signed by", "hidden by shelves above"}, rows)
		if slices.ContainsFunc(all, func(l session.Shelf) bool { return !l.Here }) {
			a.screen.Note("To fetch what is missing: fernladder shelves --fetch")
		}
	})
}
