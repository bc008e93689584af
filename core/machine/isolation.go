package machine

import (
	"context"
	"fmt"
	"os"
	"strings"

	"fernladder/core/problem"
	"fernladder/core/sandbox"
)

// Isolation is the isolation of builds and tries: the best that the machine supports, or the
// requested one, and at least what the settings require. It is tested on first use, in the root,
// which must be prepared. If root builds, there must be users to build as.
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
		return "", problem.New(problem.Usage, "isolation", "isolation %s is below the minimum in the settings (%s, in %s)",
			asked, least, m.Settings.File).
			Instead(string(least), string(asked))
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
		return "", weak(asked, best, why)
	case !best.AtLeast(least):
		return "", weak(least, best, why)
	case asked != "" && asked != best:
		// A lower level can have requirements that the highest does not, such as access through the
		// root.
		return asked, sandbox.Try(asked, dir, user)
	}
	return best, nil
}

// Scratch creates a directory for work of the program itself that is no build, and lends a user
// with access to it until done is called.
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

// weak is the problem of a machine that cannot isolate builds as far as the settings or the
// request require.
func weak(wanted, best sandbox.Level, why error) error {
	return problem.New(problem.Host, "isolation",
		"this machine can build at most %s, but at least %s is required\n    %s\n"+
			"  Allow user namespaces or Landlock in the kernel, or set a lower isolation in the settings.",
		best, wanted, strings.ReplaceAll(strings.TrimSpace(fmt.Sprint(why)), "\n", "\n    ")).
		Instead(string(wanted), string(best))
}
