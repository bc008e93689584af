package schedule

import (
	"context"
	"errors"
	"fmt"
	"os"
	"syscall"
	"time"
)

// Slots is the pool of job slots that everything running on a ladder shares.
// It is a pipe with one byte for each free slot, as the jobserver protocol of
// GNU make has it ("POSIX Jobserver" in its manual): whoever takes a byte may
// run one job, and puts the byte back when it is done. So make processes take
// slots from the same pool as the program itself.
type Slots struct {
	number int
	// What children inherit. They must block: a make that finds a pipe which
	// does not gives up.
	read, write *os.File
	// The same pipe opened again for this program, which must be able to stop
	// waiting, and once more to look without waiting.
	own  *os.File
	look int
}

// NewSlots makes a pool of that many slots, at least one.
func NewSlots(number int) (*Slots, error) {
	var ends [2]int
	if err := syscall.Pipe2(ends[:], syscall.O_CLOEXEC); err != nil {
		return nil, fmt.Errorf("no pipe for the job slots: %w", err)
	}
	s := &Slots{
		number: max(number, 1),
		read:   os.NewFile(uintptr(ends[0]), "job slots"),
		write:  os.NewFile(uintptr(ends[1]), "job slots"),
	}
	again := fmt.Sprintf("/proc/self/fd/%d", ends[0])
	var err error
	if s.own, err = os.OpenFile(again, os.O_RDONLY|syscall.O_NONBLOCK, 0); err == nil {
		s.look, err = syscall.Open(again, syscall.O_RDONLY|syscall.O_NONBLOCK|syscall.O_CLOEXEC, 0)
	}
	if err != nil {
		return nil, fmt.Errorf("no pipe for the job slots: %w", err)
	}
	for range s.number {
		s.Release()
	}
	return s, nil
}

// Close ends the pool.
func (s *Slots) Close() error {
	return errors.Join(syscall.Close(s.look), s.own.Close(), s.read.Close(), s.write.Close())
}

// Number is how many slots there are in all.
func (s *Slots) Number() int { return s.number }

// Acquire waits for a free slot and takes it.
func (s *Slots) Acquire(ctx context.Context) error {
	// Setting a deadline in the past ends a Read that waits.
	stop := context.AfterFunc(ctx, func() { s.own.SetReadDeadline(time.Unix(1, 0)) })
	defer func() {
		if !stop() {
			s.own.SetReadDeadline(time.Time{})
		}
	}()
	for {
		_, err := s.own.Read(make([]byte, 1))
		switch {
		case ctx.Err() != nil:
			if err == nil {
				s.Release()
			}
			return ctx.Err()
		case !errors.Is(err, os.ErrDeadlineExceeded): // another one's deadline
			return err
		}
	}
}

// Lease takes up to most slots that are free now, without waiting, and returns
// how many. It is for programs that know nothing of the protocol.
func (s *Slots) Lease(most int) int {
	taken := 0
	for one := make([]byte, 1); taken < most; taken++ {
		if n, err := syscall.Read(s.look, one); n != 1 || err != nil {
			break
		}
	}
	return taken
}

// Release gives a slot back.
func (s *Slots) Release() { s.write.Write([]byte("+")) }

// Inherited returns the two ends of the pipe for a child process. When they
// are its descriptors 3 and 4, it finds the pool through MakeFlags.
func (s *Slots) Inherited() []*os.File { return []*os.File{s.read, s.write} }

// MakeFlags is the value of MAKEFLAGS for such a child.
func (s *Slots) MakeFlags() string { return fmt.Sprintf(" -j%d --jobserver-auth=3,4", s.number) }
