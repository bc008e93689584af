package build

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"fernladder/core/host"
	"fernladder/core/seal"
)

// process is a command with everything it needs to run.
type process struct {
	dir    string
	argv   []string
	env    []string
	output *os.File
	files  []*os.File // its descriptors from 3 on
	room   seal.Room
	inside *seal.Session // where it runs instead of in a room of its own, or nil
	used   *usage        // what it takes is added here, if it is not nil
}

// usage is what commands have taken of the machine.
type usage struct {
	cpu    time.Duration
	memory int64 // bytes of the largest process
}

// grace is the time that a command has to put a terminal or a half-written file
// in order.
const grace = 2 * time.Second

// run runs a process to its end. It has no terminal and no input, and is the
// leader of a session of its own; when ctx ends, the whole session is ended.
func (p process) run(ctx context.Context) error {
	programs := host.Programs{Path: strings.Split(valueOf(p.env, "PATH"), ":")}
	file := programs.Find(p.argv[0])
	if file == "" {
		return errors.New("there is no such program")
	}
	if p.inside != nil {
		return p.runInside(ctx, file)
	}
	command, started, err := p.room.Command(file, p.argv, p.dir, append(p.env, "PWD="+p.dir), p.files)
	if err != nil {
		return err
	}
	defer started()
	command.Stdout, command.Stderr = p.output, p.output
	// Should this program be killed, what it started is too. The kernel ties
	// that to the thread which starts the process, so the thread has to stay.
	command.SysProcAttr.Setsid, command.SysProcAttr.Pdeathsig = true, syscall.SIGKILL
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	if err := command.Start(); err != nil {
		return err
	}
	ended := make(chan struct{})
	watched := make(chan struct{})
	go func() {
		defer close(watched)
		select {
		case <-ended:
		case <-ctx.Done():
			syscall.Kill(-command.Process.Pid, syscall.SIGTERM)
			select {
			case <-ended:
			case <-time.After(grace):
				syscall.Kill(-command.Process.Pid, syscall.SIGKILL)
			}
		}
	}()
	// Whatever the command has left in its group ends with it. The group is
	// killed before its leader is waited for: until then the kernel gives its
	// number to nobody else.
	exited(command.Process.Pid)
	syscall.Kill(-command.Process.Pid, syscall.SIGKILL)
	close(ended)
	<-watched
	err = command.Wait()
	if p.used != nil {
		p.used.cpu += command.ProcessState.UserTime() + command.ProcessState.SystemTime()
		if r, ok := command.ProcessState.SysUsage().(*syscall.Rusage); ok {
			p.used.memory = max(p.used.memory, r.Maxrss<<10)
		}
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	return err
}

// exitedWith is the error for a command in a session that has not ended with
// status 0.
type exitedWith struct{ status int }

func (e exitedWith) Error() string { return fmt.Sprintf("ended with status %d", e.status) }

// runInside runs a process in a room that is there.
func (p process) runInside(ctx context.Context, file string) error {
	type outcome struct {
		seal.Ended
		err error
	}
	done := make(chan outcome, 1)
	go func() {
		ended, err := p.inside.Run(file, p.argv, p.dir, append(p.env, "PWD="+p.dir), p.output, p.files)
		done <- outcome{ended, err}
	}()
	var o outcome
	select {
	case o = <-done:
	case <-ctx.Done():
		p.inside.Signal(syscall.SIGTERM)
		select {
		case o = <-done:
		case <-time.After(grace):
			p.inside.Leave()
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

// exited returns when a child has ended, and leaves it to be waited for.
func exited(pid int) {
	for {
		err := unix.Waitid(unix.P_PID, pid, nil, unix.WEXITED|unix.WNOWAIT, nil)
		if !errors.Is(err, syscall.EINTR) {
			return
		}
	}
}

// status says in words how a process ended.
func status(err error) string {
	var exit *exec.ExitError
	var inside exitedWith
	code := 0
	switch {
	case errors.Is(err, errWordy):
		return "was ended: " + err.Error()
	case errors.As(err, &inside):
		code = inside.status
	case !errors.As(err, &exit):
		return "could not be run: " + err.Error()
	default:
		code = exit.ExitCode()
		if w, ok := exit.Sys().(syscall.WaitStatus); ok && w.Signaled() {
			code = 128 + int(w.Signal())
		}
	}
	if signal := syscall.Signal(code - 128); signal == syscall.SIGKILL {
		return "was killed, perhaps because the memory was full"
	} else if signal > 0 && signal < 32 {
		return fmt.Sprintf("was ended by signal %d (%s)", int(signal), signal)
	}
	return fmt.Sprintf("ended with status %d", code)
}

// killAll ends every process that the builds of jobs have left running in a
// session of its own. They are known by FL_STAGE in the environment they were
// started with, which no other build has.
func killAll(jobs []*Job, w *Workshop) {
	stages := map[string]bool{}
	for _, j := range jobs {
		stages[w.dirs(j).stage] = true
	}
	processes, err := filepath.Glob("/proc/[0-9]*/environ")
	if err != nil {
		return
	}
	for _, file := range processes {
		environ, err := os.ReadFile(file)
		if err != nil {
			continue // gone since, or another user's
		}
		stage := valueOf(strings.Split(string(environ), "\x00"), "FL_STAGE")
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
