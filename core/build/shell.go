package build

import (
	"context"
	"errors"
	"os"
	"os/exec"

	"fernladder/core/event"
	"fernladder/core/schedule"
)

// ErrNoWork is the error for a build of which there is no work directory.
var ErrNoWork = errors.New("there is no work directory of this build")

// Shell runs a shell in the place of a build that has failed or was broken off,
// with all that its stages see, and returns the shell's status. Nothing else
// works on the build in the meantime.
func (w *Workshop) Shell(ctx context.Context, job *Job, in, out, errOut *os.File) (status int, err error) {
	g := NewBuilder(w, schedule.NewSlots(w.Jobs)).begin(job, nil)
	if _, err := os.Stat(g.progressFile()); err != nil {
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
	if err := g.prepare(ctx); err != nil {
		return 0, w.Store.Wrap(err)
	}
	room, err := g.room()
	if err != nil {
		return 0, w.Store.Wrap(err)
	}
	defer g.leaveRoom()
	dir := g.dirs.build
	if _, err := os.Stat(dir); err != nil {
		dir = g.dirs.work
	}
	env := append(w.environment(job, g.Newest), "PS1="+job.Name+" "+job.Version+" $ ", "TERM="+os.Getenv("TERM"), "PWD="+dir)
	command, started, err := room.Command("/bin/sh", []string{"sh", "-i"}, dir, env, nil)
	if err != nil {
		return 0, err
	}
	defer started()
	command.Stdin, command.Stdout, command.Stderr = in, out, errOut
	err = command.Run()
	var exit *exec.ExitError
	if errors.As(err, &exit) {
		return exit.ExitCode(), nil
	}
	return 0, err
}
