package install

import (
	"context"
	"errors"
	"io/fs"
	"slices"

	"fernladder/core/landing"
	"fernladder/core/lock"
	"fernladder/core/machine"
	"fernladder/core/plan"
	"fernladder/core/problem"
	"fernladder/core/recipe"
	"fernladder/core/store"
)

// Lock writes the ladder of a plan to the lock file. It replaces the whole file if the plan is
// that of everything wanted on the machine.
func Lock(ctx context.Context, m *machine.Machine, p *plan.Plan) (*lock.File, error) {
	if err := fromVerified(m, p); err != nil {
		return nil, err
	}
	builds, compilers := p.Entries()
	return ChangeLock(ctx, m, func(now *lock.File) {
		now.SetBuilds(builds, p.AllWanted)
		now.Arch = m.System.Arch
		if !p.AllWanted {
			compilers = append(compilers, now.Compilers...)
			slices.Sort(compilers)
			compilers = slices.Compact(compilers)
		}
		now.Compilers = compilers
	})
}

// fromVerified returns an error if an existing build of the plan was not made from verified
// sources.
func fromVerified(m *machine.Machine, p *plan.Plan) error {
	for _, j := range p.Jobs {
		receipt, err := m.Store.Receipt(j.Ref)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return err
		}
		if receipt.Edited {
			return problem.New(problem.Build, j.Name,
				"%s %s (%s) was built from a source that was changed by hand; such a build is not locked", j.Name, j.Version, j.ID).
				Coded(Edited).Remedy(problem.RemoveReinstall, j.Name)
		}
	}
	return nil
}

// KeepLock writes what was installed to the lock file, if there is one and it differs. With an
// error of the code Edited, the file is unchanged.
func KeepLock(ctx context.Context, m *machine.Machine, p *plan.Plan) error {
	if !p.Lock.There || p.Ask.Locked {
		return nil
	}
	_, err := Lock(ctx, m, p)
	return err
}

// Locked is a build of the lock file whose package has another build on the landing.
type Locked struct {
	On     store.Ref
	Locked *lock.Build
}

// OtherThanLocked are the requested builds of a landing that differ in release or options from
// the lock file, whose name is returned.
func OtherThanLocked(m *machine.Machine, on landing.State) (other []Locked, file string, err error) {
	f, err := plan.ReadLock(m)
	if err != nil {
		return nil, "", err
	}
	for _, member := range on.Members {
		if !member.Asked || member.Beside {
			continue
		}
		for _, b := range f.Builds {
			if b.Name == member.Name && !b.Apart &&
				(b.Version.String() != member.Version || f.Arch == m.System.Arch && b.ID != member.ID) {
				other = append(other, Locked{member.Ref, b})
			}
		}
	}
	return other, f.Shown, nil
}

// ChangeLock reads, changes and writes the lock file in one step: since it was read for a plan,
// hours may have passed, and others may have written to it.
func ChangeLock(ctx context.Context, m *machine.Machine, change func(*lock.File)) (*lock.File, error) {
	if err := m.Store.Prepare(); err != nil {
		return nil, err
	}
	unlock, err := m.Store.LockFile(ctx, plan.LockPath(m))
	if err != nil {
		return nil, err
	}
	defer unlock()
	file, err := plan.ReadLock(m)
	if err != nil {
		return nil, err
	}
	change(file)
	return file, m.Store.Wrap(file.Write())
}

// Pinned is the head of a branch that was looked up.
type Pinned struct {
	Name   string
	Before recipe.Pin // zero where there was none
	Now    recipe.Pin
	File   string // that it is written in
}

// Pin looks up the requested heads of branches that are not pinned yet, and those that an
// upgrade moves, and writes them to the lock file. It is a step before planning, because it
// fetches.
func Pin(ctx context.Context, m *machine.Machine, ask plan.Ask) ([]Pinned, error) {
	wanted, file, err := plan.Tips(m, ask)
	if err != nil || len(wanted) == 0 {
		return nil, err
	}
	var all []Pinned
	for _, w := range wanted {
		r, err := m.Shelves.Find(w.Name)
		if err != nil || r.Tip() == nil {
			continue // which the resolver explains
		}
		before, known := file.Pin(r)
		if known && !ask.Upgrade {
			continue
		}
		now, err := pin(ctx, m, r)
		if err != nil {
			return all, err
		}
		all = append(all, Pinned{Name: r.Name, Before: before, Now: now, File: file.Shown})
	}
	return all, nil
}

// pin looks up the tip of a recipe and writes it to the lock file.
func pin(ctx context.Context, m *machine.Machine, r *recipe.Recipe) (recipe.Pin, error) {
	if err := m.Store.Prepare(); err != nil {
		return recipe.Pin{}, err
	}
	tip := r.Tip()
	if err := m.MayRead(r, tip); err != nil {
		return recipe.Pin{}, err
	}
	found, err := m.Repositories.Head(ctx, tip, r.Name, r.ExpandURL(tip.Repository(), ""))
	if err != nil {
		return found, m.Stored(err)
	}
	_, err = ChangeLock(ctx, m, func(now *lock.File) { now.SetTip(r, found) })
	return found, err
}

// Edited is the problem of a build that cannot be locked: its source was changed by hand, so no
// other machine can build it.
const Edited problem.Code = "edited_build"
