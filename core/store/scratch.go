package store

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/sys/unix"

	"fernladder/core/durable"
	"fernladder/core/filelock"
	"fernladder/core/safefs"
)

func (s *Store) scratch() string { return filepath.Join(s.Root, "work", "scratch") }

// scratchLock follows the name of a scratch directory, for the file that its user locks. It is a
// file because locks on directories do not work between machines that share the root. It exists
// before the directory and after it.
const scratchLock = ".lock"

// Scratch makes a temporary directory that no other user can reach by name. done deletes it; if
// this program is killed, the next one that prepares the root does.
func (s *Store) Scratch(kind string) (dir string, done func(), err error) {
	for {
		if err := os.MkdirAll(s.scratch(), 0o777); err != nil {
			return "", nil, err
		}
		file, err := os.CreateTemp(s.scratch(), kind+"-*"+scratchLock)
		if err != nil {
			return "", nil, err
		}
		file.Close()
		held, err := hold(file.Name())
		if errors.Is(err, fs.ErrNotExist) || err == nil && held == nil {
			continue // another process took it for one that was left, in the instant before it was locked
		}
		if err != nil {
			return "", nil, err
		}
		dir = strings.TrimSuffix(file.Name(), scratchLock)
		done = func() {
			if safefs.Remove(dir) == nil { // else the next does it
				os.Remove(file.Name())
			}
			held.Close()
		}
		// Only the group that it is given to may enter.
		if err := errors.Join(os.Mkdir(dir, 0o700), os.Chmod(dir, 0o710)); err != nil {
			done()
			return "", nil, err
		}
		return dir, done, nil
	}
}

// hold opens a file and locks it, until it is closed. It is nil if another program has the lock.
func hold(path string) (*os.File, error) {
	f, err := os.OpenFile(path, os.O_RDWR|unix.O_NOFOLLOW|unix.O_NONBLOCK, 0)
	if err != nil {
		return nil, err
	}
	held, err := filelock.Hold(f)
	if !held {
		f.Close()
		return nil, err
	}
	return f, nil
}

// sweep deletes what killed programs left: scratch directories, places of trees that were lent
// to builds, half-removed trees, and half-written files.
func (s *Store) sweep() error {
	if err := errors.Join(s.sweepTrees(), s.sweepAgain()); err != nil {
		return err
	}
	for _, dir := range []string{"bare", "host-files", "supplies"} {
		if err := durable.Sweep(filepath.Join(s.Root, dir)); err != nil {
			return err
		}
	}
	entries, err := os.ReadDir(s.scratch())
	if err != nil {
		return err
	}
	for _, e := range entries {
		if strings.HasPrefix(e.Name(), ".") {
			continue // a network file system's, of files that are still open
		}
		path := filepath.Join(s.scratch(), e.Name())
		lock := strings.TrimSuffix(path, scratchLock) + scratchLock
		held, err := hold(lock)
		switch {
		case held != nil:
		case errors.Is(err, fs.ErrNotExist) && path != lock && !safefs.Exists(lock): // it never had one, or no process has it
		default:
			continue // gone, or in use
		}
		err = safefs.Remove(strings.TrimSuffix(path, scratchLock))
		if err == nil && held != nil {
			err = os.Remove(lock)
		}
		if held != nil {
			held.Close()
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// sweepAgain deletes the directories of rebuilds that no process uses any more.
func (s *Store) sweepAgain() error {
	found, err := filepath.Glob(filepath.Join(s.Root, "work", "*"+againSuffix))
	if err != nil {
		return err
	}
	for _, dir := range found {
		unlock, err := filelock.Now(s.lockFile(filepath.Base(dir)))
		if err != nil {
			continue // another process does
		}
		err = safefs.Remove(dir)
		unlock()
		if err != nil {
			return err
		}
	}
	return nil
}

func (s *Store) sweepTrees() error {
	found, err := filepath.Glob(filepath.Join(s.TreesDir(), "*", "*"))
	if err != nil {
		return err
	}
	for _, path := range found {
		base := strings.TrimSuffix(strings.TrimPrefix(filepath.Base(path), "."), lentSuffix)
		r, ok := parseBuildName(filepath.Base(filepath.Dir(path)), base)
		if !ok || s.Installed(r) {
			continue
		}
		unlock, err := filelock.Now(s.lockFile(r.String()))
		if err != nil {
			continue // another process builds it
		}
		err = s.sweepTree(r)
		unlock()
		if err != nil {
			return err
		}
	}
	return nil
}

// sweepTree deletes a directory without a receipt in the place of a tree. Files that an interrupted
// build had placed but not tried are kept for its next run.
func (s *Store) sweepTree(r Ref) error {
	if s.Installed(r) {
		return nil
	}
	if err := s.TakeBack(r); err != nil {
		return err
	}
	if _, err := os.Lstat(s.Work(r)); err == nil {
		return nil
	}
	err := s.discard(s.Tree(r))
	os.Remove(filepath.Dir(s.Tree(r))) // only succeeds when nothing else is there
	return err
}
