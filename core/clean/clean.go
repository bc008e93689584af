// Package clean finds what can be deleted from a root, and deletes it.
//
// Candidates are values: they say what could be deleted and how much that frees. Before
// deletion, each is checked again under its lock, because anything may have come into use
// meanwhile: such things stay, and are reported. Trees are deleted before their needs, so that
// whenever this ends, no tree is left without its needs.
package clean

import (
	"context"
	"errors"
	"slices"

	"fernladder/core/event"
	"fernladder/core/filelock"
	"fernladder/core/landing"
	"fernladder/core/machine"
	"fernladder/core/recipe"
	"fernladder/core/safefs"
	"fernladder/core/store"
)

// Reason is why something was not deleted.
type Reason string

// The reasons.
const (
	BeingBuilt Reason = "being_built" // another process works in it, or a build sees it
	InUse      Reason = "in_use"      // it is on the landing now, or needed there
	NeededNow  Reason = "needed"      // another tree needs it
)

// Stayed is something that was not deleted after all.
type Stayed struct {
	Build store.Ref `json:"build"`
	Why   Reason    `json:"why"`
	By    store.Ref `json:"by,omitzero"` // of NeededNow: the tree that needs it
}

// Deleted is the outcome for candidates.
type Deleted struct {
	Works    []store.Ref `json:"works"`
	Trees    []store.Ref `json:"trees"`
	Logs     []store.Ref `json:"logs"`
	Landings []int       `json:"forgotten_landings"` // earlier states that were named, or had the trees
	Archives int         `json:"archives_kept"`      // that another process is fetching
	Bytes    int64       `json:"bytes"`
	Stayed   []Stayed    `json:"stayed"`
}

// Delete deletes candidates that still are. It waits only for a process that changes the
// landing. It also reports what was deleted when it ends with an error.
func Delete(ctx context.Context, m *machine.Machine, c Candidates) (d Deleted, err error) {
	if err := d.forget(ctx, m, c.Landings); err != nil {
		return d, err
	}
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
	unusedStill := func(r store.Ref, states []landing.Remembered, all []*store.Receipt) bool {
		return slices.ContainsFunc(unused(all, states, c.What), func(t *store.Receipt) bool { return t.Ref == r })
	}
	if err := d.deleteTrees(ctx, m, c.Trees, unusedStill, false); err != nil {
		return d, err
	}
	for _, l := range c.Logs {
		if err := d.deleteLogs(m, l); err != nil {
			return d, err
		}
	}
	for _, a := range c.Damaged {
		if err := safefs.Remove(a.Path); err != nil {
			return d, m.Store.Wrap(err)
		}
		d.Bytes += a.Size
	}
	freed, kept, err := m.Archives.Delete(ctx, c.Archives)
	d.Archives, d.Bytes = kept, d.Bytes+freed
	return d, m.Store.Wrap(err)
}

// Sweep deletes what killed programs left of states of the landing.
func Sweep(ctx context.Context, m *machine.Machine) error {
	unlock, err := m.Store.LockLanding(ctx, m.TellLandingHeld)
	if err != nil {
		return err
	}
	defer unlock()
	return landing.Sweep(m.Store)
}

// forget deletes states of the landing that are not in use by now.
func (d *Deleted) forget(ctx context.Context, m *machine.Machine, states []landing.Remembered) error {
	if len(states) == 0 {
		return nil
	}
	unlock, err := m.Store.LockLanding(ctx, m.TellLandingHeld)
	if err != nil {
		return err
	}
	defer unlock()
	d.Landings, err = landing.Forget(m.Store, states)
	return err
}

// deleteLogs deletes the logs of a build that still does not exist and that no process works on.
func (d *Deleted) deleteLogs(m *machine.Machine, l Log) error {
	unlock, err := m.Store.LockBuildNow(l.Ref)
	if errors.Is(err, filelock.ErrHeld) {
		d.Stayed = append(d.Stayed, Stayed{Build: l.Ref, Why: BeingBuilt})
		return nil
	}
	if err != nil {
		return err
	}
	defer unlock()
	if m.Store.Installed(l.Ref) {
		return nil
	}
	if err := safefs.Remove(m.Store.Logs(l.Ref)); err != nil {
		return m.Store.Wrap(err)
	}
	d.Logs = append(d.Logs, l.Ref)
	d.Bytes += l.Size
	return nil
}

// mayGo reports whether a tree may be deleted, judged by the states of the landing and the
// existing trees while no other process can change the landing.
type mayGo func(r store.Ref, states []landing.Remembered, all []*store.Receipt) bool

// deleteTrees deletes trees that may go, each before its needs. With wait, it waits for a build
// that uses one, holding no lock; otherwise the tree stays.
func (d *Deleted) deleteTrees(ctx context.Context, m *machine.Machine, doomed []*store.Receipt, mayGo mayGo,
	wait bool) error {
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
		m.Tell(event.Event{Kind: event.Waiting, Package: r.Name, Version: r.Version, ID: r.ID,
			Text: "another fernladder that builds with it"})
	})
}

// deleteTree deletes a tree whose lock the caller holds, and the earlier landings with it.
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
	states, err := landing.History(m.Store)
	if err != nil {
		return err
	}
	all, err := m.Store.Receipts()
	if err != nil {
		return err
	}
	if !mayGo(r.Ref, states, all) {
		d.Stayed = append(d.Stayed, Stayed{Build: r.Ref, Why: InUse})
		return nil
	}
	if by, _, needed := stillNeeded(all, []*store.Receipt{r}); needed {
		d.Stayed = append(d.Stayed, Stayed{Build: r.Ref, Why: NeededNow, By: by})
		return nil
	}
	states = slices.DeleteFunc(states, func(x landing.Remembered) bool { return x.Has(r.Ref) == nil })
	forgotten, err := landing.Forget(m.Store, states)
	d.Landings = append(d.Landings, forgotten...)
	if err != nil {
		return err
	}
	// A program that was killed at its very end may have left its work directory.
	if err := safefs.Remove(m.Store.Work(r.Ref)); err != nil {
		return m.Store.Wrap(err)
	}
	if err := m.Store.Remove(r.Ref); err != nil {
		return err
	}
	d.Trees = append(d.Trees, r.Ref)
	d.Bytes += r.Size
	return m.Store.Wrap(safefs.Remove(m.Store.Logs(r.Ref)))
}

// stillNeeded finds a tree that is linked or runs with a doomed one and is not among them.
func stillNeeded(all, doomed []*store.Receipt) (by, tree store.Ref, needed bool) {
	for _, r := range all {
		if slices.ContainsFunc(doomed, func(d *store.Receipt) bool { return d.Ref == r.Ref }) {
			continue
		}
		for _, need := range r.Needs {
			if need.Role != recipe.Tool &&
				slices.ContainsFunc(doomed, func(d *store.Receipt) bool { return d.Ref == need.Ref }) {
				return r.Ref, need.Ref, true
			}
		}
	}
	return by, tree, false
}

// dependantsFirst orders trees so that each comes before its needs.
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
