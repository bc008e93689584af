package store

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"

	"fernladder/core/durable"
	"fernladder/core/safefs"
)

// Place makes a filled directory the tree of r, except for its receipt: it lists
// the files, brings everything to the disk and renames the directory to where
// it belongs. What was there without a receipt is taken away. The number of
// files and their bytes are returned for the receipt. Of files whose SHA-256 is known,
// as they were just made, it is not worked out again.
func (s *Store) Place(filled string, r Ref, known map[string]string) (files int, size int64, err error) {
	tree := s.Tree(r)
	if s.Installed(r) {
		return 0, 0, &Error{Path: tree, Err: errors.New("this tree already exists")}
	}
	_, err = os.Lstat(filled)
	if err == nil {
		err = makeOwn(filled)
	}
	if err != nil {
		return 0, 0, s.Wrap(err)
	}
	err = s.commonTree(filled)
	if err == nil {
		files, size, err = list(filled, known)
	}
	if err == nil {
		err = durable.SyncAll(filled)
	}
	if err == nil {
		err = s.TakeBack(r)
	}
	if err == nil {
		err = s.discard(tree)
	}
	if err == nil {
		err = s.moveIn(filled, tree)
	}
	return files, size, s.Wrap(err)
}

// makeOwn makes the program's own directory in a filled one, where nothing that was
// placed may lead it elsewhere.
func makeOwn(filled string) error {
	root, err := os.OpenRoot(filled)
	if err != nil {
		return err
	}
	defer root.Close()
	for _, dir := range []string{filepath.Dir(ownDirectory), ownDirectory} {
		if err := root.Mkdir(dir, 0o755); err != nil && !errors.Is(err, fs.ErrExist) {
			return err
		}
		if info, err := root.Lstat(dir); err != nil || !info.IsDir() {
			return &fs.PathError{Op: "mkdir", Path: filepath.Join(filled, dir), Err: syscall.ENOTDIR}
		}
	}
	return nil
}

// moveIn renames a directory to the place of a tree. Another process may take the directory
// of the package away meanwhile, for the last of its trees was removed.
func (s *Store) moveIn(from, tree string) (err error) {
	const tries = 100
	for range tries {
		switch err = os.Mkdir(filepath.Dir(tree), 0o777); {
		case err == nil:
			err = durable.SyncDir(s.TreesDir()) // the name of the package is new in it
		case errors.Is(err, fs.ErrExist):
			err = nil
		}
		if err != nil {
			return err
		}
		if err = durable.Rename(from, tree); !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		if _, gone := os.Lstat(from); gone != nil {
			return err
		}
	}
	return err
}

// Lend makes the place of a tree a directory that the user may fill. It is no tree
// until it was taken back and something else was placed.
func (s *Store) Lend(r Ref, uid, gid int) error {
	if s.Installed(r) {
		return &Error{Path: s.Tree(r), Err: errors.New("this tree already exists")}
	}
	if err := s.TakeBack(r); err != nil {
		return err
	}
	if err := s.discard(s.Tree(r)); err != nil {
		return s.Wrap(err)
	}
	if err := os.MkdirAll(filepath.Dir(s.Tree(r)), 0o777); err != nil {
		return s.Wrap(err)
	}
	if err := durable.WriteFile(s.lent(r), nil, 0o644); err != nil {
		return s.Wrap(err)
	}
	err := os.Mkdir(s.Tree(r), 0o700)
	if err == nil && uid != 0 {
		err = os.Lchown(s.Tree(r), uid, gid)
	}
	return s.Wrap(err)
}

// TakeBack takes away what was lent, with all that is in it. What was not lent stays.
func (s *Store) TakeBack(r Ref) error {
	if _, err := os.Lstat(s.lent(r)); errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err := s.discard(s.Tree(r)); err != nil {
		return s.Wrap(err)
	}
	err := durable.Remove(s.lent(r))
	os.Remove(filepath.Dir(s.Tree(r))) // only succeeds when nothing else is there
	return s.Wrap(err)
}

const lentSuffix = ".lent"

// lent is the file that says that the place of a tree is lent.
func (s *Store) lent(r Ref) string {
	tree := s.Tree(r)
	return filepath.Join(filepath.Dir(tree), "."+filepath.Base(tree)+lentSuffix)
}

// Commit writes the receipt, which makes the directory that Place has put in
// its place a tree. It fills in the format and where the tree is.
func (s *Store) Commit(receipt *Receipt) error {
	data, err := s.text(receipt)
	if err != nil {
		return err
	}
	if len(data) > largestReceipt {
		return &Error{Path: filepath.Join(s.Tree(receipt.Ref), receiptFile),
			Err: fmt.Errorf("the receipt would have %d MiB, and at most %d are read", len(data)>>20, largestReceipt>>20)}
	}
	return s.Wrap(durable.WriteFile(filepath.Join(s.Tree(receipt.Ref), receiptFile), data, 0o644))
}

// text is a receipt as it is written in its tree.
func (s *Store) text(receipt *Receipt) ([]byte, error) {
	receipt.Format, receipt.Tree = receiptFormat, s.Tree(receipt.Ref)
	data, err := json.MarshalIndent(receipt, "", "  ")
	return append(data, '\n'), err
}

// Withdraw takes a directory that Place has put in its place, and that has no
// receipt yet, back to where it was filled.
func (s *Store) Withdraw(r Ref, filled string) error {
	if s.Installed(r) {
		return &Error{Path: s.Tree(r), Err: errors.New("this tree is complete and stays")}
	}
	if err := safefs.Remove(filled); err != nil {
		return s.Wrap(err)
	}
	err := os.Rename(s.Tree(r), filled)
	os.Remove(filepath.Dir(s.Tree(r))) // only succeeds when it was the last one
	return s.Wrap(err)
}

// Remove removes a tree. Whether anything still needs it is for the caller to
// know.
func (s *Store) Remove(r Ref) error {
	tree := s.Tree(r)
	if err := durable.Remove(filepath.Join(tree, receiptFile)); err != nil {
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
	rubbish, done, err := s.Scratch("rubbish")
	if err != nil {
		return err
	}
	defer done()
	if err := durable.Rename(tree, filepath.Join(rubbish, "tree")); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return safefs.Empty(rubbish)
}

// Discard takes away what is in the place of a tree without a receipt.
func (s *Store) Discard(r Ref) error {
	if s.Installed(r) {
		return &Error{Path: s.Tree(r), Err: errors.New("this tree is complete and stays")}
	}
	return s.Wrap(s.discard(s.Tree(r)))
}
