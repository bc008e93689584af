// Package inspect looks at what a build has placed before it becomes a tree, for
// what would only be noticed when somebody uses it: libraries that will not be
// found, references to the directory it was built in, files that give away more
// than they should.
//
// What can be put right without changing what the package does is put right. It
// reads every file once.
package inspect

import (
	"bytes"
	"debug/elf"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"fernladder/core/host"
)

// Grade says what is done about a remark.
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

// String gives FILE: TEXT.
func (r Remark) String() string {
	if r.File == "" {
		return r.Text
	}
	return r.File + ": " + r.Text
}

// A Look says where things are. Paths are absolute.
type Look struct {
	Staged string // the directory to look at
	Tree   string // where it will be
	Work   string // the directory it was built in
	Stage  string // the directory that stands for /, in which Staged is
	Loader host.Loader

	used map[string]bool // libraries of the operating system
}

// A Report is what was found.
type Report struct {
	Remarks   []Remark
	Libraries []string // of the operating system that the tree needs to run, but for those of the C library
}

// Tree looks at everything in a staged tree. Its error is of the file system.
func Tree(l Look) (Report, error) {
	var remarks []Remark
	files := 0
	l.used = map[string]bool{}
	err := filepath.WalkDir(l.Staged, func(path string, d fs.DirEntry, err error) error {
		if err != nil || path == l.Staged {
			return err
		}
		name, err := filepath.Rel(l.Staged, path)
		if err != nil {
			return err
		}
		if !d.IsDir() {
			files++
		}
		info, err := d.Info()
		if err != nil {
			return err
		}
		if mended, err := l.mode(path, name, info); err != nil {
			return err
		} else if mended != nil {
			remarks = append(remarks, *mended)
		}
		if d.Type()&fs.ModeSymlink != 0 {
			remarks = append(remarks, l.link(path, name)...)
		}
		if !d.Type().IsRegular() {
			return nil
		}
		more, err := l.file(path, name, info)
		remarks = append(remarks, more...)
		return err
	})
	if err == nil && files == 0 {
		remarks = append(remarks, Remark{Refused, "", "nothing but empty directories was placed"})
	}
	return Report{remarks, l.libraries()}, err
}

// always are libraries that come with every compiler and C library.
var always = regexp.MustCompile(`^(ld-.*|lib(c|m|dl|pthread|rt|util|resolv|crypt|nsl|anl|mvec|gcc_s|stdc\+\+|atomic|gomp|quadmath|BrokenLocale|thread_db))\.so`)

// libraries are those of the operating system that the tree uses.
func (l Look) libraries() []string {
	return slices.DeleteFunc(slices.Sorted(maps.Keys(l.used)), always.MatchString)
}

// mode takes away what no file of a package needs: running as its owner, and
// being changed by everybody.
func (l Look) mode(path, name string, info fs.FileInfo) (*Remark, error) {
	mode, what := info.Mode(), ""
	if mode&fs.ModeSymlink != 0 {
		return nil, nil
	}
	if special := mode & (fs.ModeSetuid | fs.ModeSetgid); special != 0 && !mode.IsDir() {
		mode, what = mode&^(fs.ModeSetuid|fs.ModeSetgid), "it ran with the rights of its owner or group (setuid, setgid); these bits are gone"
	}
	if mode.Perm()&0o002 != 0 && mode&fs.ModeSticky == 0 {
		mode &^= 0o002
		if what == "" {
			what = "everybody could write to it; that is gone"
		}
	}
	if what == "" {
		return nil, nil
	}
	return &Remark{Mended, name, what}, os.Chmod(path, mode)
}

// link looks at where a symbolic link leads.
func (l Look) link(path, name string) []Remark {
	target, err := os.Readlink(path)
	if err != nil {
		return nil
	}
	if strings.HasPrefix(target, l.Work+"/") {
		return []Remark{{Refused, name, "it is a link into the directory that the package was built in: " + target}}
	}
	at := filepath.Join(filepath.Dir(path), target)
	if filepath.IsAbs(target) {
		at = l.whereIs(target)
	}
	if _, err := os.Lstat(at); errors.Is(err, fs.ErrNotExist) {
		return []Remark{{Warned, name, "it is a link to nothing: " + target}}
	}
	return nil
}

// whereIs is where a path of the finished tree is now.
func (l Look) whereIs(path string) string {
	if rest, is := strings.CutPrefix(path, l.Tree); is && (rest == "" || rest[0] == '/') {
		return l.Staged + rest
	}
	return path
}

// file looks at what is in a file.
func (l Look) file(path, name string, info fs.FileInfo) ([]Remark, error) {
	data, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	var remarks []Remark
	if bytes.HasPrefix(data, []byte(elf.ELFMAG)) {
		remarks = append(remarks, l.program(data, name)...)
	}
	text := !bytes.Contains(data[:min(len(data), 4096)], []byte{0})
	if text && bytes.Contains(data, []byte(l.Stage+l.Tree)) {
		// It was told where it is placed instead of where it will be.
		data = bytes.ReplaceAll(data, []byte(l.Stage+l.Tree), []byte(l.Tree))
		if err := rewrite(path, data, info); err != nil {
			return nil, err
		}
		remarks = append(remarks, Remark{Mended, name, "it named the directory it was placed in; it names the tree now"})
	}
	if bytes.Contains(loaded(data), []byte(l.Work+"/")) {
		remarks = append(remarks, Remark{Warned, name, "it names the directory that the package was built in, which will be gone"})
	}
	switch filepath.Ext(name) {
	case ".pc", ".la":
		remarks = append(remarks, l.paths(string(data), name)...)
	}
	return remarks, nil
}

// loaded is what of a file matters when it is used: of programs and libraries,
// what is not only for debuggers.
func loaded(data []byte) []byte {
	if bytes.HasPrefix(data, []byte("!<arch>\n")) {
		return nil // of object files, the linker takes what is loaded, and looks at no path
	}
	f, err := elf.NewFile(bytes.NewReader(data))
	if err != nil {
		return data
	}
	defer f.Close()
	var all []byte
	for _, s := range f.Sections {
		if s.Flags&elf.SHF_ALLOC != 0 && s.Type != elf.SHT_NOBITS {
			section, _ := s.Data()
			all = append(all, section...)
		}
	}
	return all
}

// rewrite replaces what is in a file and keeps its mode and time.
func rewrite(path string, data []byte, info fs.FileInfo) error {
	if err := os.Chmod(path, info.Mode()|0o200); err != nil {
		return err
	}
	if err := os.WriteFile(path, data, info.Mode()); err != nil {
		return err
	}
	return errors.Join(os.Chmod(path, info.Mode()&^(fs.ModeSetuid|fs.ModeSetgid|0o002)), os.Chtimes(path, info.ModTime(), info.ModTime()))
}

// paths looks for directories and libtool libraries that a file for the users of
// a library names and that are nowhere.
func (l Look) paths(text, name string) []Remark {
	var gone []string
	words := strings.FieldsFunc(text, func(c rune) bool { return strings.ContainsRune(" \t\n'\"=", c) })
	for _, word := range words {
		path := strings.TrimPrefix(strings.TrimPrefix(word, "-L"), "-I")
		if !strings.HasPrefix(path, l.Tree+"/lib") && !strings.HasPrefix(path, l.Tree+"/include") && (filepath.Ext(path) != ".la" || !filepath.IsAbs(path)) {
			continue
		}
		if _, err := os.Stat(l.whereIs(path)); errors.Is(err, fs.ErrNotExist) && !slices.Contains(gone, path) {
			gone = append(gone, path)
		}
	}
	if len(gone) == 0 {
		return nil
	}
	return []Remark{{Warned, name, "it names what is not there: " + strings.Join(gone, ", ")}}
}

// program looks at whether the libraries that a program or library needs will
// be found by the dynamic linker.
func (l Look) program(data []byte, name string) []Remark {
	f, err := elf.NewFile(bytes.NewReader(data))
	if err != nil || f.Type != elf.ET_EXEC && f.Type != elf.ET_DYN {
		return nil
	}
	defer f.Close()
	needed, err := f.ImportedLibraries()
	if err != nil || len(needed) == 0 {
		return nil
	}
	runs := slices.ContainsFunc(f.Progs, func(p *elf.Prog) bool { return p.Type == elf.PT_INTERP })
	var remarks []Remark
	runPath := l.runPath(f, name)
	for _, dir := range runPath {
		if strings.HasPrefix(dir, l.Work) {
			remarks = append(remarks, Remark{Warned, name, "its run path names the directory that the package was built in: " + dir})
		}
	}
	for _, library := range needed {
		if l.found(name, library, runPath) {
			continue
		}
		remark := Remark{Warned, name, fmt.Sprintf("the library %s will not be found: it is in no directory of its run path (%s) and none of the system's", library, orNone(runPath))}
		if at := l.inTree(library); at != "" {
			remark.Text = fmt.Sprintf("the library %s will not be found: it is in %s, which the run path does not name; link with -Wl,-rpath,%s", library, at, at)
		}
		if runs { // a library may be found by those who load it
			remark.Grade = Refused
		}
		remarks = append(remarks, remark)
	}
	return remarks
}

func orNone(dirs []string) string {
	if len(dirs) == 0 {
		return "it has none"
	}
	return strings.Join(dirs, ":")
}

// runPath are the directories that a file says its libraries are in.
func (l Look) runPath(f *elf.File, name string) []string {
	var dirs []string
	for _, tag := range []elf.DynTag{elf.DT_RUNPATH, elf.DT_RPATH} {
		values, _ := f.DynString(tag)
		for _, value := range values {
			for dir := range strings.SplitSeq(value, ":") {
				origin := filepath.Dir(filepath.Join(l.Tree, name))
				dirs = append(dirs, filepath.Clean(strings.NewReplacer("$ORIGIN", origin, "${ORIGIN}", origin).Replace(dir)))
			}
		}
	}
	return dirs
}

func (l Look) found(name, library string, runPath []string) bool {
	if filepath.IsAbs(library) {
		_, err := os.Stat(l.whereIs(library))
		return err == nil
	}
	for _, dir := range runPath {
		if _, err := os.Stat(filepath.Join(l.whereIs(dir), library)); err == nil {
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
