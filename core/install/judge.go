package install

import (
	"debug/elf"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"fernladder/core/buildfile"
	"fernladder/core/draft"
	"fernladder/core/inspect"
	"fernladder/core/machine"
	"fernladder/core/pattern"
	"fernladder/core/recipe"
	"fernladder/core/safefs"
	"fernladder/core/store"
)

// A judgement is how a tree deviates from its recipe.
type judgement struct {
	others []string          // sentences
	alone  []unlinkedLibrary // libraries that are not linked with what they use
	unused []string          // needs that no file is linked with
	opens  bool              // a file opens libraries while it runs, which may be those
	below  []string          // directories of include in which its headers look for each other, and are not
}

// wrong is a sentence for each deviation; none means that the recipe is right.
func (j judgement) wrong() (sentences []string) {
	sentences = slices.Clone(j.others)
	for _, u := range j.alone {
		sentences = append(sentences, u.String())
	}
	for _, need := range j.unused {
		sentences = append(sentences, fmt.Sprintf("no file is linked with %s, which the recipe needs as a library", need))
	}
	return sentences
}

// judge compares a recipe with the tree built from it: the libraries that its files load are
// those of the recipe's needs, if the shelf has them; no need is unused; and no feature that is
// on is missing. In a bare room, the recipe has named all of the operating system that is
// visible. known is what the shelves offer.
func judge(m *machine.Machine, known *draft.Known, r *recipe.Recipe,
	built *store.Receipt) (found judgement, err error) {
	of := map[string]string{} // the visible needs that have a library, by its file's name
	var needs []store.Ref
	for _, need := range built.Needs {
		if need.Role == recipe.Library {
			needs = append(needs, need.Ref)
		}
	}
	for i := 0; i < len(needs); i++ {
		files, err := m.Store.Files(needs[i])
		if err != nil {
			return found, err
		}
		for name := range libraries(files) {
			of[name] = needs[i].Name
		}
		need, err := m.Store.Receipt(needs[i])
		if err != nil {
			return found, m.Store.Wrap(err)
		}
		for _, public := range need.Public {
			if !slices.Contains(needs, public) {
				needs = append(needs, public)
			}
		}
	}
	files, err := m.Store.Files(built.Ref)
	if err != nil {
		return found, err
	}
	own := libraries(files)
	used, told := map[string]bool{}, map[string]bool{}
	tell := func(line string) {
		if !told[line] {
			told[line] = true
			found.others = append(found.others, line)
		}
	}
	linked := false // else there may be static libraries, which say nothing
	var asking []askingLibrary
	err = binaries(m.Store, built.Ref, func(file string, f *os.File, b inspect.Binary) {
		linked = true
		if len(needs) > 0 {
			imports := inspect.Imports(f)
			wants := slices.DeleteFunc(slices.Clone(imports), func(name string) bool { return strings.Contains(name, "@") })
			found.opens = found.opens || slices.ContainsFunc(imports, func(name string) bool {
				name, _, _ = strings.Cut(name, "@")
				return name == "dlopen"
			})
			if libraryFile.MatchString(path.Base(file)) && b.Interpreter == "" && len(wants) > 0 {
				asking = append(asking, askingLibrary{file, b.Needs, wants})
			}
		}
		for _, name := range b.Needs {
			base := path.Base(name) // it is a path where the library has no name of its own
			stem := libraryFile.FindStringSubmatch(base)
			switch need := of[base]; {
			case need != "" &&
				(base != name || slices.ContainsFunc(b.RunPath, func(dir string) bool {
					return strings.Contains(dir, "/"+need+"/")
				})):
				used[need] = true
			case need != "":
				tell(fmt.Sprintf("%s is linked with %s and has no run path to it: the loader uses the operating system's %s, or "+
					"none", file, need, base))
			case own[base], runtimes.MatchString(base), stem == nil:
			default:
				if other, sure, _ := known.Find("library", stem[1]); sure && other != r.Name {
					tell(fmt.Sprintf("%s is the operating system's, although the recipe %s has it: a [[need]] is missing",
						base, other))
				}
			}
		}
	})
	if err != nil {
		return found, err
	}
	found.alone, err = unlinked(m.Store, built.Needs, asking)
	for _, u := range found.alone {
		used[u.need] = true
	}
	for _, need := range built.Needs {
		has := slices.Contains(slices.Collect(maps.Values(of)), need.Name)
		if linked && need.Role == recipe.Library && has && !used[need.Name] && !indirect(m.Store, built, need, used) {
			found.unused = append(found.unused, need.Name)
		}
	}
	found.below = misplaced(m.Store.Tree(built.Ref), files, tell)
	for _, name := range built.Without {
		if o := r.Option(name); o != nil && built.Options[name] == "on" {
			tell(fmt.Sprintf("the option %s is on, but the source was configured without it", name))
		}
	}
	return found, err
}

// misplaced finds the directories below include in which headers of a tree include each other, if they
// are not there, but directly in include. Others, which include them in the same way, do not find them.
func misplaced(tree string, files []store.File, tell func(string)) (below []string) {
	has := map[string]bool{}
	for _, f := range files {
		has[f.Path] = true
	}
	for _, f := range files {
		if path.Dir(f.Path) != "include" || !f.Mode.IsRegular() {
			continue
		}
		const most = 1 << 18
		text, err := safefs.ReadFile(filepath.Join(tree, f.Path), most)
		if err != nil { // no header is that large
			continue
		}
		for _, m := range includes.FindAllStringSubmatch(string(text), -1) {
			there := path.Join("include", m[2])
			if has[there] && !has[path.Join("include", m[1])] && !buildfile.OfC(m[1]+"/"+m[2]) &&
				!slices.Contains(below, m[1]) {
				tell(fmt.Sprintf("%s includes %s/%s, which is placed as %s", f.Path, m[1], m[2], there))
				below = append(below, m[1])
			}
		}
	}
	return below
}

// includes matches the inclusion of a header in a directory.
var includes = pattern.New(`(?m)^[ \t]*#[ \t]*include[ \t]*[<"]([\w-]+)/([\w.-]+)[>"]`)

// runtimes are the libraries of the compilers and the C library.
var runtimes = pattern.New(`^(?:linux-vdso|lib(?:c|m|dl|rt|pthread|gcc_s|stdc\+\+|resolv|atomic|util|crypt|gomp` +
	`|gfortran|quadmath)|ld-linux[\w-]*)\.so`)

var libraryFile = pattern.New(`^lib([\w.+-]+?)\.so`)

// indirect reports whether a need is one of another need in use: pkg-config asks for both.
func indirect(s *store.Store, built *store.Receipt, need store.Link, used map[string]bool) bool {
	return slices.ContainsFunc(built.Needs, func(other store.Link) bool {
		if !used[other.Name] {
			return false
		}
		r, err := s.Receipt(other.Ref)
		return err == nil && slices.ContainsFunc(r.Needs, func(n store.Link) bool { return n.Ref == need.Ref })
	})
}

// libraries are the names of the shared libraries among the files of a tree.
func libraries(files []store.File) map[string]bool {
	names := map[string]bool{}
	for _, f := range files {
		if base := path.Base(f.Path); f.Mode&fs.ModeDir == 0 && libraryFile.MatchString(base) {
			names[base] = true
		}
	}
	return names
}

// binaries visits the programs and libraries of a tree.
func binaries(s *store.Store, ref store.Ref, visit func(file string, f *os.File, b inspect.Binary)) error {
	files, err := s.Files(ref)
	if err != nil {
		return err
	}
	root, err := os.OpenRoot(s.Tree(ref))
	if err != nil {
		return s.Gone(ref, err)
	}
	defer root.Close()
	for _, f := range files {
		if !f.Mode.IsRegular() || f.Size < int64(len(elf.ELFMAG)) {
			continue
		}
		file, err := root.Open(f.Path)
		if err != nil {
			return s.Gone(ref, err)
		}
		if b, is := inspect.ReadBinary(file); is {
			visit(f.Path, file, b)
		}
		file.Close()
	}
	return nil
}
