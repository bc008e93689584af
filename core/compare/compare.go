// Package compare sets two builds side by side: what they were made of, what came out,
// and what it took. One of them, or both, can be in another root, or a copy of a tree
// anywhere.
//
// It reads receipts, lists of files, and the programs and libraries of the trees; it
// changes nothing, and does not say which is better.
package compare

import (
	"cmp"
	"fmt"
	"maps"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"fernladder/core/inspect"
	"fernladder/core/safefs"
	"fernladder/core/store"
)

// A Side is one of the two builds.
type Side struct {
	Receipt *store.Receipt
	files   []store.File
	Tree    string // where it is
}

// Installed is a build of a root as a side.
func Installed(s *store.Store, r *store.Receipt) (Side, error) {
	files, err := s.Files(r.Ref)
	return Side{r, files, s.Tree(r.Ref)}, err
}

// Elsewhere is a tree as a side that is in another root, or was copied to a directory.
func Elsewhere(dir string) (Side, error) {
	r, files, err := store.ReadTree(dir)
	return Side{r, files, dir}, err
}

// ByKind adds up the sizes of the side's files by kind.
func (s Side) ByKind() map[string]int64 {
	sizes := map[string]int64{}
	for _, f := range s.files {
		if f.Mode.IsRegular() {
			sizes[kindOf(f.Path)] += f.Size
		}
	}
	return sizes
}

// Kinds are the kinds of files, in the order in which they are shown.
var Kinds = []string{"programs", "libraries", "static libraries", "headers", "documentation", "translations", "data"}

// kindOf judges a file by its path in the tree.
func kindOf(file string) string {
	dir, rest, _ := strings.Cut(file, "/")
	switch name := path.Base(file); {
	case dir == "bin" || dir == "sbin" || dir == "libexec":
		return "programs"
	case strings.HasSuffix(name, ".a"):
		return "static libraries"
	case dir == "lib" && (strings.HasSuffix(name, ".so") || strings.Contains(name, ".so.")):
		return "libraries"
	case dir == "include":
		return "headers"
	case dir == "share" && (strings.HasPrefix(rest, "man/") || strings.HasPrefix(rest, "doc/") ||
		strings.HasPrefix(rest, "info/")):
		return "documentation"
	case dir == "share" && strings.HasPrefix(rest, "locale/"):
		return "translations"
	}
	return "data"
}

// Report is what is different of B against A.
type Report struct {
	A         store.Ref `json:"a"`
	B         store.Ref `json:"b"`
	Made      []string  `json:"made"`      // in words, of what they were made
	Options   []Changed `json:"options"`   //
	Features  []Changed `json:"features"`  // features that the sources say they were configured with and without
	Sources   []Changed `json:"sources"`   // by place; digests or commits
	Patches   []Changed `json:"patches"`   //
	Needs     []Changed `json:"needs"`     // versions and ids
	Around    []Changed `json:"around"`    // compiler, machine, isolation, method
	Files     Files     `json:"files"`     //
	Libraries []Changed `json:"libraries"` // that programs and libraries of the tree ask the loader for
	Symbols   []Symbols `json:"symbols"`   // of the libraries that both have
	Tries     []Changed `json:"tries"`     //
	Stages    []Measure `json:"stages"`    // seconds
	Total     Measure   `json:"total"`     // seconds of all stages
	Memory    Measure   `json:"memory"`    // bytes of the largest process
	Size      Measure   `json:"size"`      // bytes of the tree
}

// Changed is something that one has and the other has not, or has otherwise. "" is
// nothing.
type Changed struct {
	Name string `json:"name"`
	A    string `json:"a"`
	B    string `json:"b"`
}

// A Measure is a number of each.
type Measure struct {
	Name string  `json:"name"`
	A    float64 `json:"a"`
	B    float64 `json:"b"`
}

// Files are how the files differ, by path.
type Files struct {
	Same    int        `json:"same"`
	Came    []FileSize `json:"came"`
	Gone    []FileSize `json:"gone"`
	Changed []FileSize `json:"changed"` // with other contents, link or permissions
}

// A FileSize is a file of both, or of one. Sizes are -1 where it is not there.
type FileSize struct {
	Path string `json:"path"`
	A    int64  `json:"a"`
	B    int64  `json:"b"`
}

// Symbols are how what a library has for others differs.
type Symbols struct {
	Library string   `json:"library"` // its path
	Soname  Changed  `json:"soname"`
	Came    []string `json:"came"`
	Gone    []string `json:"gone"`
}

// Compare compares two builds.
func Compare(a, b Side) (*Report, error) {
	ra, rb := a.Receipt, b.Receipt
	r := &Report{A: ra.Ref, B: rb.Ref, Options: texts(ra.Options, rb.Options), Features: texts(features(ra), features(rb)),
		Sources: texts(sources(ra.Sources), sources(rb.Sources)),
		Patches: texts(sources(ra.Patches), sources(rb.Patches)), Needs: texts(needs(ra), needs(rb)),
		Tries:  texts(tries(ra), tries(rb)),
		Around: texts(around(ra), around(rb)), Stages: stages(ra, rb),
		Total:  Measure{"seconds", ra.Seconds, rb.Seconds},
		Memory: Measure{"bytes", float64(ra.Memory), float64(rb.Memory)},
		Size:   Measure{"bytes", float64(ra.Size), float64(rb.Size)}}
	if ra.Ref != rb.Ref {
		r.Made = rb.Made().Against(ra.Made())
	}
	before, err := safefs.OpenDir(a.Tree)
	if err != nil {
		return nil, err
	}
	defer before.Close()
	now, err := safefs.OpenDir(b.Tree)
	if err != nil {
		return nil, err
	}
	defer now.Close()
	r.files(opened{a, before}, opened{b, now})
	return r, r.binaries(opened{a, before}, opened{b, now})
}

// opened is a side, with its tree.
type opened struct {
	Side
	dir *safefs.Dir
}

func texts(a, b map[string]string) []Changed {
	all := []Changed{}
	for _, name := range slices.Sorted(maps.Keys(a)) {
		if a[name] != b[name] {
			all = append(all, Changed{name, a[name], b[name]})
		}
	}
	for _, name := range slices.Sorted(maps.Keys(b)) {
		if _, had := a[name]; !had {
			all = append(all, Changed{name, "", b[name]})
		}
	}
	return all
}

func sources(list []store.Source) map[string]string {
	all := map[string]string{}
	for i, s := range list {
		name := cmp.Or(s.File, s.Into, fmt.Sprintf("source %d", i+1))
		if i == 0 && s.File == "" && s.Into == "" {
			name = "source"
		}
		all[name] = cmp.Or(s.Commit, s.Digest.String())
	}
	return all
}

func needs(r *store.Receipt) map[string]string {
	all := map[string]string{}
	for _, n := range r.Needs {
		all[n.Name] = n.Version + " (" + n.ID + "), " + string(n.Role)
	}
	for _, text := range r.ByHost {
		name, version, _ := strings.Cut(text, " ")
		all[name] = version + ", the operating system's"
	}
	return all
}

func tries(r *store.Receipt) map[string]string {
	all := map[string]string{}
	for _, t := range r.Tries {
		all[t.String()] = cmp.Or(t.Expect, fmt.Sprintf("ends with %d", t.Status))
	}
	return all
}

func around(r *store.Receipt) map[string]string {
	return map[string]string{"compiler": r.Compiler, "method": string(r.Method), "isolation": r.Isolation,
		"saw":     cmp.Or(r.NotBare, "what it declares"),
		"machine": r.Machine.Arch + " " + r.Machine.Family, "recipe": r.Recipe}
}

// features are those that a build was configured with and without. Of a build before
// those were kept, what it was configured without.
func features(r *store.Receipt) map[string]string {
	all := map[string]string{}
	for _, name := range r.Without {
		all[name] = "off"
	}
	for _, f := range r.Features {
		is := "off"
		if f.On {
			is = "on"
		}
		if f.Says != "" {
			is += " (" + f.Says + ")"
		}
		if f.Lacks != "" {
			is += " (" + f.Lacks + " not found)"
		}
		all[f.Name] = is
	}
	return all
}

func stages(a, b *store.Receipt) []Measure {
	var names []string
	times := [2]map[string]float64{{}, {}}
	for i, r := range []*store.Receipt{a, b} {
		for _, st := range r.Stages {
			if !slices.Contains(names, st.Stage) {
				names = append(names, st.Stage)
			}
			times[i][st.Stage] += st.Seconds
		}
	}
	all := []Measure{}
	for _, name := range names {
		all = append(all, Measure{name, times[0][name], times[1][name]})
	}
	return all
}

// own takes the name of the tree out of what a link says, which differs in any case.
func own(f store.File, tree string) string { return strings.ReplaceAll(f.Target, tree, "") }

func (r *Report) files(a, b opened) {
	// The name of its tree alone makes a file different.
	onlyItself := func(old, f store.File) bool {
		const largest = 16 << 20
		if a.Receipt.Tree == b.Receipt.Tree || max(old.Size, f.Size) > largest {
			return false
		}
		same, err := alike(a.dir, b.dir, f.Path, a.Receipt.Tree, b.Receipt.Tree)
		return err == nil && same
	}
	before := map[string]store.File{}
	for _, f := range a.files {
		if !f.Mode.IsDir() {
			before[f.Path] = f
		}
	}
	r.Files = Files{Came: []FileSize{}, Gone: []FileSize{}, Changed: []FileSize{}}
	for _, f := range b.files {
		if f.Mode.IsDir() {
			continue
		}
		old, had := before[f.Path]
		delete(before, f.Path)
		switch {
		case !had:
			r.Files.Came = append(r.Files.Came, FileSize{f.Path, -1, f.Size})
		case old.SHA256 != f.SHA256 && old.Mode == f.Mode && onlyItself(old, f):
			r.Files.Same++
		case old.SHA256 != f.SHA256 || own(old, a.Receipt.Tree) != own(f, b.Receipt.Tree) || old.Mode != f.Mode:
			r.Files.Changed = append(r.Files.Changed, FileSize{f.Path, old.Size, f.Size})
		default:
			r.Files.Same++
		}
	}
	for _, name := range slices.Sorted(maps.Keys(before)) {
		r.Files.Gone = append(r.Files.Gone, FileSize{name, before[name].Size, -1})
	}
}

// binaries compares what the loader is asked for, and what libraries have for others.
func (r *Report) binaries(a, b opened) error {
	r.Symbols = []Symbols{}
	libraries := [2]map[string]string{{}, {}}
	exports := [2]map[string]library{{}, {}}
	for i, side := range []opened{a, b} {
		for _, f := range side.files {
			if !f.Mode.IsRegular() || f.Size < 64 {
				continue
			}
			if err := read(side.dir, f, libraries[i], exports[i]); err != nil {
				return err
			}
		}
	}
	r.Libraries = texts(libraries[0], libraries[1])
	for _, stem := range slices.Sorted(maps.Keys(exports[0])) {
		x, y := exports[0][stem], exports[1][stem]
		if y.path == "" {
			continue
		}
		s := Symbols{Library: y.path, Came: without(y.exports, x.exports), Gone: without(x.exports, y.exports)}
		if x.soname != y.soname {
			s.Soname = Changed{"soname", x.soname, y.soname}
		}
		if len(s.Came)+len(s.Gone) > 0 || s.Soname.Name != "" {
			r.Symbols = append(r.Symbols, s)
		}
	}
	return nil
}

// library is a shared library of a tree.
type library struct {
	path, soname string
	exports      []string
}

func read(tree *safefs.Dir, f store.File, libraries map[string]string, exports map[string]library) error {
	file, err := tree.Open(f.Path)
	if err != nil {
		return err
	}
	defer file.Close()
	b, is := inspect.ReadBinary(file)
	if !is {
		return nil
	}
	for _, name := range b.Needs {
		libraries[name] = "linked"
	}
	if b.Soname != "" {
		stem, _, _ := strings.Cut(path.Base(f.Path), ".so")
		exports[filepath.Join(path.Dir(f.Path), stem)] = library{f.Path, b.Soname, inspect.Exports(file)}
	}
	return nil
}

// without are those of all that are not among others. Both are sorted.
func without(all, others []string) []string {
	left := []string{}
	for _, name := range all {
		if _, found := slices.BinarySearch(others, name); !found {
			left = append(left, name)
		}
	}
	return left
}
