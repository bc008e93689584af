package build

import (
	"context"
	"os"
	"path/filepath"

	"fernladder/core/ground"
	"fernladder/core/seal"
	"fernladder/core/store"
)

// room is what a build sees and may change: its own box and the place of its tree,
// to change; what it is given and the trees of its declared needs, to see.
func (g *building) room() (seal.Room, error) {
	r := seal.Room{
		Level: g.isolation(), Point: g.dirs.room, Home: g.dirs.home,
		Visible:  append([]string{g.dirs.given}, g.Programs.Path...),
		Writable: []string{g.dirs.box}, User: g.user, Limits: g.Most,
	}
	for _, n := range neighbours(g.job) {
		r.Visible = append(r.Visible, n.Tree)
	}
	if g.job.Watch && r.Level != seal.Sealed {
		return r, ErrNotWatched
	}
	if r.Level == seal.Sealed {
		r.Stands = seal.Stand{In: g.dirs.prefix, For: g.job.Tree}
		return r, nil
	}
	r.Writable = append(r.Writable, g.job.Tree)
	if g.again { // the tree is there, and is not to be changed
		return r, ErrNotSealed
	}
	return r, g.Store.Lend(g.job.Ref, g.user.UID, g.user.GID)
}

// enter makes the room of the build, which all its commands share, if it is not
// there yet.
func (g *building) enter() (*seal.Session, error) {
	if g.inside != nil {
		return g.inside, nil
	}
	r, err := g.room()
	if err != nil {
		return nil, err
	}
	if g.inside, err = r.Enter(g.dirs.stage); err != nil {
		g.inside = nil
		return nil, err
	}
	return g.inside, nil
}

// leave ends the room, if there is one, and everything in it, and takes back what
// was lent to the build.
func (g *building) leave() error {
	if g.inside == nil {
		return nil
	}
	g.inside.Leave()
	g.inside = nil
	return g.takeBack()
}

// takeBack takes away what a build has put where its tree will be. In a sealed room
// that is elsewhere.
func (g *building) takeBack() error {
	if g.again || g.isolation() == seal.Sealed {
		return nil
	}
	return g.Store.TakeBack(g.job.Ref)
}

// empty takes away what stands where a makefile that knows no DESTDIR puts its
// files. In a room that is there already, the directory itself has to stay.
func (g *building) empty() error {
	if g.isolation() == seal.Sealed || g.inside != nil {
		return ground.Empty(g.filled())
	}
	return nil
}

// filled is where a makefile that knows no DESTDIR has put its files: the tree's
// own directory, or what stands in for it in a sealed room.
func (g *building) filled() string {
	if g.isolation() == seal.Sealed {
		return g.dirs.prefix
	}
	return g.job.Tree
}

// tryRoom is a room for the tries of a build, which see its tree, and those that it
// needs when it runs. They may change the directory they run in. base is the
// program's own.
func (w *Workshop) tryRoom(base string, user seal.User, visible []*store.Receipt) seal.Room {
	place := filepath.Join(base, "place")
	r := seal.Room{Level: w.isolation(), Point: filepath.Join(base, "room"), Home: place, Writable: []string{place}, User: user, Limits: w.Most}
	r.Visible = append([]string{filepath.Join(base, "given")}, w.Programs.Path...)
	for _, receipt := range visible {
		r.Visible = append(r.Visible, receipt.Tree)
		for _, c := range receipt.Configs {
			r.Visible = append(r.Visible, w.Store.ConfigFile(receipt.Name, c.File))
		}
		for _, need := range receipt.Needs { // libraries are found by run paths
			r.Visible = append(r.Visible, w.Store.Tree(need.Ref))
		}
	}
	return r
}

// Scratch makes a directory of the program's own for work that is no build, and
// lends a user for it, who may come through the directory, until done is called.
func (w *Workshop) Scratch(ctx context.Context, kind string) (base string, user seal.User, done func(), err error) {
	base, deleted, err := w.Store.Scratch(kind)
	if err != nil {
		return "", seal.User{}, nil, w.Store.Wrap(err)
	}
	user, giveBack, err := w.Users.Lend(ctx, seal.User{})
	if err != nil {
		deleted()
		return "", seal.User{}, nil, err
	}
	done = func() { giveBack(); deleted() }
	if user.Other() {
		if err := os.Chown(base, -1, user.GID); err != nil {
			done()
			return "", seal.User{}, nil, w.Store.Wrap(err)
		}
	}
	return base, user, done, nil
}

// give gives what the program has just made, and nobody else has seen, to the user
// of commands.
func give(path string, user seal.User) error {
	if !user.Other() {
		return nil
	}
	return os.Lchown(path, user.UID, user.GID)
}
