// Package reclaim finds what can be deleted from a root, and deletes it.
//
// Candidates are values: they say what could go and how much it frees. Whether it
// still can is looked at again under the lock of each, for anything may have come into
// use since: what has, stays, and is told. Trees go before what they stand on, so that
// whenever this ends, none is left whose needs are gone.
package reclaim

import (
	"context"
	"errors"
	"slices"

	"fernladder/core/build"
	"fernladder/core/event"
	"fernladder/core/filelock"
	"fernladder/core/ground"
	"fernladder/core/landing"
	"fernladder/core/machine"
	"fernladder/core/named"
	"fernladder/core/recipe"
	"fernladder/core/store"
)

// What says what is looked for.
type What struct {
	Names    []named.Name // of whose packages; none: of all
	Trees    bool         // trees that nothing on the landing stands on
	Archives bool         // verified archives
}

// Candidates are what can be deleted.
type Candidates struct {
	What     What
	Works    []build.Work // directories of builds that have failed or were broken off
	Trees    []*store.Receipt
	Archives int64 // bytes of archives
}

// Bytes is how much they take.
func (c Candidates) Bytes() int64 {
	total := c.Archives
	for _, w := range c.Works {
		total += w.Size
	}
	for _, t := range c.Trees {
		total += t.Size
	}
	return total
}

// Empty tells whether there is nothing to delete.
func (c Candidates) Empty() bool { return len(c.Works)+len(c.Trees) == 0 && c.Archives == 0 }

// names tells whether something of a build is looked for.
func (w What) names(r store.Ref) bool {
	return len(w.Names) == 0 || slices.ContainsFunc(w.Names, func(n named.Name) bool { return n.Fits(r, false) || n.ID == "" && n.String() == r.Name })
}

// Find finds what can be deleted.
func Find(m *machine.Machine, what What) (Candidates, error) {
	c := Candidates{What: what}
	works, err := build.Works(m.Store)
	if err != nil {
		return c, err
	}
	for _, w := range works {
		if what.names(w.Ref) {
			c.Works = append(c.Works, w)
		}
	}
	if what.Trees {
		receipts, err := m.Store.Receipts()
		if err != nil {
			return c, err
		}
		current, err := landing.Current(m.Store)
		if err != nil {
			return c, err
		}
		c.Trees = unused(receipts, current, what)
	}
	if what.Archives {
		c.Archives = ground.Size(m.Store.Archives())
	}
	return c, nil
}

// unused lists the trees that nothing on the landing stands on, as it runs or as it
// was built.
func unused(receipts []*store.Receipt, current landing.State, what What) []*store.Receipt {
	byRef := map[store.Ref]*store.Receipt{}
	for _, r := range receipts {
		byRef[r.Ref] = r
	}
	used := map[store.Ref]bool{}
	var use func(r store.Ref)
	use = func(r store.Ref) {
		if used[r] || byRef[r] == nil {
			return
		}
		used[r] = true
		for _, need := range byRef[r].Needs {
			use(need.Ref)
		}
	}
	for _, m := range current.Members {
		use(m.Ref)
	}
	for _, r := range receipts { // what is named keeps what others stand on
		if len(what.Names) > 0 && !slices.ContainsFunc(what.Names, func(n named.Name) bool { return n.FitsReceipt(r) }) {
			use(r.Ref)
		}
	}
	return slices.DeleteFunc(slices.Clone(receipts), func(r *store.Receipt) bool { return used[r.Ref] })
}

// Reason is why something was not deleted.
type Reason string

// The reasons.
const (
	BeingBuilt Reason = "being_built" // somebody works in it, or a build sees it
	InUse      Reason = "in_use"      // it has come onto the landing, or something there stands on it
	NeededNow  Reason = "needed"      // another tree stands on it
)

// Stayed is something that was not deleted after all.
type Stayed struct {
	Build store.Ref `json:"build"`
	Why   Reason    `json:"why"`
	By    store.Ref `json:"by,omitzero"` // of NeededNow: the tree that stands on it
}

// Deleted is what became of candidates.
type Deleted struct {
	Works    []store.Ref `json:"works"`
	Trees    []store.Ref `json:"trees"`
	Landings []int       `json:"forgotten_landings"` // earlier states that had the trees
	Archives int         `json:"archives_kept"`      // that somebody is bringing
	Bytes    int64       `json:"bytes"`
	Stayed   []Stayed    `json:"stayed"`
}

// Delete deletes candidates, those that still are. It waits for nobody. What was
// deleted is told also when it ends with an error.
func Delete(ctx context.Context, m *machine.Machine, c Candidates) (d Deleted, err error) {
	for _, w := range c.Works {
		gone, err := w.Delete(m.Store)
		switch {
		case err != nil:
			return d, err
		case !gone:
			d.Stayed = append(d.Stayed, Stayed{Build: w.Ref, Why: BeingBuilt})
		default:
			d.Works = append(d.Works, w.Ref)
			d.Bytes += w.Size
		}
	}
	unusedStill := func(r store.Ref, current landing.State, all []*store.Receipt) bool {
		return slices.ContainsFunc(unused(all, current, c.What), func(t *store.Receipt) bool { return t.Ref == r })
	}
	if err := d.deleteTrees(ctx, m, c.Trees, unusedStill, false); err != nil {
		return d, err
	}
	if c.Archives > 0 {
		before := ground.Size(m.Store.Archives())
		d.Archives, err = m.Archives.Clear(ctx)
		d.Bytes += before - ground.Size(m.Store.Archives())
	}
	return d, m.Store.Wrap(err)
}

// mayGo tells whether a tree may be deleted, by the landing and the trees that are
// there while nobody else can change the landing.
type mayGo func(r store.Ref, current landing.State, all []*store.Receipt) bool

// deleteTrees deletes trees, each before what it stands on, as long as each may go. A build that uses one is waited for, if
// wait says so, while nothing is locked; else the tree stays.
func (d *Deleted) deleteTrees(ctx context.Context, m *machine.Machine, doomed []*store.Receipt, mayGo mayGo, wait bool) error {
	for _, r := range dependantsFirst(doomed) {
		unlock, err := lockTree(ctx, m, r.Ref, wait)
		if errors.Is(err, filelock.ErrHeld) {
			d.Stayed = append(d.Stayed, Stayed{Build: r.Ref, Why: BeingBuilt})
			continue
		}
		if err != nil {
			return err
		}
		err = d.deleteTree(ctx, m, r, mayGo)
		unlock()
		if err != nil {
			return err
		}
	}
	slices.Sort(d.Landings)
	return nil
}

func lockTree(ctx context.Context, m *machine.Machine, r store.Ref, wait bool) (func(), error) {
	if !wait {
		return m.Store.LockBuildNow(r)
	}
	return m.Store.LockBuild(ctx, r, func() {
		m.Tell(event.Event{Kind: event.Waiting, Package: r.Name, Version: r.Version, ID: r.ID, Text: "another fernladder that builds with it"})
	})
}

// deleteTree deletes a tree whose lock the caller holds, and the earlier landings that
// had it.
func (d *Deleted) deleteTree(ctx context.Context, m *machine.Machine, r *store.Receipt, mayGo mayGo) error {
	unlock, err := m.Store.LockLanding(ctx, m.TellLandingHeld)
	if err != nil {
		return err
	}
	defer unlock()
	if err := landing.Sweep(m.Store); err != nil {
		return err
	}
	if !m.Store.Installed(r.Ref) {
		return nil // another program was faster
	}
	current, err := landing.Current(m.Store)
	if err != nil {
		return err
	}
	all, err := m.Store.Receipts()
	if err != nil {
		return err
	}
	if !mayGo(r.Ref, current, all) {
		d.Stayed = append(d.Stayed, Stayed{Build: r.Ref, Why: InUse})
		return nil
	}
	if by := stillNeeded(all, []*store.Receipt{r}); by != nil {
		d.Stayed = append(d.Stayed, Stayed{Build: r.Ref, Why: NeededNow, By: by.By})
		return nil
	}
	forgotten, err := landing.Forget(m.Store, func(x landing.State) bool { return x.Has(r.Ref) != nil })
	d.Landings = append(d.Landings, forgotten...)
	if err != nil {
		return err
	}
	// A program that was killed at its very end may have left what it was built in.
	if err := ground.Remove(m.Store.Work(r.Ref)); err != nil {
		return m.Store.Wrap(err)
	}
	if err := m.Store.Remove(r.Ref); err != nil {
		return err
	}
	d.Trees = append(d.Trees, r.Ref)
	d.Bytes += r.Size
	return m.Store.Wrap(ground.Remove(m.Store.Logs(r.Ref)))
}

// Needed is the error for trees that others are linked with or run with.
type Needed struct {
	By, Tree store.Ref
}

func (e *Needed) Error() string {
	return e.By.Name + " " + e.By.Version + " (" + e.By.ID + ") needs " + e.Tree.Name + " " + e.Tree.Version
}

// stillNeeded says which tree is linked with or runs with one of these and is not
// among them, or nil.
func stillNeeded(all, doomed []*store.Receipt) *Needed {
	for _, r := range all {
		if slices.ContainsFunc(doomed, func(d *store.Receipt) bool { return d.Ref == r.Ref }) {
			continue
		}
		for _, need := range r.Needs {
			if need.Role != recipe.Tool && slices.ContainsFunc(doomed, func(d *store.Receipt) bool { return d.Ref == need.Ref }) {
				return &Needed{By: r.Ref, Tree: need.Ref}
			}
		}
	}
	return nil
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
