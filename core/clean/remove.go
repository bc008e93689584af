package clean

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"fernladder/core/install"
	"fernladder/core/landing"
	"fernladder/core/lock"
	"fernladder/core/machine"
	"fernladder/core/problem"
	"fernladder/core/recipe"
	"fernladder/core/store"
	"fernladder/core/version"
)

// Runs is the error for a package that cannot leave the landing, because another that stays
// needs it to run.
type Runs struct{ Name, With string }

func (e *Runs) Error() string {
	return fmt.Sprintf("%s is on the landing because %s needs it to run", e.Name, e.With)
}

// Removed is the outcome of a removal.
type Removed struct {
	landing.Result
	Trees   []*store.Receipt // the named builds; they are deleted if that was requested
	Aside   []store.Ref      // builds with unreadable receipts; they were moved aside
	Unknown []string         // named, and nothing of it is installed any more
	Deleted
}

// Remove takes the named builds off the landing, with what only they needed at run time; with
// trees, it deletes the trees that the names fit, and removes them from the lock file. If
// something is gone already, the same command may have removed it before it was interrupted;
// what never existed has the code landing.NoBuild. Other errors have the code landing.BadName,
// or are a *Runs.
func Remove(ctx context.Context, m *machine.Machine, texts []string, trees bool) (r Removed, err error) {
	current, err := landing.Current(m.Store)
	if err != nil {
		return r, err
	}
	var names []landing.Named
	for _, text := range texts {
		name, err := landing.ParseName(text)
		if err != nil {
			return r, err
		}
		names = append(names, name)
		for _, unreadable := range m.Store.Unreadable(name.Name) {
			if trees && name.Fits(unreadable, false) {
				if _, err := m.Store.SetAside(ctx, unreadable); err != nil {
					return r, err
				}
				r.Aside = append(r.Aside, unreadable)
			}
		}
		found, err := name.All(m.Store)
		if errors.Is(err, landing.NoBuild) && current.Find(name.Name) == nil && len(r.Aside) == 0 {
			if !heardOf(m, name.Name) {
				return r, err
			}
			r.Unknown = append(r.Unknown, text)
		} else if err != nil && !errors.Is(err, landing.NoBuild) {
			return r, err
		}
		r.Trees = append(r.Trees, found...)
	}
	fits := func(x store.Ref) bool {
		return slices.ContainsFunc(names, func(n landing.Named) bool { return n.ID == "" && n.String() == x.Name }) ||
			slices.Contains(r.Aside, x) || slices.ContainsFunc(r.Trees, func(t *store.Receipt) bool { return t.Ref == x })
	}
	if trees {
		all, err := m.Store.Receipts()
		if err != nil {
			return r, err
		}
		if by, tree, needed := stillNeeded(all, r.Trees); needed {
			return r, problem.New(problem.Usage, tree.Name, "%s %s (%s) needs %s %s", by.Name, by.Version, by.ID, tree.Name,
				tree.Version).
				Remedy(problem.RemoveBoth, tree.Name, by.Name)
		}
	}
	if err := m.Store.Prepare(); err != nil {
		return r, err
	}
	u := m.Update()
	install.RenewCaches(ctx, m, &u)
	u.Choose = func(now landing.State) ([]landing.Asked, error) { return without(m.Store, now, fits) }
	r.Result, err = u.Do(ctx, m.Store)
	if err != nil || !trees {
		return r, err
	}
	offLanding := func(x store.Ref, states []landing.Remembered, _ []*store.Receipt) bool {
		return !slices.ContainsFunc(states, func(s landing.Remembered) bool { return s.InUse && s.Has(x) != nil })
	}
	if err := r.deleteTrees(ctx, m, r.Trees, offLanding, true); err != nil {
		return r, err
	}
	return r, forgetLocked(ctx, m, names)
}

// heardOf reports whether a package was ever built here, or could be.
func heardOf(m *machine.Machine, name string) bool {
	if logs, err := m.Store.Logged(name); err == nil && len(logs) > 0 {
		return true
	}
	_, err := m.Shelves.Find(name)
	return err == nil
}

// forgetLocked removes packages without any tree from the lock file.
func forgetLocked(ctx context.Context, m *machine.Machine, names []landing.Named) error {
	var gone []string
	for _, n := range names {
		left, err := m.Store.ReceiptsOf(n.Name)
		if err != nil {
			return err
		}
		if len(left) == 0 {
			gone = append(gone, n.Name)
		}
	}
	_, err := install.ChangeLock(ctx, m, func(f *lock.File) {
		if f.There {
			f.Drop(gone)
		}
	})
	return err
}

// without are the builds that stay requested without those that fit. A runtime need of another
// member cannot go.
func without(s *store.Store, current landing.State, fits func(store.Ref) bool) ([]landing.Asked, error) {
	asked := slices.DeleteFunc(current.Asked(), func(a landing.Asked) bool { return fits(a.Ref) })
	left, err := landing.Members(asked, s.Needs)
	if err != nil {
		return nil, err
	}
	if promote(asked, left) {
		if left, err = landing.Members(asked, s.Needs); err != nil {
			return nil, err
		}
	}
	for _, m := range left {
		if !fits(m.Ref) {
			continue
		}
		if now := current.Has(m.Ref); now == nil || !now.Asked {
			return nil, &Runs{Name: m.Name, With: runner(s, left, m.Ref)}
		}
	}
	return asked, nil
}

// promote gives the plain names of a package, all of whose builds are beside another that is
// gone, to the newest of them.
func promote(asked []landing.Asked, left []landing.Member) (done bool) {
	plain := map[string]bool{} // packages with the plain names
	for _, m := range left {
		plain[m.Name] = plain[m.Name] || !m.Beside
	}
	for _, m := range left {
		if plain[m.Name] {
			continue
		}
		newest := -1
		for i, a := range asked {
			if a.Name == m.Name && (newest < 0 || version.CompareTexts(a.Version, asked[newest].Version) > 0) {
				newest = i
			}
		}
		if newest >= 0 && asked[newest].Beside {
			asked[newest].Beside, done = false, true
		}
	}
	return done
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

// ProblemKind is the kind of the error.
func (e *Runs) ProblemKind() problem.Kind { return problem.Usage }

// ProblemRemedies are to remove the other package first.
func (e *Runs) ProblemRemedies() []problem.Remedy {
	return []problem.Remedy{problem.Do(problem.RemoveFirst, e.With)}
}
