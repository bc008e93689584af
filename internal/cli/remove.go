package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"fernladder/core/ground"
	"fernladder/core/landing"
	"fernladder/core/recipe"
	"fernladder/core/store"
	"fernladder/internal/term"
)

func (a *app) removeCommand() *cobra.Command {
	trees := false
	c := &cobra.Command{
		Use:   "remove NAME...",
		Short: "Take packages off the landing",
		Long: `Takes packages off the landing, with what only they needed when they run. Their
trees stay, so that installing them again takes no time. With --trees, all trees
of the packages are deleted too, unless another installed package needs them.`,
		Example: `  fernladder remove glasshouse
  fernladder remove mistplan --trees`,
		Args:              atLeastOne,
		ValidArgsFunction: a.completeInstalled,
		RunE:              func(c *cobra.Command, args []string) error { return a.remove(c.Context(), args, trees) },
	}
	c.Flags().BoolVar(&trees, "trees", false, "delete their trees too")
	return c
}

func (a *app) remove(ctx context.Context, names []string, trees bool) error {
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
	var doomed []*store.Receipt
	for _, name := range names {
		before := len(doomed)
		for _, r := range receipts {
			if r.Name == name {
				doomed = append(doomed, r)
			}
		}
		if len(doomed) > before || current.Find(name) != nil {
			continue
		}
		// What is gone already was perhaps removed by the same command, that was
		// ended; what nobody has ever heard of is a mistake.
		if logs, err := s.store.Logged(name); err != nil || len(logs) == 0 {
			if _, err := s.shelves.Find(name); err != nil {
				return &notInstalled{name, s.store.Root}
			}
		}
		a.screen.Note("Nothing of %s is installed.", name)
	}
	if trees {
		if err := stillNeeded(receipts, doomed); err != nil {
			return err
		}
	}
	if err := s.store.Prepare(); err != nil {
		return err
	}
	var forgotten []int
	before, after, err := a.changeLanding(ctx, s.store, func(current landing.State) ([]store.Ref, error) {
		return without(s.store, current, names)
	}, func(landing.State) (err error) {
		if trees {
			forgotten, err = a.deleteTrees(ctx, s.store, doomed)
		}
		return err
	})
	if err != nil {
		return err
	}
	if a.screen.JSON {
		deleted := []store.Ref{}
		for _, r := range doomed {
			if trees {
				deleted = append(deleted, r.Ref)
			}
		}
		return a.screen.PrintJSON(map[string]any{"landing": after, "changed": before.Number != after.Number, "deleted": deleted, "forgotten_landings": append([]int{}, forgotten...)})
	}
	for _, line := range changes(before, after) {
		a.screen.Print("%s", line)
	}
	if before.Number != after.Number {
		a.screen.Print("Landing %d is in use: %s", after.Number, landing.Directory(s.store))
	} else {
		a.screen.Print("The landing had none of it, and stays as it was.")
	}
	switch {
	case trees:
		a.screen.Print("Deleted %s, %s.", term.Count(len(doomed), "tree"), sizes(doomed))
		if len(forgotten) > 0 {
			a.screen.Print("Earlier landings that used them are gone too: %s.", strings.Trim(fmt.Sprint(forgotten), "[]"))
		}
	default:
		a.screen.Note("The trees stay (%s); to delete them too: fernladder remove --trees %s", sizes(doomed), strings.Join(names, " "))
	}
	return nil
}

// without are the builds that stay asked for when names are not. What another
// member needs when it runs cannot go.
func without(s *store.Store, current landing.State, names []string) ([]store.Ref, error) {
	var asked []store.Ref
	for _, m := range current.Members {
		if m.Asked && !slices.Contains(names, m.Name) {
			asked = append(asked, m.Ref)
		}
	}
	left, err := landing.Members(asked, s.Needs)
	if err != nil {
		return nil, err
	}
	for _, m := range left {
		if slices.Contains(names, m.Name) && !current.Find(m.Name).Asked {
			return nil, usage("%s is on the landing because %s needs it to run; remove that first", m.Name, runner(s, left, m.Ref))
		}
	}
	return asked, nil
}

// runner names a member that needs r when it runs.
func runner(s *store.Store, members []landing.Member, r store.Ref) string {
	for _, m := range members {
		receipt, err := s.Receipt(m.Ref)
		if err == nil && slices.Contains(receipt.Needs, store.Link{Ref: r, Role: recipe.Runtime}) {
			return m.Name
		}
	}
	return "another package"
}

// stillNeeded refuses to delete trees that others are linked with or run with.
func stillNeeded(all, doomed []*store.Receipt) error {
	for _, r := range all {
		if slices.ContainsFunc(doomed, func(d *store.Receipt) bool { return d.Ref == r.Ref }) {
			continue
		}
		for _, need := range r.Needs {
			if need.Role != recipe.Tool && slices.ContainsFunc(doomed, func(d *store.Receipt) bool { return d.Ref == need.Ref }) {
				return usage("%s %s (%s) needs %s %s; remove it too: fernladder remove --trees %s %s",
					r.Name, r.Version, r.ID, need.Name, need.Version, need.Name, r.Name)
			}
		}
	}
	return nil
}

// deleteTrees deletes trees and the earlier landings that used them, each before
// what it stands on, so that whenever it ends, no tree is left whose needs are gone.
// The caller holds the landing's lock, so that none comes back onto it meanwhile; a
// build that is using one is waited for, and may need it from then on.
func (a *app) deleteTrees(ctx context.Context, s *store.Store, doomed []*store.Receipt) (forgotten []int, err error) {
	for _, r := range dependantsFirst(doomed) {
		numbers, err := a.deleteTree(ctx, s, r, doomed)
		if err != nil {
			return forgotten, err
		}
		forgotten = append(forgotten, numbers...)
	}
	slices.Sort(forgotten)
	return forgotten, nil
}

func (a *app) deleteTree(ctx context.Context, s *store.Store, r *store.Receipt, doomed []*store.Receipt) (forgotten []int, err error) {
	unlock, err := s.LockBuild(ctx, r.Ref, func() { a.screen.Note("Waiting for another fernladder that builds %s.", r.Name) })
	if err != nil {
		return nil, err
	}
	defer unlock()
	all, err := s.Receipts()
	if err != nil {
		return nil, err
	}
	if err := stillNeeded(all, doomed); err != nil {
		return nil, err
	}
	if forgotten, err = landing.Forget(s, r.Ref); err != nil {
		return nil, err
	}
	// A program that was killed at its very end may have left what it was built in.
	if err := ground.Remove(s.Work(r.Ref)); err != nil {
		return forgotten, s.Wrap(err)
	}
	if err := s.Remove(r.Ref); err != nil {
		return forgotten, err
	}
	return forgotten, s.Wrap(ground.Remove(s.Logs(r.Ref)))
}

// dependantsFirst orders trees so that each comes before all that it needs.
func dependantsFirst(receipts []*store.Receipt) []*store.Receipt {
	byRef := map[store.Ref]*store.Receipt{}
	for _, r := range receipts {
		byRef[r.Ref] = r
	}
	var ordered []*store.Receipt
	seen := map[store.Ref]bool{}
	var visit func(r *store.Receipt)
	visit = func(r *store.Receipt) {
		if r == nil || seen[r.Ref] {
			return
		}
		seen[r.Ref] = true
		for _, need := range r.Needs {
			visit(byRef[need.Ref])
		}
		ordered = append(ordered, r)
	}
	for _, r := range receipts {
		visit(r)
	}
	slices.Reverse(ordered)
	return ordered
}
