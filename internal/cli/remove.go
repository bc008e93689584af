package cli

import (
	"context"
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"fernladder/core/install"
	"fernladder/core/session"
	"fernladder/internal/term"
)

func (a *app) removeCommand() *cobra.Command {
	var r session.RemoveRequest
	yes := false
	c := &cobra.Command{
		Use:   "remove NAME...",
		Short: "Take packages off the landing",
		Long: `Takes packages off the landing, with what only they needed to run. Their trees stay, so
installing them again takes no time. With --trees, all trees of the packages are deleted,
too, unless another installed package needs them, and ladder.lock forgets them; with
--with-archives, so are their archives, which can be fetched again. NAME:RANGE and NAME@ID
name only those builds.`,
		Example: `  fernladder remove glasshouse
  fernladder remove mistplan --trees
  fernladder remove mistplan@3f9c --trees     one build of several`,
		Args:              a.atLeastOne,
		ValidArgsFunction: a.completeInstalled,
		RunE: func(c *cobra.Command, args []string) error {
			r.Names = args
			return a.remove(c.Context(), r, yes)
		},
	}
	c.Flags().BoolVar(&yes, "yes", false, "with --trees, do not ask before earlier landings are deleted, too")
	c.Flags().BoolVar(&r.Archives, "with-archives", false, "with --trees, also delete their verified archives")
	c.Flags().BoolVar(&r.Trees, "trees", false, "also delete their trees")
	return c
}

func (a *app) remove(ctx context.Context, r session.RemoveRequest, yes bool) error {
	s, err := a.open()
	if err != nil {
		return err
	}
	if !yes && a.screen.Interactive(os.Stdin) {
		r.Confirm = func(landings []int) bool {
			return a.agrees(fmt.Sprintf("Earlier landings that use these trees will be deleted with them: %s. Continue?",
				numbers(landings)))
		}
	}
	report, err := s.Remove(ctx, r)
	x := report.Removed
	for _, name := range x.Unknown {
		a.screen.Note("No build of %s is installed.", name)
	}
	for _, ref := range x.Aside {
		a.screen.Note("The receipt of %s %s cannot be read, so its tree was moved to %s; clean deletes it.", ref.Name,
			ref.Version, s.Store.Damaged())
	}
	a.showStayed(x.Deleted)
	a.showStayed(report.Archives)
	if err != nil {
		return err
	}
	return a.answer(report, func() { a.showRemoved(report, r) })
}

func (a *app) showRemoved(report *session.RemoveReport, r session.RemoveRequest) {
	x := report.Removed
	for _, line := range a.changes(nil, x.Before.Members, x.After.Members) {
		a.screen.Print("%s", line)
	}
	if report.Changed {
		a.showLanded(install.Landed{Result: x.Result})
	} else {
		a.screen.Print("None of it was on the landing, which did not change.")
	}
	switch {
	case r.Trees:
		a.screen.Print("Deleted %s, %s.", term.Count(len(x.Deleted.Trees), "tree"), term.Bytes(x.Deleted.Bytes))
		if report.ArchiveBytes > 0 {
			a.screen.Print("Deleted their archives, %s.", term.Bytes(report.ArchiveBytes))
		}
		if len(x.Landings) > 0 {
			a.screen.Print("Deleted with them, because they used them: landing %s.", numbers(x.Landings))
		}
	case len(x.Trees) > 0:
		a.screen.Note("The trees stay (%s); to delete them, too: fernladder remove --trees %s", sizes(x.Trees),
			strings.Join(r.Names, " "))
	}
}
