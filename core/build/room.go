package build

import (
	"context"
	"errors"
	"os"
	"path/filepath"

	"fernladder/core/landing"
	"fernladder/core/machine"
	"fernladder/core/safefs"
	"fernladder/core/sandbox"
	"fernladder/core/store"
)

// A room is where the commands of an attempt run, once there is one.
type room struct {
	session  *sandbox.Session
	user     sandbox.User // whom its commands are on the machine
	giveBack func()       // the user
}

// spec is what a build may see and change: it may change its own box and the place of its tree;
// it may see what it is given, and the trees of its declared needs.
func (a *attempt) spec() (sandbox.Room, error) {
	r := sandbox.Room{
		Level: a.b.level, Point: a.dirs.room, Home: a.dirs.home,
		Visible:  append([]string{a.dirs.given}, a.m.OwnPath()...),
		Writable: []string{a.dirs.box}, User: a.room.user, Limits: a.m.Settings.Most,
	}
	if a.cache != nil {
		r.Visible = append(r.Visible, a.cache.kept)
	}
	for _, n := range visible(a.job) {
		if !n.Away {
			r.Visible = append(r.Visible, n.Tree)
		}
	}
	if a.job.Watch && r.Level != sandbox.Sealed {
		return r, ErrNotWatched
	}
	if a.job.Away() {
		return r, a.showPrefix(&r)
	}
	if r.Level == sandbox.Sealed {
		r.Stands = sandbox.Stand{In: a.dirs.prefix, For: a.job.Tree}
		return r, nil
	}
	r.Writable = append(r.Writable, a.job.Tree)
	if a.rebuild { // the tree is there, and is not to be changed
		return r, errNotSealed
	}
	return r, a.m.Store.Lend(a.job.Ref, a.room.user.UID, a.room.user.GID)
}

// enter makes the room of the build, shared by all its commands, if it does not exist yet.
func (a *attempt) enter(ctx context.Context) (*sandbox.Session, error) {
	if a.room.session != nil {
		return a.room.session, nil
	}
	spec, err := a.spec()
	if err != nil {
		return nil, err
	}
	session, err := a.enterBare(ctx, spec)
	if err != nil {
		return nil, err
	}
	a.room.session = session
	return session, nil
}

// leave ends the room, if there is one, with everything in it, and returns what was lent to the
// build.
func (a *attempt) leave() error {
	if a.room.session == nil {
		return nil
	}
	a.room.session.Leave()
	a.room.session = nil
	if a.job.Away() { // the next room has its own
		return errors.Join(safefs.Remove(a.dirs.seen), safefs.Remove(a.dirs.prefix))
	}
	return a.takeBack()
}

// takeBack deletes what a build put at the path of its tree. In a sealed room that is another
// directory.
func (a *attempt) takeBack() error {
	if a.rebuild || a.b.level == sandbox.Sealed {
		return nil
	}
	return a.m.Store.TakeBack(a.job.Ref)
}

// empty empties the directory into which makefiles that ignore DESTDIR place their files. An
// existing room keeps the directory itself.
func (a *attempt) empty() error {
	switch {
	case a.job.Away() && a.fills(): // the next room has it as it has to be
		return a.leave()
	case a.job.Away(): // it cannot be written to
		return nil
	case a.b.level == sandbox.Sealed || a.room.session != nil:
		return safefs.Empty(a.filled())
	}
	return nil
}

// filled is where makefiles that ignore DESTDIR place their files: the tree's own directory, or
// its stand-in in a sealed room.
func (a *attempt) filled() string {
	if a.b.level == sandbox.Sealed {
		return a.dirs.prefix
	}
	return a.job.Tree
}

// tryRoom is a room for the tries of a build, which see its tree and those of its runtime needs.
// They may change their working directory. base is the program's own.
func tryRoom(m *machine.Machine, level sandbox.Level, base string, user sandbox.User, tried *store.Receipt,
	visible []*store.Receipt) (sandbox.Room, error) {
	place := filepath.Join(base, "place")
	r := sandbox.Room{Level: level, Point: filepath.Join(base, "room"), Home: place, Writable: []string{place}, User: user,
		Limits: m.Settings.Most}
	r.Visible = append([]string{filepath.Join(base, "given")}, m.OwnPath()...)
	if tried.Prefix != "" {
		if level != sandbox.Sealed {
			return r, errPrefixNotSealed
		}
		builds, err := landing.BuiltWith(m.Store, tried)
		if err != nil {
			return r, err
		}
		union, err := landing.UnionOf(m.Store, builds)
		if err != nil {
			return r, err
		}
		r.Shown = sandbox.Stand{In: filepath.Join(base, "seen"), For: tried.Prefix}
		return r, union.Link(r.Shown.In)
	}
	for _, receipt := range visible {
		r.Visible = append(r.Visible, receipt.Tree)
		for _, c := range receipt.Configs {
			r.Visible = append(r.Visible, m.Store.ConfigFile(receipt.Name, c.File))
		}
		for _, c := range receipt.Writable {
			r.Visible = append(r.Visible, m.Store.StateDir(receipt.Name, c.File))
		}
		for _, need := range receipt.Needs { // libraries are found by run paths
			r.Visible = append(r.Visible, m.Store.Tree(need.Ref))
		}
	}
	return r, nil
}

// give gives a file, which the program has just created and no build has seen, to the user of
// commands.
func give(path string, user sandbox.User) error {
	if !user.Other() {
		return nil
	}
	return os.Lchown(path, user.UID, user.GID)
}
