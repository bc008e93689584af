package cli

import (
	"context"
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"fernladder/core/clean"
	"fernladder/core/install"
	"fernladder/core/store"
	"fernladder/internal/term"
)

func (a *app) removeCommand() *cobra.Command {
	trees, archives, yes := false, false, false
	c := &cobra.Command{
		Use:   "remove NAME...",
		Short: "Take packages off the landing",
		Long: `Takes packages off the landing, with what only they needed when they run. Their
trees stay, so that installing them again takes no time. With --trees, all trees
of the packages are deleted too, unless another installed package needs them, and
ladder.lock forgets them; with --with-archives, so are the archives that they were built from,
which can be fetched again. NAME:RANGE and NAME@ID mean those builds only.`,
		Example: `  fernladder remove glasshouse
  fernladder remove mistplan --trees
  fernladder remove mistplan@3f9c --trees     one build of several`,
		Args:              atLeastOne,
		ValidArgsFunction: a.completeInstalled,
		RunE:              func(c *cobra.Command, args []string) error { return a.remove(c.Context(), args, trees, archives, yes) },
	}
	c.Flags().BoolVar(&yes, "yes", false, "with --trees, do not ask before earlier landings go with them")
	c.Flags().BoolVar(&archives, "with-archives", false, "with --trees, delete their verified archives too")
	c.Flags().BoolVar(&trees, "trees", false, "delete their trees too")
	return c
}

func (a *app) remove(ctx context.Context, names []string, trees, archives, yes bool) error {
	if archives && !trees {
		return usage("--with-archives needs --trees; to delete only the archives: fernladder clean --archives %s", strings.Join(names, " "))
	}
	m, err := a.open()
	if err != nil {
		return err
	}
	if trees && !yes && a.screen.Interactive(os.Stdin) {
		gone, err := clean.Landings(m, names)
		if err != nil {
			return err
		}
		if len(gone) > 0 && !a.agrees(fmt.Sprintf("Earlier landings that use these trees will be deleted with them: %s. Go on?", strings.Trim(fmt.Sprint(gone), "[]"))) {
			return usage("nothing was removed")
		}
	}
	var stored clean.Candidates
	if archives { // while the receipts say which they are
		if stored, err = clean.ArchivesOf(m, names); err != nil {
			return err
		}
	}
	r, err := clean.Remove(ctx, m, names, trees)
	for _, name := range r.Unknown {
		a.screen.Note("Nothing of %s is installed.", name)
	}
	for _, ref := range r.Aside {
		a.screen.Note("The receipt of %s %s cannot be read, so its tree was moved to %s; clean deletes it.", ref.Name, ref.Version, m.Store.Damaged())
	}
	a.showStayed(r.Deleted)
	if err != nil {
		return err
	}
	if len(stored.Archives) > 0 {
		gone, err := clean.Delete(ctx, m, stored)
		a.showStayed(gone)
		if err != nil {
			return err
		}
	}
	changed := r.Before.Number != r.After.Number
	if a.screen.JSON {
		return a.screen.PrintJSON(map[string]any{"landing": r.After, "changed": changed, "deleted": append([]store.Ref{}, r.Deleted.Trees...),
			"forgotten_landings": append([]int{}, r.Landings...), "stayed": append([]clean.Stayed{}, r.Stayed...)})
	}
	for _, line := range changes(m, nil, r.Before.Members, r.After.Members) {
		a.screen.Print("%s", line)
	}
	if changed {
		a.showLanded(m, install.Landed{Result: r.Result})
	} else {
		a.screen.Print("The landing had none of it, and stays as it was.")
	}
	switch {
	case trees:
		a.screen.Print("Deleted %s, %s.", term.Count(len(r.Deleted.Trees), "tree"), term.Bytes(r.Deleted.Bytes))
		if len(stored.Archives) > 0 {
			a.screen.Print("Deleted their archives, %s.", term.Bytes(stored.ArchiveBytes()))
		}
		if len(r.Landings) > 0 {
			a.screen.Print("Earlier landings that used them are gone too: %s.", strings.Trim(fmt.Sprint(r.Landings), "[]"))
		}
	case len(r.Trees) > 0:
		a.screen.Note("The trees stay (%s); to delete them too: fernladder remove --trees %s", sizes(r.Trees), strings.Join(names, " "))
	}
	return nil
}
