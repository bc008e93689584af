package machine

import (
	"context"
	"fmt"
	"os"
	"strings"

	"fernladder/core/sandbox"
)

// WeakIsolation is the error when the machine cannot keep builds apart as far as
// the settings, or a person, want it.
type WeakIsolation struct {
	Wanted, Best sandbox.Level
	Why          error // what stands in the way of more
}

func (e *WeakIsolation) Error() string {
	return fmt.Sprintf("this machine can build %s at the most, but the least that is accepted is %s\n    %s\n"+
		"  Allow user namespaces or Landlock in the kernel, or accept less with isolation in the settings.",
		e.Best, e.Wanted, strings.ReplaceAll(strings.TrimSpace(fmt.Sprint(e.Why)), "\n", "\n    "))
}

// LessThanAccepted is the error for a level below the least that the settings accept.
type LessThanAccepted struct {
	Asked, Least sandbox.Level
	Settings     string // the file
}

func (e *LessThanAccepted) Error() string {
	return fmt.Sprintf("the isolation %s is less than the settings accept (%s, in %s)", e.Asked, e.Least, e.Settings)
}

// Isolation is how far builds and tries are kept apart: as far as the machine can,
// or as was asked, and at least as far as the settings want. It tries that the first
// time, in the root, which has to be prepared. Where root builds, there have to be
// users for it to build as.
func (m *Machine) Isolation(ctx context.Context) (sandbox.Level, error) {
	m.isolation.lock.Lock()
	defer m.isolation.lock.Unlock()
	if m.isolation.level != "" {
		return m.isolation.level, nil
	}
	level, err := m.tryIsolation(ctx)
	if err == nil {
		m.isolation.level = level
	}
	return level, err
}

func (m *Machine) tryIsolation(ctx context.Context) (sandbox.Level, error) {
	least, asked := m.Settings.Isolation, m.Level
	if least == "" {
		least = sandbox.Open
	}
	if asked != "" && !asked.AtLeast(least) {
		return "", &LessThanAccepted{asked, least, m.Settings.File}
	}
	if m.Place.Super {
		if err := m.Settings.Users.Check(); err != nil {
			return "", err
		}
	}
	dir, user, done, err := m.Scratch(ctx, "room")
	if err != nil {
		return "", err
	}
	defer done()
	if asked == sandbox.Open {
		return sandbox.Open, sandbox.Try(sandbox.Open, dir, user)
	}
	best, why := sandbox.Strongest(dir, user)
	switch {
	case asked != "" && !best.AtLeast(asked):
		return "", &WeakIsolation{asked, best, why}
	case !best.AtLeast(least):
		return "", &WeakIsolation{least, best, why}
	case asked != "" && asked != best:
		// What is kept apart less can need what the best does not, as to come through the root.
		return asked, sandbox.Try(asked, dir, user)
	}
	return best, nil
}

// Scratch makes a directory of the program's own for work that is no build, and
// lends a user for it, who may come through the directory, until done is called.
func (m *Machine) Scratch(ctx context.Context, kind string) (base string, user sandbox.User, done func(), err error) {
	base, deleted, err := m.Store.Scratch(kind)
	if err != nil {
		return "", sandbox.User{}, nil, m.Store.Wrap(err)
	}
	user, giveBack, err := m.Settings.Users.Lend(ctx, sandbox.User{}, base)
	if err != nil {
		deleted()
		return "", sandbox.User{}, nil, err
	}
	done = func() { giveBack(); deleted() }
	if user.Other() {
		if err := os.Chown(base, -1, user.GID); err != nil {
			done()
			return "", sandbox.User{}, nil, m.Store.Wrap(err)
		}
	}
	return base, user, done, nil
}
