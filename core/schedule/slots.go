package schedule

import (
	"context"
	"errors"
	"fmt"
	"os"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// Slots is the pool of job slots that all builds of a ladder share. Builds get slots through
// lines: a Line is a pipe of one build, from which its make takes slots, and to which it returns
// them. Slots that a killed make has not returned go back to the pool when the line is closed.
type Slots struct {
	number int

	lock    sync.Mutex
	free    int
	waiting []chan struct{} // of those that Acquire, the first come first
	lines   []*Line
	stop    chan struct{} // ends the goroutine that serves lines; nil: there is none
}

// NewSlots returns a pool of a number of slots, at least one.
func NewSlots(number int) *Slots {
	number = max(number, 1)
	return &Slots{number: number, free: number}
}

// Number is the number of slots in the pool.
func (s *Slots) Number() int { return s.number }

// Acquire waits for a free slot and takes it.
func (s *Slots) Acquire(ctx context.Context) error {
	s.lock.Lock()
	if err := ctx.Err(); err != nil {
		s.lock.Unlock()
		return err
	}
	if s.free > 0 {
		s.free--
		s.lock.Unlock()
		return nil
	}
	turn := make(chan struct{})
	s.waiting = append(s.waiting, turn)
	s.lock.Unlock()
	select {
	case <-turn:
		return nil
	case <-ctx.Done():
	}
	s.lock.Lock()
	defer s.lock.Unlock()
	for i, other := range s.waiting {
		if other == turn {
			s.waiting = append(s.waiting[:i], s.waiting[i+1:]...)
			return ctx.Err()
		}
	}
	s.release() // it came in the same moment
	return ctx.Err()
}

// Release returns a slot.
func (s *Slots) Release() {
	s.lock.Lock()
	defer s.lock.Unlock()
	s.release()
}

func (s *Slots) release() {
	if len(s.waiting) > 0 {
		close(s.waiting[0])
		s.waiting = s.waiting[1:]
		return
	}
	s.free++
}

// Lease takes up to most free slots, without waiting, and returns how many. It is for programs
// that do not support the protocol.
func (s *Slots) Lease(most int) int {
	s.lock.Lock()
	defer s.lock.Unlock()
	taken := max(0, min(most, s.free))
	s.free -= taken
	return taken
}

// A Line passes slots to one build, by the jobserver protocol of GNU make ("POSIX Jobserver" in
// its manual): a pipe with a byte for each slot on offer. A process that takes a byte may run
// one more job, and returns the byte after that.
type Line struct {
	slots       *Slots
	read, write *os.File // the build's ends; they must block, or make gives up
	look, offer int      // the same pipe, to take from and to write to without waiting, whatever a build has put there
	given       int      // slots at the build, on offer or taken
	path        string   // of a pipe with a name, or ""
}

// Line opens a line. With a path, the pipe has that name, for programs that open it by name:
// make from 4.4 on and ninja from 1.13 on. Earlier releases of make only support pipes without a
// name.
func (s *Slots) Line(path string) (*Line, error) {
	l := &Line{slots: s, path: path}
	if err := l.open(); err != nil {
		return nil, fmt.Errorf("no pipe for the job slots: %w", err)
	}
	s.lock.Lock()
	defer s.lock.Unlock()
	s.lines = append(s.lines, l)
	if s.stop == nil {
		s.stop = make(chan struct{})
		go s.serve(s.stop)
	}
	s.share()
	return l, nil
}

func (l *Line) open() (err error) {
	if l.path == "" {
		var ends [2]int
		if err := syscall.Pipe2(ends[:], syscall.O_CLOEXEC); err != nil {
			return err
		}
		l.read, l.write = os.NewFile(uintptr(ends[0]), "job slots"), os.NewFile(uintptr(ends[1]), "job slots")
		if l.look, err = syscall.Open(fmt.Sprintf("/proc/self/fd/%d", ends[0]),
			syscall.O_RDONLY|syscall.O_NONBLOCK|syscall.O_CLOEXEC, 0); err != nil {
			return err
		}
		l.offer, err = syscall.Open(fmt.Sprintf("/proc/self/fd/%d", ends[1]),
			syscall.O_WRONLY|syscall.O_NONBLOCK|syscall.O_CLOEXEC, 0)
		return err
	}
	os.Remove(l.path)
	if err := syscall.Mkfifo(l.path, 0o600); err != nil {
		return err
	}
	if l.look, err = syscall.Open(l.path, syscall.O_RDWR|syscall.O_NONBLOCK|syscall.O_CLOEXEC, 0); err != nil {
		return err
	}
	l.write, l.offer = os.NewFile(uintptr(l.look), l.path), l.look
	return nil
}

// Inherited returns the two ends of the pipe for a child process, unless the pipe has a name.
// The child must have them as descriptors 3 and 4, as MakeFlags says.
func (l *Line) Inherited() []*os.File {
	if l.path != "" {
		return nil
	}
	return []*os.File{l.read, l.write}
}

// MakeFlags is the value of MAKEFLAGS for such a child.
func (l *Line) MakeFlags() string {
	if l.path != "" {
		return fmt.Sprintf(" -j%d --jobserver-auth=fifo:%s", l.slots.number, l.path)
	}
	return fmt.Sprintf(" -j%d --jobserver-auth=3,4", l.slots.number)
}

// Close closes the line. All its slots are free again, even those not returned.
func (l *Line) Close() error {
	s := l.slots
	s.lock.Lock()
	defer s.lock.Unlock()
	for range l.given {
		s.release()
	}
	l.given = 0
	for i, other := range s.lines {
		if other == l {
			s.lines = append(s.lines[:i], s.lines[i+1:]...)
			break
		}
	}
	if len(s.lines) == 0 && s.stop != nil {
		close(s.stop)
		s.stop = nil
	}
	s.share()
	if l.path != "" {
		return errors.Join(l.write.Close(), os.Remove(l.path))
	}
	return errors.Join(syscall.Close(l.look), syscall.Close(l.offer), l.read.Close(), l.write.Close())
}

// serve distributes slots repeatedly. A make does not announce that it waits, it only finds its
// pipe empty; so serve polls the pipes.
func (s *Slots) serve(stop chan struct{}) {
	const often = 5 * time.Millisecond
	tick := time.NewTicker(often)
	defer tick.Stop()
	for {
		select {
		case <-stop:
			return
		case <-tick.C:
			s.lock.Lock()
			s.share()
			s.lock.Unlock()
		}
	}
}

// share offers free slots to builds whose pipe is empty, and takes unused offers back if other
// builds wait. The caller holds the lock.
func (s *Slots) share() {
	var empty, full []*Line
	for _, l := range s.lines {
		if l.offered() == 0 {
			empty = append(empty, l)
		} else {
			full = append(full, l)
		}
	}
	for _, l := range full {
		for len(s.waiting)+len(empty) > s.free && l.given > 0 && l.offered() > 0 && l.take() {
			l.given--
			s.release()
		}
	}
	for len(empty) > 0 && s.free > 0 && len(s.waiting) == 0 {
		for _, l := range empty {
			if s.free == 0 {
				return
			}
			if _, err := syscall.Write(l.offer, []byte("+")); err != nil {
				return // a build has filled its pipe; then it wants nothing
			}
			s.free--
			l.given++
		}
	}
}

// offered is the number of slots in the pipe.
func (l *Line) offered() int {
	n, err := unix.IoctlGetInt(l.look, unix.TIOCINQ) // also called FIONREAD
	if err != nil {
		return 0
	}
	return n
}

// take takes a slot out of the pipe, if there is one.
func (l *Line) take() bool {
	n, err := syscall.Read(l.look, make([]byte, 1))
	return n == 1 && err == nil
}
