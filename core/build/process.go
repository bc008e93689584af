package build

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"fernladder/core/host"
	"fernladder/core/sandbox"
	"fernladder/core/store"
)

// process is a command, with everything it needs to run in a room.
type process struct {
	dir      string
	argv     []string
	env      []string
	output   *os.File
	terminal *os.File   // instead of an output; or nil
	files    []*os.File // its descriptors from 3 on
	record   *os.File   // of the watched processes; or nil
	watched  bool       // the files that it opens
	placing  bool       // the files that it gives to other users
	used     *usage     // its cost is added here, unless nil
}

// usage is what commands have used of the machine.
type usage struct {
	cpu    time.Duration
	memory int64 // bytes of the largest process
}

// grace is the time for a command to restore a terminal, or to finish a file.
const grace = 2 * time.Second

// errNoProgram is the error for a command whose program is not on its PATH.
var errNoProgram = errors.New("there is no such program")

// exitedWith is the error for a command with an exit status other than 0.
type exitedWith struct{ status int }

func (e exitedWith) Error() string { return fmt.Sprintf("ended with status %d", e.status) }

// run runs a process to its end in a room, as leader of its own session, without input unless it
// has a terminal. If ctx ends, so do the process and everything it started.
func (p process) run(ctx context.Context, room *sandbox.Session) error {
	programs := host.Programs{Path: strings.Split(valueOf(p.env, "PATH"), ":")}
	file := programs.Find(p.argv[0])
	if script := filepath.Join(p.dir, p.argv[0]); strings.HasPrefix(p.argv[0], "./") && programs.Find(script) != "" {
		file = p.argv[0] // relative, because scripts take their directory from it
	}
	if file == "" {
		return errNoProgram
	}
	type outcome struct {
		sandbox.Ended
		err error
	}
	done := make(chan outcome, 1)
	go func() {
		ended, err := room.Run(sandbox.Command{File: file, Argv: p.argv, Dir: p.dir, Env: append(p.env, "PWD="+p.dir),
			Output: p.output, Files: p.files, Terminal: p.terminal, Record: p.record, Watched: p.watched, Placing: p.placing})
		done <- outcome{ended, err}
	}()
	var o outcome
	select {
	case o = <-done:
	case <-ctx.Done():
		room.Signal(syscall.SIGTERM)
		select {
		case <-done:
		case <-time.After(grace):
			room.Leave()
			<-done
		}
		return ctx.Err()
	}
	if p.used != nil {
		p.used.cpu += o.CPU
		p.used.memory = max(p.used.memory, o.Memory)
	}
	if o.err == nil && o.Status != 0 {
		return exitedWith{o.Status}
	}
	return o.err
}

// exitStatus is the exit status of a process, or -1.
func exitStatus(err error) int {
	var exit exitedWith
	switch {
	case err == nil:
		return 0
	case errors.As(err, &exit):
		return exit.status
	}
	return -1
}

// status says in words how a process ended.
func status(err error) string {
	var exit exitedWith
	switch {
	case errors.Is(err, errLogLimit):
		return "was ended: " + err.Error()
	case !errors.As(err, &exit):
		return "could not be run: " + err.Error()
	}
	switch signal := syscall.Signal(exit.status - 128); {
	case signal == syscall.SIGKILL:
		return "was killed, perhaps because memory ran out"
	case signal == syscall.SIGXFSZ:
		return "was ended because it wrote a file above the limit (largest_file in the settings)"
	case signal > 0 && signal < 32:
		return fmt.Sprintf("was ended by signal %d (%s)", int(signal), signal)
	}
	return fmt.Sprintf("ended with status %d", exit.status)
}

// killAll ends every process that builds of jobs left running. They are known by a mark in their
// initial environment that no other build has. Processes of a user of their own end with that
// user.
func killAll(s *store.Store, jobs []*Job) {
	stages := map[string]bool{}
	for _, j := range jobs {
		stages[dirsOf(s, j, false).stage] = true
		stages[dirsOf(s, j, true).stage] = true
	}
	processes, err := filepath.Glob("/proc/[0-9]*/environ")
	if err != nil {
		return
	}
	for _, file := range processes {
		environ, err := os.ReadFile(file)
		if err != nil {
			continue // gone, or another user's
		}
		stage := valueOf(strings.Split(string(environ), "\x00"), sandbox.Mark)
		if pid, err := strconv.Atoi(filepath.Base(filepath.Dir(file))); err == nil && stages[stage] {
			syscall.Kill(pid, syscall.SIGKILL)
		}
	}
}

func valueOf(env []string, name string) string {
	for _, pair := range env {
		if value, found := strings.CutPrefix(pair, name+"="); found {
			return value
		}
	}
	return ""
}
