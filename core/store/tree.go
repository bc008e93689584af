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

// Place makes a filled directory the tree of r, except for its receipt: it lists the files,
// syncs everything to the disk and renames the directory into place. It replaces a directory
// without a receipt. It returns the number of files and their bytes for the receipt. It does not
// compute the SHA-256 of files that were just made and whose digest is known.
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

// makeOwn makes the program's own directory in a filled one, without following links that were
// placed there.
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

// moveIn renames a directory into the place of a tree. Another process may remove the package's
// directory meanwhile, with the last of its trees.
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

// Lend makes the place of a tree a directory that the user may fill. It is no tree until it was
// taken back and something else was placed.
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

// TakeBack deletes what was lent, with its contents. It leaves what was not lent.
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

// lent is the file that marks the place of a tree as lent.
func (s *Store) lent(r Ref) string {
	tree := s.Tree(r)
	return filepath.Join(filepath.Dir(tree), "."+filepath.Base(tree)+lentSuffix)
}

// Commit writes the receipt, which makes the directory that Place moved into place a tree. It
// fills in the format and the tree's path.
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

// text is a receipt in its written form.
func (s *Store) text(receipt *Receipt) ([]byte, error) {
	receipt.Format, receipt.Tree = receiptFormat, s.Tree(receipt.Ref)
	data, err := json.MarshalIndent(receipt, "", "  ")
	return append(data, '\n'), err
}

// Withdraw moves a directory that Place moved into place, and that has no receipt yet, back to
// where it was filled.
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

// Remove removes a tree. The caller makes sure that nothing needs it.
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

// discard deletes a directory that is no tree, beginning with one rename.
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

// Discard deletes a directory without a receipt in the place of a tree.
func (s *Store) Discard(r Ref) error {
	if s.Installed(r) {
		return &Error{Path: s.Tree(r), Err: errors.New("this tree is complete and stays")}
	}
	return s.Wrap(s.discard(s.Tree(r)))
}
