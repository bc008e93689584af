package build

import (
	"io"
	"os"
	"sync/atomic"
	"time"

	"golang.org/x/sys/unix"

	"fernladder/core/sandbox"
)

// An outlet receives the output of commands through a pipe, whose other end the program reads.
// So no build holds a file of the program's, and output can be limited.
type outlet struct {
	write *os.File // for the commands
	read  *os.File
	done  chan error
	over  atomic.Bool
}

// newOutlet copies the output of a user's commands to a writer, up to most bytes (0: no limit);
// it drops the rest, and calls overflow once.
func newOutlet(to io.Writer, most int64, user sandbox.User, overflow func()) (*outlet, error) {
	read, write, err := os.Pipe()
	if err != nil {
		return nil, err
	}
	o := &outlet{write: write, read: read, done: make(chan error, 1)}
	if user.Other() { // programs open /dev/stdout by its name
		if err := unix.Fchown(int(write.Fd()), user.UID, user.GID); err != nil {
			read.Close()
			write.Close()
			return nil, err
		}
	}
	go func() {
		buffer := make([]byte, 64<<10)
		var failed error
		var printed int64
		for {
			n, err := read.Read(buffer)
			take := int64(n)
			if most > 0 && printed+take > most {
				take = max(0, most-printed)
				if !o.over.Swap(true) {
					overflow()
				}
			}
			printed += take
			if take > 0 && failed == nil {
				_, failed = to.Write(buffer[:take])
			}
			if err != nil { // the end, or waiting is over
				o.done <- failed
				return
			}
		}
	}()
	return o, nil
}

// close reads the remaining output. It does not wait for a process that keeps the pipe open
// after its command has ended.
func (o *outlet) close() error {
	o.write.Close()
	const moment = time.Second
	o.read.SetReadDeadline(time.Now().Add(moment))
	err := <-o.done
	o.read.Close()
	return err
}
