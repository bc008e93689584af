package build

import (
	"bytes"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"fernladder/core/pattern"
	"fernladder/core/recipe"
	"fernladder/core/safefs"
	"fernladder/core/store"
)

// public are the library needs that builds against a tree see, too, as if they declared them: its
// headers include theirs, one of its libraries is a linker script that names theirs, or it only has
// libraries for static linking. tree has what was placed, and belongs to the program.
func public(tree string, job *Job) (refs []store.Ref) {
	var needs []*Job
	for i, link := range job.Package.Needs {
		if link.Role == recipe.Library {
			needs = append(needs, job.Needs[i])
		}
	}
	if len(needs) == 0 {
		return nil
	}
	includes, links, static := mentions(tree)
	for _, need := range needs {
		dirs := append(HeadersBelow(need.Tree), "include")
		includes := slices.ContainsFunc(includes, func(name string) bool {
			return slices.ContainsFunc(dirs, func(dir string) bool { return safefs.Exists(filepath.Join(need.Tree, dir, name)) })
		})
		if includes || static || slices.ContainsFunc(links, func(name string) bool {
			return safefs.Exists(filepath.Join(need.Tree, "lib", "lib"+name+".so"))
		}) {
			refs = append(refs, need.Ref)
		}
	}
	return refs
}

// mentions are the headers that a tree's headers include and that the tree lacks, the libraries
// that its linker scripts name, and whether it only has libraries for static linking.
func mentions(tree string) (includes, links []string, static bool) {
	root, err := os.OpenRoot(tree)
	if err != nil {
		return nil, nil, false
	}
	defer root.Close()
	named := func(name string, in *pattern.Pattern) (names []string) {
		const largest = 1 << 20
		f, err := root.Open(name)
		if err != nil {
			return nil
		}
		defer f.Close()
		text, _ := io.ReadAll(io.LimitReader(f, largest))
		if bytes.Contains(text, []byte{0}) {
			return nil
		}
		for _, m := range in.Compiled().FindAllSubmatch(text, -1) {
			names = append(names, string(m[1]))
		}
		return names
	}
	has := func(name string) bool { _, err := root.Stat(name); return err == nil }
	fs.WalkDir(root.FS(), "include", func(name string, e fs.DirEntry, err error) error {
		if err == nil && e.Type().IsRegular() {
			includes = append(includes, named(name, included)...)
		}
		return nil
	})
	slices.Sort(includes)
	includes = slices.DeleteFunc(slices.Compact(includes), func(name string) bool {
		return !filepath.IsLocal(name) || has("include/"+name)
	})
	entries, _ := fs.ReadDir(root.FS(), "lib")
	shared := false
	for _, e := range entries {
		static, shared = static || strings.HasSuffix(e.Name(), ".a"), shared || strings.HasSuffix(e.Name(), ".so")
		if e.Type().IsRegular() && strings.HasSuffix(e.Name(), ".so") {
			links = append(links, named("lib/"+e.Name(), linkerWord)...)
		}
	}
	return includes, links, static && !shared
}

var (
	included   = pattern.New(`(?m)^[ \t]*#[ \t]*include[ \t]*[<"]([\w./+-]+)[>"]`)
	linkerWord = pattern.New(`-l([\w.+-]+)`)
)

// publish makes those of some neighbours direct that the needed libraries make public.
func publish(s *store.Store, all []Neighbour) []Neighbour {
	for more := true; more; {
		more = false
		for _, n := range all {
			if !n.Direct || n.Role != recipe.Library {
				continue
			}
			receipt, err := s.Receipt(n.Ref)
			if err != nil { // a build says so itself
				continue
			}
			for i := range all {
				if o := &all[i]; !o.Direct && o.Role == recipe.Library && slices.Contains(receipt.Public, o.Ref) {
					o.Direct, more = true, true
				}
			}
		}
	}
	return all
}
