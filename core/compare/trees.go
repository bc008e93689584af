package compare

import (
	"bytes"
	"io"
	"io/fs"
	"slices"
	"strings"

	"fernladder/core/inspect"
	"fernladder/core/safefs"
)

// A Place is a directory with the files of a tree, which were made to be in Tree.
type Place struct{ Dir, Tree string }

// Different is a file that two places do not have alike.
type Different struct {
	Path string `json:"path"`
	How  string `json:"how"`
}

// Trees lists the files that two places do not have alike, except for the names of their
// trees in them. The records of the program itself do not count.
func Trees(a, b Place) ([]Different, error) {
	all := []Different{}
	first, err := entries(a)
	if err != nil {
		return nil, err
	}
	second, err := entries(b)
	if err != nil {
		return nil, err
	}
	left, err := safefs.OpenDir(a.Dir)
	if err != nil {
		return nil, err
	}
	defer left.Close()
	right, err := safefs.OpenDir(b.Dir)
	if err != nil {
		return nil, err
	}
	defer right.Close()
	for name, x := range first {
		y, has := second[name]
		how := ""
		switch {
		case !has:
			how = "it is gone"
		case x.mode != y.mode:
			how = "its permissions are " + y.mode.String() + ", and were " + x.mode.String()
		case x.target != y.target:
			how = "it leads to " + y.target + ", and led to " + x.target
		case x.mode.IsRegular():
			same, err := alike(left, right, name, a.Tree, b.Tree)
			if err != nil {
				return nil, err
			}
			if !same {
				how = "its contents differ"
			}
		}
		if how != "" {
			all = append(all, Different{name, how})
		}
	}
	for name := range second {
		if _, has := first[name]; !has {
			all = append(all, Different{name, "it is new"})
		}
	}
	slices.SortFunc(all, func(x, y Different) int { return strings.Compare(x.Path, y.Path) })
	return all, nil
}

type entry struct {
	mode   fs.FileMode
	target string
}

func entries(p Place) (map[string]entry, error) {
	dir, err := safefs.OpenDir(p.Dir)
	if err != nil {
		return nil, err
	}
	defer dir.Close()
	all := map[string]entry{}
	return all, dir.Walk(false, func(e safefs.Entry) error {
		if e.Name == inspect.Own {
			return safefs.Skip
		}
		if e.Mode.IsDir() {
			return nil
		}
		x := entry{mode: e.Mode}
		if e.Mode&fs.ModeSymlink != 0 {
			target, err := e.Target()
			if err != nil {
				return err
			}
			x.target = strings.ReplaceAll(target, p.Tree, "")
		}
		all[e.Name] = x
		return nil
	})
}

// ownless is what is in a file without what only stands for the name of its tree.
func ownless(data []byte, tree string) []byte {
	inspect.BlankBuildID(data)
	return bytes.ReplaceAll(data, []byte(tree), []byte("\x00"))
}

// alike reports whether a file is the same in two places, except for the names of the trees.
func alike(a, b *safefs.Dir, name, treeA, treeB string) (bool, error) {
	const largest = 64 << 20 // without the name of the tree
	if info, err := a.Lstat(name); err == nil && info.Size > largest {
		return alikeBytes(a, b, name)
	}
	var data [2][]byte
	for i, side := range []struct {
		dir  *safefs.Dir
		tree string
	}{{a, treeA}, {b, treeB}} {
		file, err := side.dir.Open(name)
		if err != nil {
			return false, err
		}
		all, err := io.ReadAll(io.LimitReader(file, largest+1))
		file.Close()
		if err != nil {
			return false, err
		}
		data[i] = ownless(all, side.tree)
	}
	return bytes.Equal(data[0], data[1]), nil
}

// alikeBytes reports whether a file is the same in two places, byte for byte.
func alikeBytes(a, b *safefs.Dir, name string) (bool, error) {
	first, err := a.Open(name)
	if err != nil {
		return false, err
	}
	defer first.Close()
	second, err := b.Open(name)
	if err != nil {
		return false, err
	}
	defer second.Close()
	_, same, err := inspect.Common(first, second)
	return same, err
}
