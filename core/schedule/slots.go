package schedule

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
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
	waiting []*claim // of those that Acquire
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

// InUse is the number of slots that run something; slots that a build has been offered and has not
// taken do not count.
func (s *Slots) InUse() int {
	s.lock.Lock()
	defer s.lock.Unlock()
	used := s.number - s.free
	for _, l := range s.lines {
		used -= min(l.given, l.offered())
	}
	return used
}

// A claim is a request for a slot: by a build that is to begin, or by the line of one.
type claim struct {
	urgency urgency
	path    time.Duration // its urgency when claims are compared
	turn    chan struct{} // closed when a beginning build has its slot
	line    *Line
}

// Acquire waits for a free slot and takes it. The most urgent claim gets it.
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
	mine := &claim{urgency: urgencyOf(ctx), turn: make(chan struct{})}
	s.waiting = append(s.waiting, mine)
	s.lock.Unlock()
	select {
	case <-mine.turn:
		return nil
	case <-ctx.Done():
	}
	s.lock.Lock()
	defer s.lock.Unlock()
	for i, other := range s.waiting {
		if other == mine {
			s.waiting = append(s.waiting[:i], s.waiting[i+1:]...)
			return ctx.Err()
		}
	}
	s.free++ // it came in the same moment
	s.share()
	return ctx.Err()
}

// Release returns a slot.
func (s *Slots) Release() {
	s.lock.Lock()
	defer s.lock.Unlock()
	s.free++
	s.share()
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
	urgency     urgency
	sated       time.Time // it has left an offer before that
	path        string    // of a pipe with a name, or ""
}

// Line opens a line. With a path, the pipe has that name, for programs that open it by name:
// make from 4.4 on and ninja from 1.13 on. Earlier releases of make only support pipes without a
// name.
func (s *Slots) Line(ctx context.Context, path string) (*Line, error) {
	l := &Line{slots: s, path: path, urgency: urgencyOf(ctx)}
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
	s.free, l.given = s.free+l.given, 0
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
// pipe empty; so serve polls the pipes. Slots that more urgent builds wait for are taken at the
// moment at which a less urgent make returns them.
func (s *Slots) serve(stop chan struct{}) {
	const often = 5 // milliseconds
	for {
		s.lock.Lock()
		var polled []unix.PollFd
		for _, l := range s.share() {
			polled = append(polled, unix.PollFd{Fd: int32(l.look), Events: unix.POLLIN})
		}
		s.lock.Unlock()
		unix.Poll(polled, often) // a closed line's descriptor only wakes it up
		select {
		case <-stop:
			return
		default:
		}
	}
}

// share gives free slots to the most urgent claims. A line claims one when its pipe is empty;
// offers that it leaves there are taken back if others want them. It returns lines with slots
// for which a more urgent claim waits. The caller holds the lock.
func (s *Slots) share() (yielding []*Line) {
	const rest = 50 * time.Millisecond // for a line that has left an offer
	now := time.Now()
	claims := slices.Clone(s.waiting)
	var left []*Line
	for _, l := range s.lines {
		switch {
		case l.offered() > 0:
			left = append(left, l)
		case now.After(l.sated):
			claims = append(claims, &claim{urgency: l.urgency, line: l})
		}
	}
	for _, l := range left {
		for len(claims) > s.free && l.given > 0 && l.take() {
			l.given--
			s.free++
			l.sated = now.Add(rest)
		}
	}
	for _, c := range claims {
		c.path = c.urgency()
	}
	slices.SortStableFunc(claims, func(a, b *claim) int { return cmp.Compare(b.path, a.path) })
	if len(claims) > 0 && s.free == 0 {
		return s.lessUrgent(claims[0].path)
	}
	for len(claims) > 0 {
		for _, c := range claims {
			if s.free == 0 || !s.give(c) {
				return nil
			}
		}
		claims = slices.DeleteFunc(claims, func(c *claim) bool { return c.line == nil })
	}
	return nil
}

// give gives a slot to a claim, unless a build has filled its own pipe.
func (s *Slots) give(c *claim) bool {
	if c.line == nil {
		close(c.turn)
		s.waiting = slices.DeleteFunc(s.waiting, func(other *claim) bool { return other == c })
	} else if _, err := syscall.Write(c.line.offer, []byte("+")); err != nil {
		return false
	} else {
		c.line.given++
	}
	s.free--
	return true
}

// lessUrgent are the lines with slots whose builds are on a shorter path.
func (s *Slots) lessUrgent(path time.Duration) (lines []*Line) {
	for _, l := range s.lines {
		if l.given > 0 && l.urgency() < path {
			lines = append(lines, l)
		}
	}
	return lines
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
