package build

import (
	"context"
	"os"
	"path/filepath"

	"fernladder/core/event"
	"fernladder/core/problem"
	"fernladder/core/safefs"
)

// Shell runs a shell in the place of a failed or interrupted build, with everything that its
// stages see, on a terminal of its own, and returns the shell's exit status. Nothing else works
// on the build meanwhile.
func (b *Builder) Shell(ctx context.Context, job *Job, terminal *os.File) (status int, err error) {
	a := b.begin(job, nil)
	if _, err := os.Lstat(filepath.Join(a.dirs.work, journalFile)); err != nil {
		return 0, problem.New(problem.Usage, job.Name,
			"%s %s has no build that failed or was interrupted; there is nothing to look at", job.Name, job.Version)
	}
	unlock, err := b.m.Store.LockBuild(ctx, job.Ref, func() {
		a.emit(event.Event{Kind: event.Waiting, Text: "another fernladder to build the same"})
	})
	if err != nil {
		return 0, err
	}
	defer unlock()
	release, err := a.holdNeeds(ctx)
	if err != nil {
		return 0, err
	}
	defer release()
	defer a.end(&err)
	if err := a.prepare(ctx); err != nil {
		return 0, b.m.Store.Wrap(err)
	}
	room, err := a.enter(ctx)
	if err != nil {
		return 0, b.m.Store.Wrap(err)
	}
	dir := a.dirs.box
	if d, err := safefs.OpenDir(a.dirs.build); err == nil {
		d.Close()
		dir = a.dirs.build
	}
	env := append(environment(b.target, job, a.dirs, a.journal.Newest), "PS1="+job.Name+" "+job.Version+" $ ",
		"TERM="+os.Getenv("TERM"))
	if a.room.user.Other() {
		if err := terminal.Chown(a.room.user.UID, -1); err != nil {
			return 0, err
		}
	}
	err = process{dir: dir, argv: []string{"sh", "-i"}, env: env, terminal: terminal}.run(ctx, room)
	if status := exitStatus(err); status >= 0 {
		return status, nil
	}
	return 0, err
}
