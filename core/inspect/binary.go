package inspect

import (
	"bytes"
	"debug/elf"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
)

// A Binary is a program or a library as the loader sees it.
type Binary struct {
	Needs       []string            // libraries, by the names it asks for
	RunPath     []string            // directories searched first, with $ORIGIN unexpanded
	Interpreter string              // the loader; "" for a library
	Soname      string              // the name that others ask for it by, or ""
	Versions    map[string][]string // of the symbols that it needs of libraries, by library
}

// ReadBinary reads an ELF program or library; ok is false for any other file, and for a damaged
// one. The file may be hostile.
func ReadBinary(file *os.File) (b Binary, ok bool) {
	f := openELF(file)
	if f == nil {
		return b, false
	}
	defer func() { // the reader of damaged tables has had its mistakes
		if recover() != nil {
			b, ok = Binary{}, false
		}
	}()
	if f.Type != elf.ET_EXEC && f.Type != elf.ET_DYN {
		return b, false
	}
	b.Needs, _ = f.ImportedLibraries()
	b.RunPath = runPathOf(f)
	if names := texts(f, elf.DT_SONAME); len(names) > 0 {
		b.Soname = names[0]
	}
	for _, p := range f.Progs {
		const longest = 4096
		if p.Type == elf.PT_INTERP && p.Filesz < longest {
			data, _ := io.ReadAll(p.Open())
			b.Interpreter = strings.TrimRight(string(data), "\x00")
		}
	}
	needs, _ := f.DynamicVersionNeeds()
	for _, n := range needs {
		for _, v := range n.Needs {
			if b.Versions == nil {
				b.Versions = map[string][]string{}
			}
			if v.Flags&elf.VER_FLG_WEAK == 0 {
				b.Versions[n.Name] = append(b.Versions[n.Name], v.Dep)
			}
		}
	}
	return b, true
}

// runPathOf are the run paths, unexpanded.
func runPathOf(f *elf.File) (dirs []string) {
	for _, tag := range []elf.DynTag{elf.DT_RUNPATH, elf.DT_RPATH} {
		for _, text := range texts(f, tag) {
			dirs = append(dirs, strings.Split(text, ":")...)
		}
	}
	return dirs
}

func texts(f *elf.File, tag elf.DynTag) []string {
	all, _ := f.DynString(tag)
	return all
}

// openELF opens a file as ELF, or returns nil.
func openELF(file *os.File) *elf.File {
	var head [64]byte
	if n, err := file.ReadAt(head[:], 0); err != nil || n < len(head) || string(head[:4]) != elf.ELFMAG || !sane(head[:]) {
		return nil
	}
	f, err := elf.NewFile(file)
	if err != nil {
		return nil
	}
	for _, s := range f.Sections {
		switch s.Type {
		case elf.SHT_DYNAMIC, elf.SHT_DYNSYM, elf.SHT_GNU_VERSYM, elf.SHT_GNU_VERNEED, elf.SHT_GNU_VERDEF:
			if tooLarge(s) || int(s.Link) < len(f.Sections) && tooLarge(f.Sections[s.Link]) {
				return nil
			}
		}
	}
	return f
}

// Loaded are the contents of a program or library that are loaded into memory, without what only
// the loader reads; together no more than the file has.
func Loaded(file *os.File) (contents []io.Reader) {
	f := openELF(file)
	info, err := file.Stat()
	if f == nil || err != nil {
		return nil
	}
	left := info.Size()
	for _, s := range f.Sections {
		if s.Flags&elf.SHF_ALLOC == 0 || s.Type != elf.SHT_PROGBITS || s.Name == ".interp" {
			continue
		}
		if left -= int64(s.FileSize); left < 0 {
			break
		}
		contents = append(contents, io.NewSectionReader(file, int64(s.Offset), int64(s.FileSize)))
	}
	return contents
}

// tooLarge reports whether a table must not be read: files can have holes, and sections can be
// compressed.
func tooLarge(s *elf.Section) bool { return s.FileSize > largestTable || s.Size > largestTable }

// Exports are the symbols that a library exports, with their versions, sorted; nil if the
// file is not a library.
func Exports(file *os.File) (names []string) {
	return symbols(file, func(f *elf.File, s elf.Symbol) string {
		bind := elf.ST_BIND(s.Info)
		switch {
		case f.Type != elf.ET_DYN, s.Section == elf.SHN_UNDEF, bind != elf.STB_GLOBAL && bind != elf.STB_WEAK,
			elf.ST_VISIBILITY(s.Other) == elf.STV_HIDDEN, elf.ST_VISIBILITY(s.Other) == elf.STV_INTERNAL:
			return ""
		case s.Version != "" && !s.HasVersion:
			return s.Name + "@" + s.Version
		}
		return s.Name
	})
}

// Imports are the symbols that a program or library asks others for, with their versions, sorted.
func Imports(file *os.File) (names []string) {
	return symbols(file, func(_ *elf.File, s elf.Symbol) string {
		switch {
		case s.Section != elf.SHN_UNDEF, elf.ST_BIND(s.Info) != elf.STB_GLOBAL:
			return ""
		case s.Version != "":
			return s.Name + "@" + s.Version
		}
		return s.Name
	})
}

// symbols are the dynamic symbols of a file by a name, sorted, except for those without one.
func symbols(file *os.File, name func(*elf.File, elf.Symbol) string) (names []string) {
	f := openELF(file)
	if f == nil {
		return nil
	}
	defer func() {
		if recover() != nil {
			names = nil
		}
	}()
	all, _ := f.DynamicSymbols()
	for _, s := range all {
		if n := name(f, s); n != "" {
			names = append(names, n)
		}
	}
	slices.Sort(names)
	return slices.Compact(names)
}

// Provides are the versions of symbols that a library provides.
func Provides(file *os.File) (versions []string) {
	f := openELF(file)
	if f == nil {
		return nil
	}
	defer func() {
		if recover() != nil {
			versions = nil
		}
	}()
	all, _ := f.DynamicVersions()
	for _, v := range all {
		versions = append(versions, v.Name)
	}
	return versions
}

// Looks are the directories in which the loader looks for the needs of a binary in a directory,
// before its default ones.
func (b Binary) Looks(dir string) (dirs []string) {
	for _, text := range b.RunPath {
		if text = expand(text, dir); filepath.IsAbs(text) {
			dirs = append(dirs, text)
		}
	}
	return dirs
}

// expand is a directory of a run path for a file in a directory.
func expand(text, origin string) string {
	return filepath.Clean(strings.NewReplacer("${ORIGIN}", origin, "$ORIGIN", origin, "${LIB}", "lib", "$LIB", "lib").
		Replace(text))
}

// BlankBuildID replaces the build id in the contents of a program or library by zeros: it is a
// digest of them, and differs whenever anything does, including the name of the tree. It leaves
// other contents unchanged.
func BlankBuildID(data []byte) {
	if len(data) < 64 || string(data[:4]) != elf.ELFMAG || !sane(data[:64]) {
		return
	}
	defer func() { recover() }() // the reader of damaged tables has had its mistakes
	f, err := elf.NewFile(bytes.NewReader(data))
	if err != nil {
		return
	}
	for _, s := range f.Sections {
		if s.Name == ".note.gnu.build-id" && s.Type == elf.SHT_NOTE && s.Offset <= uint64(len(data)) &&
			s.FileSize <= uint64(len(data))-s.Offset {
			clear(data[s.Offset : s.Offset+s.FileSize])
		}
	}
}
