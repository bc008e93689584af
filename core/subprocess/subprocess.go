// Package subprocess runs programs of the operating system, all in one way: each leads its
// own session, ends with this program however that ends, and has limits of time, memory
// and output.
//
// When this program dies, the kernel kills the command (PR_SET_PDEATHSIG, prctl(2)). The
// command's children get SIGHUP then, because it leads a session with a terminal that
// nothing else uses (setsid(2), credentials(7)). Commands of builds are started by
// core/sandbox instead.
package subprocess

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"runtime"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/creack/pty"
	"golang.org/x/sys/unix"
)

// A Command is a program to run. Its environment is Env and nothing else.
type Command struct {
	Argv   []string // the first is the program's path
	Env    []string
	Dir    string // it runs in; "": this program's own
	Stdin  io.Reader
	Stdout io.Writer // nil: its output is discarded
	Stderr io.Writer

	Longest time.Duration // that it may run; 0: an hour
	Output  int64         // bytes that it may print, unless to an *os.File; 0: 256 MiB
	Memory  int64         // bytes that each of its processes may have for itself; 0: 4 GiB
	Largest int64         // bytes of a file that it may write; 0: no limit
}

// Exceeded is the error when a program was ended at a limit.
type Exceeded struct{ Program, Limit string }

func (e *Exceeded) Error() string { return fmt.Sprintf("%s was ended: %s", e.Program, e.Limit) }

// Run runs the command to its end, and ends all that it leaves running. Limits of memory and
// files hold from the moment after it was started. The error is the
// cause of ctx's end, an *Exceeded, or that of os/exec.
func (c Command) Run(ctx context.Context) error {
	name := filepath.Base(c.Argv[0])
	limits := c
	if limits.Longest == 0 {
		limits.Longest = time.Hour
	}
	if limits.Output == 0 {
		limits.Output = 256 << 20
	}
	if limits.Memory == 0 {
		limits.Memory = 4 << 30
	}
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	late := time.AfterFunc(limits.Longest, func() {
		cancel(&Exceeded{name, fmt.Sprintf("it was not done after %s", limits.Longest)})
	})
	defer late.Stop()
	left := new(atomic.Int64)
	left.Store(limits.Output)
	counted := func(w io.Writer) io.Writer {
		switch w.(type) {
		case nil, *os.File:
			return w
		}
		return &counter{w, left, func() {
			cancel(&Exceeded{name, fmt.Sprintf("it printed more than %d MiB", limits.Output>>20)})
		}}
	}

	run := exec.CommandContext(ctx, c.Argv[0], c.Argv[1:]...)
	run.Env, run.Dir, run.Stdin, run.Stdout, run.Stderr = append([]string{}, c.Env...), c.Dir, c.Stdin, counted(c.Stdout),
		counted(c.Stderr)
	run.SysProcAttr = &syscall.SysProcAttr{Setsid: true, Pdeathsig: syscall.SIGKILL}
	if ours, theirs, err := pty.Open(); err == nil { // a machine without terminals has its children end by their pipes
		defer ours.Close()
		defer theirs.Close()
		run.ExtraFiles = []*os.File{theirs}
		run.SysProcAttr.Setctty, run.SysProcAttr.Ctty = true, 3
	}
	if signal.Ignored(syscall.SIGHUP) { // as nohup(1) has it; the command would ignore it, too
		signal.Notify(make(chan os.Signal, 1), syscall.SIGHUP)
	}
	group := func() error { return syscall.Kill(-run.Process.Pid, syscall.SIGKILL) }
	run.Cancel = group
	run.WaitDelay = time.Second // for pipes that another process holds

	// The signal comes when the thread ends that has started the command.
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	if err := run.Start(); err != nil {
		return err
	}
	limit := func(resource int, bytes int64) error {
		if bytes == 0 {
			return nil
		}
		most := unix.Rlimit{Cur: uint64(bytes), Max: uint64(bytes)}
		return unix.Prlimit(run.Process.Pid, resource, &most, nil)
	}
	// One that is over already needs none.
	if err := errors.Join(limit(unix.RLIMIT_DATA, limits.Memory), limit(unix.RLIMIT_FSIZE, limits.Largest)); err != nil &&
		!errors.Is(err, unix.ESRCH) {
		group()
		run.Wait()
		return err
	}
	err := run.Wait()
	group()
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	return err
}

// Text runs the command, and returns what it prints.
func (c Command) Text(ctx context.Context) (out, errOut string, err error) {
	var stdout, stderr strings.Builder
	c.Stdout, c.Stderr = &stdout, &stderr
	err = c.Run(ctx)
	return stdout.String(), stderr.String(), err
}

// Pipe runs the command while the caller reads what it prints, which is not counted. The
// caller closes the pipe; wait returns what Run does.
func (c Command) Pipe(ctx context.Context) (out *os.File, wait func() error, err error) {
	out, in, err := os.Pipe()
	if err != nil {
		return nil, nil, err
	}
	c.Stdout = in
	ended := make(chan error, 1)
	go func() {
		err := c.Run(ctx)
		in.Close()
		ended <- err
	}()
	return out, func() error { return <-ended }, nil
}

// counter passes on what is written, as long as there is any left.
type counter struct {
	w      io.Writer
	left   *atomic.Int64
	exceed func()
}

func (c *counter) Write(p []byte) (int, error) {
	if c.left.Add(-int64(len(p))) < 0 {
		c.exceed()
		return 0, errors.New("too much")
	}
	return c.w.Write(p)
}
