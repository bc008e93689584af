package build

import (
	"errors"
	"os"
	"path/filepath"

	"fernladder/core/seal"
	"fernladder/core/store"
)

// room is what a build sees and may change: its own work directory and the place
// of its tree, to change; the trees of its declared needs, to see.
func (g *building) room() (seal.Room, error) {
	r := seal.Room{
		Level: g.Isolation, Point: filepath.Join(g.dirs.work, "room"), Home: g.dirs.home,
		Visible:  append([]string{g.job.Package.Recipe.Dir}, g.Programs.Path...),
		Writable: []string{g.dirs.work},
	}
	for _, n := range neighbours(g.job) {
		r.Visible = append(r.Visible, n.Tree)
	}
	if g.job.Watch {
		if r.Level != seal.Sealed {
			return r, ErrNotWatched
		}
		r.Watch = filepath.Join(g.dirs.work, openedFile)
	}
	switch r.Level {
	case seal.Sealed:
		r.Stands = seal.Stand{In: g.filled(), For: g.job.Tree}
		return r, errors.Join(os.MkdirAll(r.Point, 0o755), os.MkdirAll(g.filled(), 0o755))
	case seal.Fenced:
		r.Writable = append(r.Writable, g.job.Tree)
		return r, os.MkdirAll(g.job.Tree, 0o755)
	}
	return r, nil
}

// enter returns the sealed room of the build, which all its commands share.
func (g *building) enter(r seal.Room) (*seal.Session, error) {
	if g.inside == nil {
		inside, err := r.Enter(g.dirs.stage)
		if err != nil {
			return nil, err
		}
		g.inside = inside
	}
	return g.inside, nil
}

// leave ends the room, if there is one.
func (g *building) leave() {
	if g.inside != nil {
		g.inside.Leave()
		g.inside = nil
	}
	g.leaveRoom()
}

// empty takes away what stands where a makefile that knows no DESTDIR puts its
// files. In a room that is there already, the directory itself has to stay.
func (g *building) empty() error {
	if g.inside == nil {
		return os.RemoveAll(g.filled())
	}
	entries, err := os.ReadDir(g.filled())
	for _, e := range entries {
		err = errors.Join(err, os.RemoveAll(filepath.Join(g.filled(), e.Name())))
	}
	return err
}

// hasFilled tells whether there is something.
func (g *building) hasFilled() bool {
	entries, err := os.ReadDir(g.filled())
	return err == nil && (len(entries) > 0 || g.Isolation != seal.Sealed)
}

// filled is where a makefile that knows no DESTDIR has put its files: the tree's
// own directory, or what stands in for it in a sealed room.
func (g *building) filled() string {
	if g.Isolation == seal.Sealed {
		return filepath.Join(g.dirs.work, "prefix")
	}
	return g.job.Tree
}

// leaveRoom takes away the place of the tree that was made for a room, if
// nothing has been put there.
func (g *building) leaveRoom() {
	if os.Remove(g.filled()) == nil && g.filled() == g.job.Tree {
		os.Remove(filepath.Dir(g.job.Tree))
	}
}

// tryRoom is what the tries of a build see: its tree, and those that it needs
// when it runs. They may change the directory they run in.
func tryRoom(s *store.Store, level seal.Level, point, place string, visible []*store.Receipt) seal.Room {
	r := seal.Room{Level: level, Point: point, Home: place, Writable: []string{place}}
	for _, receipt := range visible {
		r.Visible = append(r.Visible, receipt.Tree)
		for _, c := range receipt.Configs {
			r.Visible = append(r.Visible, s.ConfigFile(receipt.Name, c.File))
		}
		for _, need := range receipt.Needs { // libraries are found by run paths
			r.Visible = append(r.Visible, s.Tree(need.Ref))
		}
	}
	return r
}
