package term

import (
	"fmt"
	"io"
	"os"
	"os/signal"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
	xterm "golang.org/x/term"
)

// A Shell is a separate terminal for a program that must not have the one that this program runs
// on: it can affect no other, for example by typing into it. It passes on input and output.
type Shell struct {
	Terminal *os.File // for the program

	master  *os.File
	restore func()
	resized chan os.Signal
	copied  sync.WaitGroup
}

// OpenShell opens a pseudo-terminal (pty(7)) behind an input and an output. If the input is a
// terminal, it passes on every key until Close is called.
func OpenShell(in, out *os.File) (*Shell, error) {
	fd, err := unix.Open("/dev/ptmx", unix.O_RDWR|unix.O_NOCTTY|unix.O_CLOEXEC|unix.O_NONBLOCK, 0)
	if err != nil {
		return nil, fmt.Errorf("no terminal is available: %w", err)
	}
	s := &Shell{master: os.NewFile(uintptr(fd), "/dev/ptmx"), restore: func() {}, resized: make(chan os.Signal, 1)}
	if err := unix.IoctlSetPointerInt(fd, unix.TIOCSPTLCK, 0); err != nil {
		s.master.Close()
		return nil, err
	}
	number, err := unix.IoctlGetInt(fd, unix.TIOCGPTN)
	if err == nil {
		s.Terminal, err = os.OpenFile(fmt.Sprintf("/dev/pts/%d", number), os.O_RDWR|unix.O_NOCTTY, 0)
	}
	if err != nil {
		s.master.Close()
		return nil, err
	}
	if xterm.IsTerminal(int(in.Fd())) {
		if state, err := xterm.MakeRaw(int(in.Fd())); err == nil {
			s.restore = func() { xterm.Restore(int(in.Fd()), state) }
		}
		signal.Notify(s.resized, syscall.SIGWINCH)
		s.resized <- syscall.SIGWINCH
		go func() {
			for range s.resized {
				if size, err := unix.IoctlGetWinsize(int(in.Fd()), unix.TIOCGWINSZ); err == nil {
					unix.IoctlSetWinsize(fd, unix.TIOCSWINSZ, size)
				}
			}
		}()
	}
	s.copied.Go(func() { io.Copy(out, s.master) })
	go func() {
		io.Copy(s.master, in)
		s.master.Write([]byte{4}) // sent by a terminal at the end of a paste
	}()
	return s, nil
}

// Close restores the terminal, after all output of the program was shown.
func (s *Shell) Close() {
	signal.Stop(s.resized)
	close(s.resized)
	s.Terminal.Close()
	const moment = time.Second
	s.master.SetReadDeadline(time.Now().Add(moment))
	s.copied.Wait()
	s.master.Close()
	s.restore()
}
