// Package filelock takes locks that programs on one machine respect among each
// other: flock(2) on files that hold nothing.
//
// The kernel ends a lock with the program that holds it. A lock's file stays:
// taking it away would let two programs hold the lock.
package filelock

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"
	"time"

	"github.com/gofrs/flock"
)

// Exclusive waits until no other process holds the lock, Shared until no process holds it
// exclusively. They call waiting once if they have to wait. The returned
// function ends the lock. Errors are the context's or the file's.
func Exclusive(ctx context.Context, file string, waiting func()) (func(), error) {
	return acquire(ctx, file, (*flock.Flock).TryLock, waiting)
}

// Shared is told of at Exclusive.
func Shared(ctx context.Context, file string, waiting func()) (func(), error) {
	return acquire(ctx, file, (*flock.Flock).TryRLock, waiting)
}

// ErrHeld is the error when another process holds a lock.
var ErrHeld = errors.New("another process holds the lock")

// Now takes the lock if no process holds it, and otherwise returns ErrHeld.
func Now(file string) (func(), error) {
	lock := flock.New(file, flock.SetFlag(os.O_CREATE|os.O_RDWR|syscall.O_NOFOLLOW|syscall.O_NONBLOCK),
		flock.SetPermissions(mode(file)))
	held, err := lock.TryLock()
	if err == nil && !held {
		err = ErrHeld
	}
	if err != nil {
		lock.Close()
		return nil, err
	}
	return func() { lock.Unlock() }, nil
}

// Hold locks an open file until it is closed. It is false where another program has the
// lock, or the file no longer has its name.
func Hold(f *os.File) (bool, error) {
	err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB)
	if errors.Is(err, syscall.EWOULDBLOCK) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	ours, err1 := f.Stat()
	there, err2 := os.Lstat(f.Name())
	return err1 == nil && err2 == nil && os.SameFile(ours, there), nil
}

func acquire(ctx context.Context, file string, try func(*flock.Flock) (bool, error), waiting func()) (func(), error) {
	const pause = 50 * time.Millisecond
	lock := flock.New(file, flock.SetFlag(os.O_CREATE|os.O_RDWR|syscall.O_NOFOLLOW|syscall.O_NONBLOCK),
		flock.SetPermissions(mode(file)))
	for tries := 0; ; tries++ {
		held, err := try(lock)
		if err != nil {
			return nil, err
		}
		if held {
			return func() { lock.Unlock() }, nil
		}
		if tries == 0 {
			waiting()
		}
		select {
		case <-time.After(pause):
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
}

// mode is the permissions of a lock's file: only users who can write to its directory can
// take the lock.
func mode(file string) fs.FileMode {
	if info, err := os.Stat(filepath.Dir(file)); err == nil && info.Mode().Perm()&0o020 != 0 {
		return 0o660
	}
	return 0o600
}
