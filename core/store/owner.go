package store

import (
	"bytes"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"

	"fernladder/core/safefs"
)

// An owner is the build that a path belongs to.
type owner struct {
	Build  Ref    // zero where only the package is known
	Name   string // of the package
	File   string // below its tree, or below its configuration
	Config bool   // it is a configuration file
	Listed bool   // the build has placed it; otherwise it was added to the tree later
	Links  int    // that were followed
}

// OwnerOf finds the build that a path belongs to, following links from anywhere into the root.
// ok is false if none leads there. The error is fs.ErrNotExist if the path does not exist.
func (s *Store) OwnerOf(path string) (o owner, ok bool, err error) {
	root, err := filepath.EvalSymlinks(s.Root)
	if err != nil {
		root = s.Root
	}
	const most = 40 // links, as the kernel counts (path_resolution(7))
	for links := 0; links < most; links++ {
		dir, err := filepath.EvalSymlinks(filepath.Dir(path))
		if err != nil {
			return o, false, err
		}
		path = filepath.Join(dir, filepath.Base(path))
		info, err := os.Lstat(path)
		if err != nil {
			return o, false, err
		}
		if o, ok = s.ownerAt(root, path); ok {
			o.Links = links
			o.Listed, err = s.lists(o)
			return o, true, err
		}
		if info.Mode()&fs.ModeSymlink == 0 {
			return o, false, nil
		}
		target, err := os.Readlink(path)
		if err != nil {
			return o, false, err
		}
		if !filepath.IsAbs(target) {
			target = filepath.Join(dir, target)
		}
		path = target
	}
	return o, false, nil
}

// ownerAt finds the owner of a path without links.
func (s *Store) ownerAt(root, path string) (owner, bool) {
	below, is := strings.CutPrefix(path, root+"/")
	if !is {
		return owner{}, false
	}
	parts := strings.SplitN(below, "/", 4)
	switch {
	case parts[0] == "trees" && len(parts) == 4:
		r, ok := parseBuildName(parts[1], parts[2])
		return owner{Build: r, Name: r.Name, File: parts[3]}, ok && s.Installed(r)
	case parts[0] == "config" && len(parts) > 2:
		return owner{Name: parts[1], File: strings.Join(parts[2:], "/"), Config: true}, true
	}
	return owner{}, false
}

// lists reports whether a build placed a file.
func (s *Store) lists(o owner) (bool, error) {
	if o.Config || strings.HasPrefix(o.File, ownDirectory+"/") {
		return true, nil
	}
	found, err := s.search(o.Build, func(line []byte) bool {
		return bytes.HasPrefix(line, []byte("./"+escape(o.File)+" "))
	})
	return len(found) > 0, err
}

// Named finds the files of all trees whose last component is a name. Most of the time goes into
// reading lists, several at once.
func (s *Store) Named(name string) ([]owner, error) {
	lists, err := filepath.Glob(filepath.Join(s.TreesDir(), "*", "*", filesFile))
	if err != nil {
		return nil, err
	}
	end := []byte("/" + escape(name) + " ")
	is := func(line []byte) bool {
		i := bytes.IndexByte(line, ' ')
		return i > 0 && bytes.HasSuffix(line[:i+1], end)
	}
	var lock sync.Mutex
	var all []owner
	var failed error
	var wait sync.WaitGroup
	work := make(chan string)
	for range runtime.NumCPU() {
		wait.Go(func() {
			for list := range work {
				files, r, err := s.searchList(list, end, is)
				lock.Lock()
				if err != nil && !errors.Is(err, fs.ErrNotExist) { // or it was removed since
					failed = err
				}
				for _, file := range files {
					all = append(all, owner{Build: r, Name: r.Name, File: file, Listed: true})
				}
				lock.Unlock()
			}
		})
	}
	for _, list := range lists {
		work <- list
	}
	close(work)
	wait.Wait()
	if failed != nil {
		return nil, failed
	}
	slices.SortFunc(all, func(a, b owner) int {
		return strings.Compare(a.Build.String()+" "+a.File, b.Build.String()+" "+b.File)
	})
	return all, nil
}

// searchList finds the lines of a list of files, given by its path, that contain a text.
func (s *Store) searchList(list string, text []byte, is func(line []byte) bool) ([]string, Ref, error) {
	r, ok := s.RefOf(strings.TrimSuffix(list, "/"+filesFile))
	data, err := safefs.ReadFile(list, largestList)
	if err != nil || !ok || !bytes.Contains(data, text) || !s.Installed(r) {
		return nil, r, s.Wrap(err)
	}
	return matching(data, is), r, nil
}

// search finds lines in the list of a tree's files, and returns their paths. It does not parse
// the list, because most of it does not match.
func (s *Store) search(r Ref, is func(line []byte) bool) ([]string, error) {
	tree, err := safefs.OpenDir(s.Tree(r))
	if err != nil {
		return nil, s.Gone(r, err)
	}
	defer tree.Close()
	data, err := tree.ReadFile(filesFile, largestList)
	if err != nil {
		return nil, s.Gone(r, err)
	}
	return matching(data, is), nil
}

// matching are the paths of the lines of a list that fulfil a condition.
func matching(data []byte, is func(line []byte) bool) (files []string) {
	for len(data) > 0 {
		line := data
		if i := bytes.IndexByte(data, '\n'); i >= 0 {
			line, data = data[:i], data[i+1:]
		} else {
			data = nil
		}
		if !is(line) {
			continue
		}
		name, _, _ := bytes.Cut(line, []byte(" "))
		files = append(files, unescape(strings.TrimPrefix(string(name), "./")))
	}
	return files
}

// largestList is more than any tree's list of files has.
const largestList = 1 << 30
