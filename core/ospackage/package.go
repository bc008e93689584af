// Package ospackage writes packages of operating systems: .deb and .rpm.
//
// It promises that the same Package always makes the same bytes, and that files are streamed:
// memory does not grow with their size. It does not decide what is in a package, and runs no
// program. The formats are those of deb(5), deb-control(5), and of version 4 of rpm's format.
package ospackage

import (
	"bytes"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"fernladder/core/problem"
)

// A Format is a kind of package.
type Format string

// The formats.
const (
	Deb Format = "deb"
	RPM Format = "rpm"
)

// Packing is the compression of a .deb.
type Packing string

// The compressions. Every dpkg reads gzip; zstd is faster, and needs dpkg 1.21.18 or later.
const (
	Zstd Packing = "zstd"
	Gzip Packing = "gzip"
)

// A Package is the description of a package to write.
type Package struct {
	Name    string
	Epoch   int    // 0: none
	Version string // as the format orders it: see DebVersion and RPMVersion
	Release string // distinguishes builds of one version, as 1.vale2
	Arch    string // of the machine, as x86_64; "" where it runs on all

	Summary, Description, Home, License string
	Maintainer                          string // NAME <ADDRESS>
	Depends                             []Relation
	Provides                            []Relation
	Files                               []File  // in any order; directories only where the package has them to itself
	Packing                             Packing // of a .deb, Zstd by default; a .rpm has zstd
	Loader                              bool    // directories that the loader looks in change: its cache has to be renewed
	After                               string  // shell text that is run once it is installed, or ""
	Changes                             []Change
	Time                                time.Time // of all that it has
}

// A Relation names another package, or something that packages provide.
type Relation struct {
	Name     string
	Operator string // "=", ">=", "<=", "<<" (lower), or "" with no version
	Version  string // whole, as the format writes it
	Or       []Relation
	Found    bool // it was found in the files; rpm marks what its own tools find
}

// A Change is an entry of the changelog.
type Change struct {
	Version string // whole
	By      string
	Lines   []string
	Time    time.Time
}

// A File is a file, directory or link of a package.
type File struct {
	Path    string // absolute
	Mode    fs.FileMode
	Size    int64  // of a regular file
	Target  string // of a link
	SHA256  string // that the contents must have, or "" if unknown
	Owner   string // "": root
	Group   string
	Config  bool // the administrator's edits to it survive
	Doc     bool
	License bool
	Open    func() (io.ReadCloser, error)
}

// Holding returns a file with data.
func Holding(path string, data []byte) File {
	return File{Path: path, Mode: 0o644, Size: int64(len(data)), Open: func() (io.ReadCloser, error) {
		return io.NopCloser(bytes.NewReader(data)), nil
	}}
}

// Whole is the complete version: epoch, version and revision.
func (p *Package) Whole() string {
	text := p.Version + "-" + p.Release
	if p.Epoch > 0 {
		return fmt.Sprintf("%d:%s", p.Epoch, text)
	}
	return text
}

// Changed is the error for files that do not have the expected contents.
type Changed struct{ Files []string }

func (e *Changed) Error() string {
	const few = 5
	names := e.Files
	more := ""
	if len(names) > few {
		names, more = names[:few], fmt.Sprintf("\n  and %d more", len(e.Files)-few)
	}
	return "these files are not as they were built:\n  " + strings.Join(names, "\n  ") + more
}

// Check reports what no package can contain. dpkg rejects line ends in names when it unpacks;
// repository lists are XML, in UTF-8.
func (p *Package) Check() error {
	for _, f := range p.Files {
		if !utf8.ValidString(f.Path) || strings.ContainsFunc(f.Path, unicode.IsControl) {
			return problem.New(problem.Other, f.Path,
				"%q cannot be in a package: its name is not one line of text, as lists of files need", f.Path)
		}
	}
	return nil
}

// sorted are the files sorted by path, without duplicates.
func (p *Package) sorted() []File {
	files := slices.Clone(p.Files)
	for i := range files {
		files[i].Path = path.Clean(files[i].Path)
	}
	slices.SortStableFunc(files, func(a, b File) int { return strings.Compare(a.Path, b.Path) })
	return slices.CompactFunc(files, func(a, b File) bool { return a.Path == b.Path })
}

// size is the total size of the files in bytes.
func (p *Package) size() (n int64) {
	for _, f := range p.Files {
		if f.Mode.IsRegular() {
			n += f.Size
		}
	}
	return n
}

// unixMode is the mode of a file as inode(7) defines it.
func unixMode(f File) uint32 {
	mode := uint32(f.Mode.Perm())
	for bit, is := range map[uint32]bool{0o4000: f.Mode&fs.ModeSetuid != 0, 0o2000: f.Mode&fs.ModeSetgid != 0,
		0o1000: f.Mode&fs.ModeSticky != 0} {
		if is {
			mode |= bit
		}
	}
	switch {
	case f.Mode.IsDir():
		return mode | 0o040000
	case f.Target != "":
		return 0o120777
	}
	return mode | 0o100000
}

// ProblemKind is problem.Other.
func (e *Changed) ProblemKind() problem.Kind { return problem.Other }

// ProblemRemedies are to rebuild the package.
func (e *Changed) ProblemRemedies() []problem.Remedy {
	return []problem.Remedy{problem.Do(problem.MendRebuild)}
}
