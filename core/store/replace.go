package store

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"syscall"

	"golang.org/x/sys/unix"

	"fernladder/core/durable"
)

// Replace puts a filled directory in the place of an existing tree, in one step: every reader
// sees either the one or the other, complete. The old tree is then in the filled directory's
// place. The receipt is that of the new tree; its numbers of files and bytes are filled in. The
// caller holds the lock of the build.
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

// Exchange exchanges a directory and a tree. If the file system cannot do that in one step,
// there is no tree for an instant.
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

// Damaged is the directory for damaged trees that were moved aside.
func (s *Store) Damaged() string { return filepath.Join(s.Root, "damaged") }

// SetAside moves a tree with a damaged receipt aside, and returns its new path; "" for any other
// tree.
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

// Unreadable are the trees of a package with damaged receipts.
func (s *Store) Unreadable(name string) (all []Ref) {
	trees, _ := s.Trees()
	for r := range trees {
		if _, err := s.Receipt(r); r.Name == name && errors.As(err, new(*damage)) {
			all = append(all, r)
		}
	}
	return all
}

// MoveAside keeps a damaged directory under an unused name, and returns that.
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

// ChmodListed gives a file of a tree the permissions that it has in the list of files: below the
// tree, and through no link. Its contents have to be what the build placed; a file with several
// names, which can be anywhere, is replaced by a copy. The caller holds the lock of the build.
func (s *Store) ChmodListed(r Ref, path string) error {
	name, err := filepath.Rel(s.Tree(r), path)
	if err != nil {
		return err
	}
	files, err := s.Files(r)
	if err != nil {
		return err
	}
	i := slices.IndexFunc(files, func(f File) bool { return f.Path == name })
	root, err := os.OpenRoot(s.Tree(r))
	if err != nil {
		return s.Gone(r, err)
	}
	defer root.Close()
	info, err := root.Lstat(name)
	switch {
	case err != nil || i < 0 || info.Mode().Type() != files[i].Mode.Type():
		return s.Wrap(err)
	case info.IsDir():
		return s.Wrap(root.Chmod(name, files[i].Mode.Perm()))
	case !info.Mode().IsRegular():
		return nil
	}
	return s.Wrap(chmodFile(root, files[i]))
}

// errOther is the error for a file that the build did not place.
var errOther = errors.New("its contents differ from what was placed")

func chmodFile(root *os.Root, f File) error {
	file, err := root.OpenFile(f.Path, os.O_RDONLY|unix.O_NONBLOCK|unix.O_NOFOLLOW, 0)
	if err != nil {
		return err
	}
	defer file.Close()
	info, err := file.Stat()
	if err != nil {
		return err
	}
	aside := filepath.Join(filepath.Dir(f.Path), "."+filepath.Base(f.Path)+".new")
	if err := root.Remove(aside); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	out, err := root.OpenFile(aside, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	defer out.Close()
	h := sha256.New()
	_, err = io.Copy(io.MultiWriter(out, h), io.LimitReader(file, f.Size+1))
	if err == nil && hex.EncodeToString(h.Sum(nil)) != f.SHA256 {
		err = errOther
	}
	if err != nil || info.Sys().(*syscall.Stat_t).Nlink == 1 {
		if err == nil {
			err = file.Chmod(f.Mode.Perm())
		}
		return errors.Join(err, root.Remove(aside))
	}
	return errors.Join(out.Chmod(f.Mode.Perm()), root.Chtimes(aside, info.ModTime(), info.ModTime()), out.Sync(),
		root.Rename(aside, f.Path))
}
