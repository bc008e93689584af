package store

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"github.com/google/renameio/v2"
	"golang.org/x/sys/unix"
)

// Place makes a filled directory the tree of r, but for its receipt: it lists
// the files, brings everything to the disk and renames the directory to where
// it belongs. What was there without a receipt is taken away. The number of
// files and their bytes are returned for the receipt.
func (s *Store) Place(filled string, r Ref) (files int, size int64, err error) {
	tree := s.Tree(r)
	if s.Installed(r) {
		return 0, 0, &Error{Path: tree, Err: errors.New("this tree is already there")}
	}
	_, err = os.Lstat(filled)
	if err == nil {
		err = os.MkdirAll(filepath.Join(filled, ownDirectory), 0o755)
	}
	if err != nil {
		return 0, 0, s.Wrap(err)
	}
	files, size, err = list(filled)
	if err == nil {
		err = syncFileSystem(filled)
	}
	if err == nil {
		err = s.discard(tree)
	}
	if err == nil {
		err = os.MkdirAll(filepath.Dir(tree), 0o755)
	}
	if err == nil {
		err = os.Rename(filled, tree)
	}
	return files, size, s.Wrap(err)
}

// Commit writes the receipt, which makes the directory that Place has put in
// its place a tree.
func (s *Store) Commit(receipt *Receipt) error {
	receipt.Format = receiptFormat
	data, err := json.MarshalIndent(receipt, "", "  ")
	if err != nil {
		return err
	}
	file := filepath.Join(s.Tree(receipt.Ref), receiptFile)
	if err := renameio.WriteFile(file, append(data, '\n'), 0o644); err != nil {
		return s.Wrap(err)
	}
	return s.Wrap(syncDirectory(filepath.Dir(file)))
}

// Withdraw takes a directory that Place has put in its place, and that has no
// receipt yet, back to where it was filled.
func (s *Store) Withdraw(r Ref, filled string) error {
	if s.Installed(r) {
		return &Error{Path: s.Tree(r), Err: errors.New("this tree is complete and stays")}
	}
	if err := os.RemoveAll(filled); err != nil {
		return s.Wrap(err)
	}
	return s.Wrap(os.Rename(s.Tree(r), filled))
}

// Remove removes a tree. Whether anything still needs it is for the caller to
// know.
func (s *Store) Remove(r Ref) error {
	tree := s.Tree(r)
	if err := os.Remove(filepath.Join(tree, receiptFile)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return s.Wrap(err)
	}
	if err := syncDirectory(filepath.Join(tree, ownDirectory)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return s.Wrap(err)
	}
	if err := s.discard(tree); err != nil {
		return s.Wrap(err)
	}
	os.Remove(filepath.Dir(tree)) // only succeeds when it was the last one
	return nil
}

// discard takes away a directory that is no tree, first in one rename.
func (s *Store) discard(tree string) error {
	if _, err := os.Lstat(tree); errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	rubbish, err := os.MkdirTemp(filepath.Join(s.Root, "work"), "rubbish-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(rubbish)
	if err := os.Rename(tree, filepath.Join(rubbish, "tree")); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return makeRemovable(rubbish)
}

// makeRemovable gives back the permission to write in directories, which some
// installers take away.
func makeRemovable(dir string) error {
	return filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err == nil && d.IsDir() {
			if info, err := d.Info(); err == nil && info.Mode()&0o700 != 0o700 {
				return os.Chmod(path, 0o755)
			}
		}
		return err
	})
}

// syncFileSystem brings everything on the file system of dir to the disk. One
// call costs less than one for each of the many files of a tree.
func syncFileSystem(dir string) error {
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	defer d.Close()
	if err := unix.Syncfs(int(d.Fd())); err != nil {
		return fmt.Errorf("sync %s: %w", dir, err)
	}
	return nil
}

func syncDirectory(dir string) error {
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	defer d.Close()
	return d.Sync()
}

// Discard takes away what is in the place of a tree without a receipt.
func (s *Store) Discard(r Ref) error {
	if s.Installed(r) {
		return &Error{Path: s.Tree(r), Err: errors.New("this tree is complete and stays")}
	}
	return s.Wrap(s.discard(s.Tree(r)))
}
