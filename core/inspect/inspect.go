// Package inspect takes over what a build has placed, and looks for problems that would only be
// noticed in use: libraries that will not be found, references to the build directory,
// permissions that give away too much.
//
// It promises that its results are new files of the caller's that no other user has ever had
// open, with the placed contents; that it reads only regular files below the given directory, as
// streams; and that the result only has files, directories and links. What can be repaired
// without changing the package's behaviour is repaired.
package inspect

import (
	"debug/elf"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"fernladder/core/host"
	"fernladder/core/pattern"
	"fernladder/core/safefs"
)

// Grade says how serious a remark is.
type Grade string

// The grades.
const (
	Mended  Grade = "mended"  // it was put right
	Warned  Grade = "warned"  // a person should look at it
	Refused Grade = "refused" // it cannot work, so there is no tree
)

// A Remark is something about a file that a person should know.
type Remark struct {
	Grade Grade  `json:"grade"`
	File  string `json:"file"` // in the tree; "" for the whole
	Text  string `json:"text"`
}

// String returns FILE: TEXT.
func (r Remark) String() string {
	if r.File == "" {
		return r.Text
	}
	return r.File + ": " + r.Text
}

// A Look says where things are. Paths are absolute.
type Look struct {
	Staged  string // where the copy is made
	Tree    string // where it will be
	Work    string // the directory it was built in
	Stage   string // the directory that stood for / when it was placed
	Loader  host.Loader
	Arch    string // of the machine that it will run on, as the kernel calls it
	Largest int64  // bytes of all files together; 0 is no limit

	// For a build for a directory in which others have files, too:
	Seen  string           // a directory with their files there; or ""
	Trees string           // the directory that trees are in, which will not be there; or ""
	Known map[string]Known // files that existed before anything was placed

	used map[string]bool // libraries of the operating system
}

// Known is a file, link or directory that existed before.
type Known struct {
	Dir    bool
	Target string // of a link
	SHA256 string
	By     string // the package that has it

	Device, Inode uint64 // of the file, which cannot change: it may be there by another name
}

// A Report is what was found.
type Report struct {
	Remarks   []Remark
	Digests   map[string]string // the SHA-256 of each file, as it was copied
	Libraries []string          // of the operating system that the tree needs to run, except for those of the C library
}

// always are libraries that come with every compiler and C library.
var always = pattern.New(`^(ld-.*|lib(c|m|dl|pthread|rt|util|resolv|crypt|nsl|anl|mvec|gcc_s|stdc\+\+|atomic` +
	`|gomp|quadmath|BrokenLocale|thread_db))\.so`)

// libraries are those of the operating system that the tree uses.
func (l Look) libraries() []string {
	return slices.DeleteFunc(slices.Sorted(maps.Keys(l.used)), always.MatchString)
}

// link checks the target of a symbolic link.
func (l Look) link(target, name string) []Remark {
	if strings.HasPrefix(target, l.Work+"/") {
		return []Remark{{Refused, name, "it is a link into the build directory: " + target}}
	}
	at := target
	if !filepath.IsAbs(target) {
		at = filepath.Join(l.Tree, filepath.Dir(name), target)
	}
	if _, err := os.Lstat(l.whereIs(at)); errors.Is(err, fs.ErrNotExist) {
		return []Remark{{Warned, name, "it is a link to nothing: " + target}}
	}
	return nil
}

// whereIs is the current place of a path of the finished tree.
func (l Look) whereIs(path string) string {
	rest, is := strings.CutPrefix(path, l.Tree)
	if !is || rest != "" && rest[0] != '/' {
		return path
	}
	if at := l.Staged + rest; l.Seen == "" || safefs.Exists(at) {
		return at
	}
	return l.Seen + rest
}

// paths looks for directories and libtool libraries that a file for the users of a library names
// and that do not exist.
func (l Look) paths(text, name string) []Remark {
	var gone []string
	words := strings.FieldsFunc(text, func(c rune) bool { return strings.ContainsRune(" \t\n'\"=", c) })
	for _, word := range words {
		path := strings.TrimPrefix(strings.TrimPrefix(word, "-L"), "-I")
		if !strings.HasPrefix(path, l.Tree+"/lib") && !strings.HasPrefix(path, l.Tree+"/include") &&
			(filepath.Ext(path) != ".la" || !filepath.IsAbs(path)) {
			continue
		}
		if _, err := os.Stat(l.whereIs(path)); errors.Is(err, fs.ErrNotExist) && !slices.Contains(gone, path) {
			gone = append(gone, path)
		}
	}
	if len(gone) == 0 {
		return nil
	}
	return []Remark{{Warned, name, "it names a missing file: " + strings.Join(gone, ", ")}}
}

// program checks whether the dynamic linker will find the libraries of a program or library.
func (l Look) program(f *elf.File, name string) []Remark {
	if f.Type != elf.ET_EXEC && f.Type != elf.ET_DYN {
		return nil
	}
	if l.foreign(f) {
		if !usedHere(name) {
			return nil // compilers for other machines have such
		}
		return []Remark{{Refused, name, fmt.Sprintf("it is for another machine (%s) than this one (%s)",
			strings.TrimPrefix(f.Machine.String(), "EM_"), l.Arch)}}
	}
	needed, err := f.ImportedLibraries()
	if err != nil || len(needed) == 0 {
		return nil
	}
	runs := slices.ContainsFunc(f.Progs, func(p *elf.Prog) bool { return p.Type == elf.PT_INTERP })
	var remarks []Remark
	runPath := runPathOf(f)
	for i, text := range runPath {
		dir := expand(text, filepath.Dir(filepath.Join(l.Tree, name)))
		runPath[i] = dir
		if strings.HasPrefix(dir, l.Work) {
			remarks = append(remarks, Remark{Warned, name, "its run path names the build directory: " + dir})
		}
	}
	for _, library := range needed {
		if l.found(name, library, runPath) {
			continue
		}
		remark := Remark{Warned, name,
			fmt.Sprintf("the library %s will not be found: it is in no directory of its run path (%s) or of the system", library,
				orNone(runPath))}
		if at := l.inTree(library); at != "" {
			remark.Text = fmt.Sprintf("the library %s will not be found: it is in %s, which the run path does not name; link "+
				"with -Wl,-rpath,%s", library, at, at)
		}
		if runs { // its users may find a library elsewhere
			remark.Grade = Refused
		}
		remarks = append(remarks, remark)
	}
	return remarks
}

// runsOn are the machines whose programs run on an architecture.
var runsOn = map[string][]elf.Machine{
	"x86_64": {elf.EM_X86_64, elf.EM_386}, "i686": {elf.EM_386}, "aarch64": {elf.EM_AARCH64, elf.EM_ARM},
	"armv7l":  {elf.EM_ARM},
	"ppc64le": {elf.EM_PPC64}, "riscv64": {elf.EM_RISCV}, "s390x": {elf.EM_S390}, "loongarch64": {elf.EM_LOONGARCH},
}

// foreign reports whether a program or library cannot run here.
func (l Look) foreign(f *elf.File) bool {
	machines := runsOn[l.Arch]
	return machines != nil && !slices.Contains(machines, f.Machine)
}

// usedHere reports whether a file is where shells and linkers look.
func usedHere(name string) bool {
	return slices.Contains([]string{"bin", "sbin", "lib", "lib64"}, filepath.Dir(name))
}

func orNone(dirs []string) string {
	if len(dirs) == 0 {
		return "it has none"
	}
	return strings.Join(dirs, ":")
}

func (l Look) found(name, library string, runPath []string) bool {
	if filepath.IsAbs(library) {
		_, err := os.Stat(l.whereIs(library))
		return err == nil
	}
	for _, dir := range runPath {
		if _, err := os.Stat(l.whereIs(filepath.Join(dir, library))); err == nil {
			return true
		}
	}
	if !l.Loader.Finds(library) {
		return false
	}
	if l.used != nil {
		l.used[library] = true
	}
	return true
}

// inTree returns the directory of the tree that has a library, or "".
func (l Look) inTree(library string) (at string) {
	filepath.WalkDir(l.Staged, func(path string, d fs.DirEntry, err error) error {
		if err == nil && d.Name() == library {
			at = filepath.Join(l.Tree, strings.TrimPrefix(filepath.Dir(path), l.Staged))
			return fs.SkipAll
		}
		return nil
	})
	return at
}
