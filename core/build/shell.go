package build

import (
	"context"
	"errors"
	"os"
	"path/filepath"

	"fernladder/core/event"
	"fernladder/core/ground"
	"fernladder/core/schedule"
)

// ErrNoWork is the error for a build of which there is no work directory.
var ErrNoWork = errors.New("there is no work directory of this build")

// Shell runs a shell in the place of a build that has failed or was broken off,
// with all that its stages see, on a terminal that is not the one that anything else
// of the machine's runs on, and returns the shell's status. Nothing else works on
// the build in the meantime.
func (w *Workshop) Shell(ctx context.Context, job *Job, terminal *os.File) (status int, err error) {
	g := NewBuilder(w, schedule.NewSlots(w.Jobs)).begin(job, nil)
	if _, err := os.Lstat(filepath.Join(g.dirs.work, journalFile)); err != nil {
		return 0, ErrNoWork
	}
	unlock, err := w.Store.LockBuild(ctx, job.Ref, func() {
		w.Events.Event(event.Event{Kind: event.Waiting, Package: job.Name, Version: job.Version, Text: "another fernladder to build the same"})
	})
	if err != nil {
		return 0, err
	}
	defer unlock()
	free, err := g.holdNeeds(ctx)
	if err != nil {
		return 0, err
	}
	defer free()
	defer g.end(&err)
	if err := g.prepare(ctx); err != nil {
		return 0, w.Store.Wrap(err)
	}
	room, err := g.enter()
	if err != nil {
		return 0, w.Store.Wrap(err)
	}
	dir := g.dirs.box
	if d, err := ground.OpenDir(g.dirs.build); err == nil {
		d.Close()
		dir = g.dirs.build
	}
	env := append(w.environment(job, g.Newest), "PS1="+job.Name+" "+job.Version+" $ ", "TERM="+os.Getenv("TERM"))
	if g.user.Other() {
		if err := terminal.Chown(g.user.UID, -1); err != nil {
			return 0, err
		}
	}
	err = process{dir: dir, argv: []string{"sh", "-i"}, env: env, terminal: terminal}.run(ctx, room)
	if status := exitStatus(err); status >= 0 {
		return status, nil
	}
	return 0, err
}
