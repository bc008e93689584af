package store

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"

	"fernladder/core/durable"
	"fernladder/core/safefs"
)

// Directories that programs write in are in state/NAME: one for all builds of a package, to
// which each tree has a link. Fern Ladder creates one with the files that the build placed
// there, and never changes it afterwards.

// StateDir is the path of a directory that programs of a package write in.
func (s *Store) StateDir(name, dir string) string {
	return filepath.Join(s.Root, "state", name, filepath.FromSlash(dir))
}

// largestState limits the size of one initial file, in bytes.
const largestState = 64 << 20

// states creates the missing directories of a build.
func (s *Store) states(r *Receipt) error {
	for _, c := range r.Writable {
		dir := s.StateDir(r.Name, c.File)
		if _, err := os.Lstat(dir); !errors.Is(err, fs.ErrNotExist) {
			continue // it is not ours any more
		}
		base, done, err := s.Scratch("state")
		if err == nil {
			change := ConfigChange{File: dir, tree: s.Tree(r.Ref), as: c}
			err = change.fill(c.Sample, filepath.Join(base, "filled"))
			done()
		}
		if err != nil {
			return s.Wrap(err)
		}
	}
	return nil
}

// fill creates a directory aside with its initial files, then renames it: it appears complete,
// and a faster process wins.
func (c ConfigChange) fill(sample, aside string) error {
	mode, err := c.as.Permissions(0o755)
	if err != nil {
		return err
	}
	uid, gid, err := c.whose()
	if err != nil {
		return err
	}
	if err := errors.Join(os.MkdirAll(filepath.Dir(c.File), 0o755), os.Mkdir(aside, 0o700)); err != nil {
		return err
	}
	if err := c.copy(filepath.Join(c.tree, sample), aside, uid, gid); err != nil {
		return err
	}
	if err := errors.Join(os.Lchown(aside, uid, gid), os.Chmod(aside, mode), durable.SyncDir(aside)); err != nil {
		return err
	}
	if err := os.Rename(aside, c.File); err != nil && !errors.Is(err, fs.ErrExist) && !errors.Is(err, syscall.ENOTEMPTY) {
		return err
	}
	return durable.SyncDir(filepath.Dir(c.File))
}

// copy copies the regular files and directories of a sample, if there is one. It follows no links.
func (c ConfigChange) copy(sample, to string, uid, gid int) error {
	from, err := safefs.OpenDir(sample)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	defer from.Close()
	return from.Walk(false, func(e safefs.Entry) error {
		at := filepath.Join(to, e.Name)
		switch {
		case e.Mode.IsDir():
			return errors.Join(os.Mkdir(at, 0o755), os.Lchown(at, uid, gid))
		case e.Mode.IsRegular():
			data, err := from.ReadFile(e.Name, largestState)
			if err != nil {
				return err
			}
			return durable.WriteFileFor(at, data, e.Mode.Perm()|0o200, uid, gid)
		}
		return nil
	})
}
