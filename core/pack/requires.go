package pack

import (
	"bufio"
	"io"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"fernladder/core/inspect"
	"fernladder/core/landing"
	"fernladder/core/recipe"
	"fernladder/core/safefs"
	"fernladder/core/store"
)

// requires is what the files of a tree need from outside of the tree.
type requires struct {
	trees        map[store.Ref]bool  // whose libraries are used, or whose files are named
	tools        map[store.Ref]bool  // that scripts are run by
	named        bool                // names in files are looked up
	dirs         map[string]bool     // of the prefix that are named
	libraries    map[string][]string // of the operating system, with the versions of symbols
	interpreters []string            // of scripts, as they are named
	modules      []string            // of pkg-config, for building against it
	bits         int                 // 64 or 32, of its programs
	declared     []store.HostNeed    // by the recipe, for needs that files do not show
}

// look finds out what a tree needs, from its files.
func (p *packing) look(r *store.Receipt) (*requires, error) {
	dir, err := safefs.OpenDir(r.Tree)
	if err != nil {
		return nil, err
	}
	defer dir.Close()
	// Only these may turn out not to be needed at run time.
	named := slices.ContainsFunc(r.Needs, func(l store.Link) bool { return l.Role != recipe.Runtime })
	n := &requires{named: named, trees: map[store.Ref]bool{}, tools: map[store.Ref]bool{}, dirs: map[string]bool{},
		libraries: map[string][]string{}, bits: 64, declared: r.RunsWith}
	if strings.HasSuffix(r.Machine.Arch, "86") || strings.HasPrefix(r.Machine.Arch, "armv7") {
		n.bits = 32
	}
	for _, f := range p.files[r.Ref] {
		if !f.Mode.IsRegular() || f.Target != "" {
			continue
		}
		if err := p.lookAt(n, dir, r, f); err != nil {
			return nil, err
		}
	}
	for _, v := range r.Env {
		if err := p.mentions(n, r, strings.NewReader(v.Value)); err != nil {
			return nil, err
		}
	}
	slices.Sort(n.interpreters)
	n.interpreters = slices.Compact(n.interpreters)
	slices.Sort(n.modules)
	n.modules = slices.Compact(n.modules)
	for name, versions := range n.libraries {
		slices.Sort(versions)
		n.libraries[name] = slices.Compact(versions)
	}
	return n, nil
}

func (p *packing) lookAt(n *requires, dir *safefs.Dir, r *store.Receipt, f store.File) error {
	file, err := dir.Open(f.Path)
	if err != nil {
		return err
	}
	defer file.Close()
	if path.Ext(f.Path) == ".pc" {
		n.modules = append(n.modules, modulesOf(file)...)
		return nil
	}
	if b, is := inspect.ReadBinary(file); is {
		for _, contents := range inspect.Loaded(file) {
			if err := p.mentions(n, r, contents); err != nil {
				return err
			}
		}
		at := path.Dir(filepath.Join(r.At(), f.Path))
		for _, library := range b.Needs {
			looks := b.Looks(at)
			if r.Prefix != "" { // where a person may let the loader look
				looks = append(looks, filepath.Join(r.Prefix, "lib"))
			}
			if own, ref := p.ofTrees(r, looks, library); own {
				if ref != r.Ref {
					n.trees[ref] = true
				}
				continue
			}
			n.libraries[library] = append(n.libraries[library], b.Versions[library]...)
		}
		return nil
	}
	if !development(f) {
		if _, err := file.Seek(0, io.SeekStart); err != nil {
			return err
		}
		if err := p.mentions(n, r, file); err != nil {
			return err
		}
	}
	if f.Mode.Perm()&0o111 == 0 {
		return nil
	}
	if _, err := file.Seek(0, io.SeekStart); err != nil {
		return err
	}
	if line := firstLine(file); strings.HasPrefix(line, "#!") {
		words := strings.Fields(line[2:])
		if len(words) > 0 { // also where a tool has it: that is more than a name
			p.interpreter(n, r, words[0])
		}
		switch {
		case len(words) > 1 && path.Base(words[0]) == "env" && !strings.HasPrefix(words[1], "-"):
			n.interpreters = append(n.interpreters, words[0], words[1])
		case len(words) > 0 && path.IsAbs(words[0]) && !strings.HasPrefix(words[0], p.m.Store.Root+"/") &&
			p.inPrefix(r, words[0]) == nil:
			n.interpreters = append(n.interpreters, words[0])
		}
	}
	return nil
}

// ofTrees reports whether a library is in one of a program's run paths, in its own tree or one
// that it was built with.
func (p *packing) ofTrees(r *store.Receipt, dirs []string, library string) (bool, store.Ref) {
	if strings.Contains(library, "/") {
		return true, r.Ref // by its path
	}
	for _, dir := range dirs {
		at := filepath.Join(dir, library)
		if r.Prefix != "" {
			if e := p.inPrefix(r, at); e != nil {
				return true, e.Build
			}
			continue
		}
		if _, err := os.Lstat(at); err != nil {
			continue
		}
		if o, is, err := p.m.Store.OwnerOf(at); err == nil && is {
			return true, o.Build
		}
	}
	return false, store.Ref{}
}

// inPrefix is the file of a build at a path of the build's prefix, or nil.
func (p *packing) inPrefix(r *store.Receipt, at string) *landing.UnionEntry {
	if rest, is := strings.CutPrefix(at, r.At()+"/"); is && r.Prefix != "" {
		return p.union.Find(path.Clean(rest))
	}
	return nil
}

func firstLine(file *os.File) string {
	lines := bufio.NewScanner(file)
	lines.Buffer(make([]byte, 512), 512)
	if lines.Scan() {
		return lines.Text()
	}
	return ""
}

// modulesOf are those that a pkg-config module requires for building (pc(5)).
func modulesOf(file *os.File) (modules []string) {
	lines := bufio.NewScanner(file)
	for n := 0; lines.Scan() && n < 1000; n++ {
		for _, field := range []string{"Requires:", "Requires.private:"} {
			rest, is := strings.CutPrefix(lines.Text(), field)
			if !is {
				continue
			}
			words := strings.FieldsFunc(rest, func(c rune) bool { return c == ' ' || c == ',' || c == '\t' })
			for i := 0; i < len(words); i++ {
				if strings.ContainsAny(words[i], "<>=!") {
					i++ // its version
					continue
				}
				if !strings.Contains(words[i], "$") {
					modules = append(modules, words[i])
				}
			}
		}
	}
	return modules
}
