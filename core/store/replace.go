package store

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"golang.org/x/sys/unix"

	"fernladder/core/durable"
)

// Replace puts a filled directory in the place of a tree that is there, in one step:
// whoever looks sees the one or the other, whole. The tree that was there is in
// the filled directory's place then. The receipt is that of the new tree; its numbers
// of files and bytes are filled in. The caller holds the lock of the build.
func (s *Store) Replace(filled string, receipt *Receipt, known map[string]string) error {
	err := makeOwn(filled)
	if err == nil {
		err = s.commonTree(filled)
	}
	if err == nil {
		receipt.Files, receipt.Size, err = list(filled, known)
	}
	if err != nil {
		return s.Wrap(err)
	}
	data, err := s.text(receipt)
	if err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(filled, receiptFile), data, 0o644); err != nil {
		return s.Wrap(err)
	}
	if err := durable.SyncAll(filled); err != nil {
		return s.Wrap(err)
	}
	return s.Exchange(filled, receipt.Ref)
}

// Exchange exchanges a directory and a tree. Where the file system cannot do that in
// one step, there is no tree for an instant.
func (s *Store) Exchange(dir string, r Ref) error {
	tree := s.Tree(r)
	durable.Moment()
	err := unix.Renameat2(unix.AT_FDCWD, dir, unix.AT_FDCWD, tree, unix.RENAME_EXCHANGE)
	if errors.Is(err, unix.EINVAL) || errors.Is(err, unix.ENOSYS) {
		aside := dir + ".old"
		if err = os.Rename(tree, aside); err == nil {
			if err = os.Rename(dir, tree); err == nil {
				err = os.Rename(aside, dir)
			}
		}
	}
	if err != nil {
		return s.Wrap(&fs.PathError{Op: "rename", Path: tree, Err: err})
	}
	durable.Moment()
	return s.Wrap(errors.Join(durable.SyncDir(filepath.Dir(tree)), durable.SyncDir(filepath.Dir(dir))))
}

// Damaged is the directory of what was moved aside because it was damaged.
func (s *Store) Damaged() string { return filepath.Join(s.Root, "damaged") }

// SetAside moves a tree whose receipt is damaged out of the way, and returns where it is;
// "" for any other.
func (s *Store) SetAside(ctx context.Context, r Ref) (string, error) {
	unlock, err := s.LockBuild(ctx, r, func() {})
	if err != nil {
		return "", err
	}
	defer unlock()
	if _, err := s.Receipt(r); !errors.As(err, new(*damage)) {
		return "", nil
	}
	return s.MoveAside(s.Tree(r), r.String())
}

// Unreadable are the trees of a package whose receipts are damaged.
func (s *Store) Unreadable(name string) (all []Ref) {
	trees, _ := s.Trees()
	for r := range trees {
		if _, err := s.Receipt(r); r.Name == name && errors.As(err, new(*damage)) {
			all = append(all, r)
		}
	}
	return all
}

// MoveAside keeps a damaged directory under a name that nothing has, and returns that.
func (s *Store) MoveAside(dir, name string) (string, error) {
	if err := os.MkdirAll(s.Damaged(), 0o777); err != nil {
		return "", s.Wrap(err)
	}
	for number := 1; ; number++ {
		aside := filepath.Join(s.Damaged(), fmt.Sprintf("%s.%d", name, number))
		err := unix.Renameat2(unix.AT_FDCWD, dir, unix.AT_FDCWD, aside, unix.RENAME_NOREPLACE)
		if errors.Is(err, unix.EINVAL) || errors.Is(err, unix.ENOSYS) {
			if _, there := os.Lstat(aside); there != nil {
				err = os.Rename(dir, aside)
			} else {
				err = unix.EEXIST
			}
		}
		if errors.Is(err, unix.EEXIST) {
			continue
		}
		if err != nil {
			return "", s.Wrap(&fs.PathError{Op: "rename", Path: dir, Err: err})
		}
		return aside, s.Wrap(durable.SyncDir(s.Damaged()))
	}
}

// ChmodListed gives a file of a tree, named by its path, the permissions that it has in
// the list of files: below the tree, and through no link. The caller holds the lock of
// the build.
func (s *Store) ChmodListed(r Ref, path string, mode fs.FileMode) error {
	file, err := filepath.Rel(s.Tree(r), path)
	if err != nil {
		return err
	}
	root, err := os.OpenRoot(s.Tree(r))
	if err != nil {
		return s.Gone(r, err)
	}
	defer root.Close()
	info, err := root.Lstat(file)
	if err != nil || info.Mode()&fs.ModeSymlink != 0 {
		return s.Wrap(err)
	}
	return s.Wrap(root.Chmod(file, mode.Perm()))
}
