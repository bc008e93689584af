package landing

// This file combines the files of several trees in one directory: the directory that
// they were built for.
//
// A path has one meaning. Two trees may have the same file; where the files differ, the
// error names both. Indexes, which are generated from the files of all packages, and the
// records that trees keep of themselves are left out.

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"golang.org/x/sys/unix"

	"fernladder/core/problem"
	"fernladder/core/recipe"
	"fernladder/core/safefs"
	"fernladder/core/store"
)

// A UnionEntry is a file, directory or link of one of the trees.
type UnionEntry struct {
	store.File
	Build store.Ref
	Tree  string
}

// A Union is the contents of several trees, by path, directories before their contents.
type Union []UnionEntry

// UnionOf reads the lists of builds' trees. Errors have the code UnionClash, or are those of the
// store.
func UnionOf(s *store.Store, builds []store.Ref) (Union, error) {
	at := map[string]int{}
	var all Union
	for _, build := range builds {
		files, err := s.Files(build)
		if err != nil {
			return nil, s.Gone(build, err)
		}
		for _, f := range files {
			if Collective(f.Path) {
				continue
			}
			i, taken := at[f.Path]
			if !taken {
				at[f.Path] = len(all)
				all = append(all, UnionEntry{f, build, s.Tree(build)})
				continue
			}
			if !alike(all[i].File, f) {
				return nil, Both(f.Path, all[i].Build, build)
			}
		}
	}
	slices.SortFunc(all, func(a, b UnionEntry) int { return strings.Compare(a.Path, b.Path) })
	return all, nil
}

// BuiltWith is a build and everything for the same prefix that it depends on, except tools.
func BuiltWith(s *store.Store, build *store.Receipt) ([]store.Ref, error) {
	all := []store.Ref{build.Ref}
	needs := build.Needs
	for i := 0; ; {
		for _, need := range needs {
			if need.Role != recipe.Tool && !slices.Contains(all, need.Ref) {
				all = append(all, need.Ref)
			}
		}
		if i++; i == len(all) {
			return all, nil
		}
		var err error
		if needs, err = s.Needs(all[i]); err != nil {
			return nil, err
		}
	}
}

// alike reports whether two files with one path are the same to their users.
func alike(a, b store.File) bool {
	if a.Mode.IsDir() || b.Mode.IsDir() {
		return a.Mode.IsDir() && b.Mode.IsDir()
	}
	return a.Mode == b.Mode && a.Target == b.Target && a.SHA256 == b.SHA256
}

// Find returns the entry of a path, or nil.
func (u Union) Find(path string) *UnionEntry {
	i, is := slices.BinarySearchFunc(u, path, func(e UnionEntry, path string) int { return strings.Compare(e.Path, path) })
	if !is {
		return nil
	}
	return &u[i]
}

// Link creates a directory, in a parent that no other user can write to, with hard links to the
// files of the trees; and copies of files that belong to other users, because the kernel makes
// no links to them (proc_sys_fs(5), protected_hardlinks). No other user may write to it.
func (u Union) Link(dir string) error {
	return u.lay(dir, func(e UnionEntry, to string) error {
		from := filepath.Join(e.Tree, e.Path)
		err := os.Link(from, to)
		if errors.Is(err, fs.ErrPermission) || errors.Is(err, unix.EMLINK) {
			return copyFile(from, to, e.Mode)
		}
		return err
	})
}

// Copy creates a directory in which its user can change everything, with copies of the files.
func (u Union) Copy(dir string) error {
	return u.lay(dir, func(e UnionEntry, to string) error {
		return copyFile(filepath.Join(e.Tree, e.Path), to, e.Mode)
	})
}

// Give makes a directory that Link created one to which another user can add files, and remove
// some, but change none: give changes the owner of its directories and links.
func (u Union) Give(dir string, give func(path string) error) error {
	for _, e := range u {
		if !e.Mode.IsRegular() {
			if err := give(filepath.Join(dir, e.Path)); err != nil {
				return err
			}
		}
	}
	return give(dir)
}

// lay makes the directories and links, and calls put for the files.
func (u Union) lay(dir string, put func(e UnionEntry, to string) error) error {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	for _, e := range u {
		to := filepath.Join(dir, e.Path)
		var err error
		switch {
		case e.Mode.IsDir():
			err = os.Mkdir(to, 0o755)
		case e.Target != "":
			err = os.Symlink(e.Target, to)
		default:
			err = put(e, to)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func copyFile(from, to string, mode fs.FileMode) error {
	in, err := safefs.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	info, err := in.Stat()
	if err != nil {
		return err
	}
	out, err := os.OpenFile(to, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	return errors.Join(err, out.Chmod(mode.Perm()|0o400), out.Close(), os.Chtimes(to, info.ModTime(), info.ModTime()))
}

// UnionClash is the problem of two trees with different files at one path.
const UnionClash problem.Code = "union_clash"

// Both is that problem, of a path that two builds have.
func Both(path string, first, second store.Ref) error {
	return problem.New(problem.Other, path, "%s %s (%s) and %s %s (%s) both have %s", first.Name, first.Version, first.ID,
		second.Name, second.Version, second.ID, path).
		Coded(UnionClash).Remedy(problem.SeparateFiles)
}
