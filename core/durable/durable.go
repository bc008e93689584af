// Package durable changes files and links so that each is complete in its old or its new state
// at any moment at which the program or the machine can stop, and lasts.
//
// It writes new contents aside, in the same directory, syncs and renames them, and then syncs
// the directory. The file written aside is named ".NAME.new": the caller holds the lock of
// whatever the file belongs to, so no other process writes it, and the next write replaces what
// a killed program has left. No other user can write to the directory.
package durable

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"

	"golang.org/x/sys/unix"

	"fernladder/core/filelock"
)

// Aside is the path at which the new contents of a file are written first.
func Aside(path string) string {
	return filepath.Join(filepath.Dir(path), "."+filepath.Base(path)+".new")
}

// WriteFile replaces or creates a file, with exactly this mode.
func WriteFile(path string, data []byte, mode fs.FileMode) error {
	return replace(path, func(fresh string) error { return fill(fresh, data, mode, syncFile) })
}

// WriteFileFor is WriteFile for a file with an owner and group; -1: those of the writing
// process.
func WriteFileFor(path string, data []byte, mode fs.FileMode, uid, gid int) error {
	return replace(path, func(fresh string) error {
		// With its final mode from the beginning, its owner could open it already.
		return fill(fresh, data, mode, func(f *os.File) error {
			if uid >= 0 || gid >= 0 {
				if err := errors.Join(f.Chown(uid, gid), f.Chmod(mode)); err != nil {
					return err
				}
			}
			return syncFile(f)
		})
	})
}

// Renew replaces the contents of an existing file, and keeps its owner and mode.
func Renew(path string, data []byte) error {
	info, err := os.Lstat(path)
	if err != nil {
		return err
	}
	owner := info.Sys().(*syscall.Stat_t)
	if os.Geteuid() == 0 {
		return WriteFileFor(path, data, info.Mode().Perm(), int(owner.Uid), int(owner.Gid))
	}
	// Other users can only set groups of their own.
	err = WriteFileFor(path, data, info.Mode().Perm(), -1, int(owner.Gid))
	if errors.Is(err, fs.ErrPermission) {
		err = WriteFile(path, data, info.Mode().Perm())
	}
	return err
}

// Symlink replaces or creates a symbolic link.
func Symlink(target, path string) error {
	return replace(path, func(fresh string) error { return os.Symlink(target, fresh) })
}

// Note is WriteFile for dispensable files: the file is complete if the program is killed, but
// may be lost or empty if the machine stops.
func Note(path string, data []byte, mode fs.FileMode) error {
	fresh, err := prepare(path, func(fresh string) error {
		return fill(fresh, data, mode, func(*os.File) error { return nil })
	})
	if err != nil {
		return err
	}
	if err := os.Rename(fresh, path); err != nil {
		return errors.Join(err, discard(fresh))
	}
	trace("rename", fresh, path)
	return nil
}

// syncFile syncs the contents of a file.
func syncFile(f *os.File) error {
	err := f.Sync()
	trace("sync", f.Name())
	return err
}

// Stream replaces or creates a file with what write writes, for files that several programs may
// write at once without a lock: each writes aside, to a name of its own. The next write of the
// file removes what a killed program has left, as does Sweep.
func Stream(path string, mode fs.FileMode, write func(io.Writer) error) error {
	names := asides(path)
	if err := sweep(names); err != nil {
		return err
	}
	f, err := os.CreateTemp(filepath.Dir(path), filepath.Base(names))
	if err != nil {
		return err
	}
	if held, err := filelock.Hold(f); !held {
		f.Close()
		if err != nil {
			return errors.Join(err, discard(f.Name()))
		}
		return Stream(path, mode, write) // it was swept in the instant before it was locked
	}
	moment()
	if err = write(f); err == nil {
		err = errors.Join(f.Chmod(mode), syncFile(f))
	}
	if err = errors.Join(err, f.Close()); err == nil {
		err = Rename(f.Name(), path)
	}
	if err != nil {
		return errors.Join(err, discard(f.Name()))
	}
	return nil
}

// asides is the pattern of the files that Stream writes aside for a file.
func asides(path string) string {
	return filepath.Join(filepath.Dir(path), "."+filepath.Base(path)+".*.new")
}

// Sweep removes what killed programs have left of Stream in a directory.
func Sweep(dir string) error { return sweep(asides(filepath.Join(dir, "*"))) }

func sweep(names string) error {
	left, err := filepath.Glob(names)
	for _, file := range left {
		f, wrong := os.OpenFile(file, os.O_RDWR|unix.O_NOFOLLOW|unix.O_NONBLOCK, 0)
		if wrong != nil {
			continue // it is in its place by now, or another user's
		}
		if held, _ := filelock.Hold(f); held {
			err = errors.Join(err, os.Remove(file))
		}
		f.Close()
	}
	return err
}

// discard deletes a file that could not be renamed into place.
func discard(fresh string) error {
	if err := os.Remove(fresh); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

func replace(path string, make func(fresh string) error) error {
	fresh, err := prepare(path, make)
	if err != nil {
		return err
	}
	if err := Rename(fresh, path); err != nil {
		return errors.Join(err, discard(fresh))
	}
	return nil
}

// prepare creates the new contents of a file aside.
func prepare(path string, make func(fresh string) error) (fresh string, err error) {
	fresh = Aside(path)
	if err := os.Remove(fresh); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return "", err
	}
	moment()
	if err := make(fresh); err != nil {
		os.Remove(fresh) // so that a full disk gets its room back
		return "", err
	}
	return fresh, nil
}

// fill creates and writes a file.
func fill(path string, data []byte, mode fs.FileMode, sync func(*os.File) error) error {
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(data)
	if err == nil {
		err = f.Chmod(mode)
	}
	if err == nil {
		err = sync(f)
	}
	return errors.Join(err, f.Close())
}

// Rename renames a synced file or directory, and syncs the directory that it is renamed to.
func Rename(from, to string) error {
	moment()
	if err := os.Rename(from, to); err != nil {
		return err
	}
	trace("rename", from, to)
	moment()
	return SyncDir(filepath.Dir(to))
}

// Remove deletes a file or a link, and syncs that. A missing file is no error.
func Remove(path string) error {
	moment()
	err := os.Remove(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	trace("remove", path)
	moment()
	return errors.Join(err, SyncDir(filepath.Dir(path)))
}

// SyncDir syncs the entries of a directory. A missing directory has none.
func SyncDir(dir string) error {
	d, err := os.Open(dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	err = d.Sync()
	trace("syncdir", dir)
	return errors.Join(err, d.Close())
}

// SyncAll syncs everything in a directory, and nothing else: a sync of the whole file system
// would wait for the writes of others. It starts writing all files first, so that the disk is
// asked once rather than for each.
func SyncAll(dir string) error {
	each := func(do func(path string, d fs.DirEntry) error) error {
		return filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
			if err != nil || !d.IsDir() && !d.Type().IsRegular() {
				return err
			}
			return do(path, d)
		})
	}
	err := each(func(path string, d fs.DirEntry) error {
		if d.IsDir() {
			return nil
		}
		return opened(path, func(f *os.File) error {
			err := unix.SyncFileRange(int(f.Fd()), 0, 0, unix.SYNC_FILE_RANGE_WRITE)
			if errors.Is(err, unix.ENOSYS) || errors.Is(err, unix.EINVAL) || errors.Is(err, unix.ESPIPE) {
				return nil // then it goes on its way below
			}
			return err
		})
	})
	if err == nil {
		err = each(func(path string, _ fs.DirEntry) error { return opened(path, syncFile) })
	}
	if err != nil {
		return err
	}
	moment()
	return nil
}

func opened(path string, do func(*os.File) error) error {
	f, err := os.OpenFile(path, os.O_RDONLY|syscall.O_NOFOLLOW|syscall.O_NONBLOCK, 0)
	if err != nil {
		return err
	}
	return errors.Join(do(f), f.Close())
}
