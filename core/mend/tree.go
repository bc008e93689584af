package mend

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"fernladder/core/host"
	"fernladder/core/inspect"
	"fernladder/core/landing"
	"fernladder/core/safefs"
	"fernladder/core/store"
)

// looking is the check of one tree.
type looking struct {
	s       *store.Store
	receipt *store.Receipt
	system  *system
	quick   bool
	machine bool

	found []Finding
	files int
	bytes int64
	told  map[string]bool // needs of the machine that were reported already
}

func (l *looking) add(kind Kind, file, what string, f Finding) {
	f.Kind, f.Build, f.What = kind, l.receipt.Ref, what
	f.Path = filepath.Join(l.s.Tree(l.receipt.Ref), file)
	l.found = append(l.found, f)
}

const (
	follows  = "The build differs from what was built and tried."
	readRate = 64 << 10
)

// look compares the list of files with the files that exist.
func (l *looking) look(ctx context.Context) {
	l.told = map[string]bool{}
	files, err := l.s.Files(l.receipt.Ref)
	if errors.Is(err, store.ErrGone) {
		return
	}
	if err != nil {
		l.add(Receipt, "", "its list of files cannot be read: "+err.Error(),
			Finding{Follows: "Its files are unknown.", Rebuild: true})
		return
	}
	tree, err := safefs.OpenDir(l.s.Tree(l.receipt.Ref))
	if err != nil {
		return // removed meanwhile
	}
	defer tree.Close()
	listed := make(map[string]*store.File, len(files))
	for i := range files {
		listed[files[i].Path] = &files[i]
	}
	buffer := make([]byte, readRate)
	err = tree.Walk(true, func(e safefs.Entry) error {
		if ctx.Err() != nil {
			return safefs.Stop
		}
		if e.Name == inspect.Own {
			return safefs.Skip
		}
		if f := listed[e.Name]; f != nil {
			delete(listed, e.Name)
			l.file(e, *f, buffer)
			return nil
		}
		if !l.machine {
			l.add(Added, e.Name, "it is not a file of the build",
				Finding{Follows: "It was added later, and will be deleted with the tree.",
					Advice: "Move it out of the tree to keep it."})
		}
		if e.Mode.IsDir() {
			return safefs.Skip
		}
		return nil
	})
	if !l.s.Installed(l.receipt.Ref) { // another process removes it
		l.found = nil
		return
	}
	if ctx.Err() != nil || l.machine {
		return
	}
	if err != nil {
		l.add(Changed, "", "its files cannot be listed: "+err.Error(), Finding{Follows: follows})
		return
	}
	for name := range listed {
		if name != inspect.Own {
			l.add(Missing, name, "it is gone", Finding{Follows: follows, Rebuild: true})
		}
	}
}

// file checks one file: that it is as it was placed, and that the machine has everything it runs
// with.
func (l *looking) file(e safefs.Entry, f store.File, buffer []byte) {
	if !f.Mode.IsDir() {
		l.files++
	}
	if e.Mode.Type() != f.Mode.Type() {
		if !l.machine {
			l.add(Changed, f.Path, "it is "+kindOf(e.Mode)+" now, and was "+kindOf(f.Mode),
				Finding{Follows: follows, Rebuild: true})
		}
		return
	}
	switch {
	case f.Mode&fs.ModeSymlink != 0:
		if target, err := e.Target(); (err != nil || target != f.Target) && !l.machine {
			l.add(Changed, f.Path, fmt.Sprintf("it leads to %q now, and led to %q", target, f.Target),
				Finding{Follows: follows, Rebuild: true})
		}
		return
	case e.Mode.Perm() != f.Mode.Perm() && !l.machine:
		l.add(Mode, f.Path, fmt.Sprintf("its permissions are %04o now, and were %04o", e.Mode.Perm(), f.Mode.Perm()),
			Finding{Follows: follows, Fixable: true, mode: f.Mode.Perm()})
	}
	if !f.Mode.IsRegular() {
		return
	}
	if e.Size != f.Size && !l.machine {
		l.add(Changed, f.Path, fmt.Sprintf("it has %d bytes now, and had %d", e.Size, f.Size),
			Finding{Follows: follows, Rebuild: true})
		return
	}
	file, err := e.Open()
	if err != nil {
		if errors.Is(err, fs.ErrPermission) {
			return // another user's secret
		}
		l.add(Changed, f.Path, "it cannot be read: "+err.Error(), Finding{Follows: follows, Rebuild: true})
		return
	}
	defer file.Close()
	l.runs(file, f)
	if l.machine || l.quick || f.SHA256 == "" {
		return
	}
	h := sha256.New()
	n, err := io.CopyBuffer(h, struct{ io.Reader }{io.NewSectionReader(file, 0, f.Size+1)}, buffer)
	l.bytes += n
	switch {
	case err != nil:
		l.add(Changed, f.Path, "it cannot be read: "+err.Error(), Finding{Follows: follows, Rebuild: true})
	case hex.EncodeToString(h.Sum(nil)) != f.SHA256:
		l.add(Changed, f.Path, "its contents changed", Finding{Follows: follows, Rebuild: true})
	}
}

func kindOf(mode fs.FileMode) string {
	switch {
	case mode.IsDir():
		return "a directory"
	case mode&fs.ModeSymlink != 0:
		return "a link"
	case mode.IsRegular():
		return "a file"
	}
	return "a pipe, socket or device"
}

// runs checks that the machine has everything that a program, library or script runs with.
func (l *looking) runs(file *os.File, f store.File) {
	if b, is := inspect.ReadBinary(file); is {
		l.binary(b, f)
		return
	}
	if f.Mode.Perm()&0o111 == 0 {
		l.module(f)
		return
	}
	head := make([]byte, 256)
	n, _ := file.ReadAt(head, 0)
	line, _, _ := strings.Cut(string(head[:n]), "\n")
	rest, script := strings.CutPrefix(line, "#!")
	words := strings.Fields(rest)
	if !script || len(words) == 0 {
		return
	}
	name := words[0]
	if path.Base(name) == "env" && len(words) > 1 {
		words = words[1:]
		for len(words) > 1 && (strings.HasPrefix(words[0], "-") || strings.Contains(words[0], "=")) {
			words = words[1:]
		}
		name = words[0]
	}
	if l.told["#!"+name] || l.system.has(name) || !filepath.IsAbs(name) && l.ours(name) ||
		slices.ContainsFunc(l.here(name), safefs.Exists) {
		return
	}
	l.told["#!"+name] = true
	l.add(Interpreter, f.Path, "its interpreter "+name+" is not on this machine"+l.system.instead(name),
		Finding{Follows: "It cannot be started.", Rebuild: true})
}

// here maps paths to this machine: paths in the prefix that a build is for are in its tree, or
// in the trees of its needs.
func (l *looking) here(paths ...string) (all []string) {
	for _, path := range paths {
		rest, is := strings.CutPrefix(path, l.receipt.Prefix+"/")
		if !is || l.receipt.Prefix == "" {
			all = append(all, path)
			continue
		}
		with, _ := landing.BuiltWith(l.s, l.receipt) // missing ones have no files
		for _, build := range with {
			all = append(all, filepath.Join(l.s.Tree(build), rest))
		}
	}
	return all
}

// ours reports whether a need of this build has a program.
func (l *looking) ours(name string) bool {
	for _, need := range append(l.receipt.Needs, store.Link{Ref: l.receipt.Ref}) {
		for _, dir := range []string{"bin", "sbin"} {
			if safefs.Exists(filepath.Join(l.s.Tree(need.Ref), dir, name)) {
				return true
			}
		}
	}
	return false
}

// module checks that the interpreter exists for which a module was placed.
func (l *looking) module(f store.File) {
	parts := strings.Split(f.Path, "/")
	for i := 0; i+1 < len(parts); i++ {
		if parts[i] != "lib" && parts[i] != "lib64" || !strings.HasPrefix(parts[i+1], "python") ||
			!strings.Contains(parts[i+1], ".") {
			continue
		}
		name := parts[i+1]
		if l.told[name] || l.system.has(name) || l.ours(name) {
			return
		}
		l.told[name] = true
		l.add(Interpreter, strings.Join(parts[:i+2], "/"), "it has modules for "+name+", which is not on this machine"+
			l.system.instead(name), Finding{Follows: "No installed interpreter finds them.", Rebuild: true})
	}
}

// binary checks that the libraries of a program or library are found, as the loader looks for
// them (ld.so(8)), and have the symbol versions that it was linked against.
func (l *looking) binary(b inspect.Binary, f store.File) {
	if b.Interpreter != "" && !l.told[b.Interpreter] && !safefs.Exists(b.Interpreter) {
		l.told[b.Interpreter] = true
		l.add(Interpreter, f.Path, "the loader "+b.Interpreter+" is not on this machine",
			Finding{Follows: "It cannot be started.", Rebuild: true})
	}
	looks := b.Looks(filepath.Dir(filepath.Join(l.receipt.At(), f.Path)))
	if l.receipt.Prefix != "" { // where a person may let the loader look
		looks = append(looks, filepath.Join(l.receipt.Prefix, "lib"))
	}
	dirs := host.Loader(l.here(looks...))
	for _, name := range b.Needs {
		at := ""
		if filepath.IsAbs(name) {
			if i := slices.IndexFunc(l.here(name), safefs.Exists); i >= 0 {
				at = l.here(name)[i]
			}
		} else {
			at = dirs.Find(name)
			if at == "" {
				at = l.system.library(name)
			}
		}
		key := name + " " + at
		if l.told[key] {
			continue
		}
		if at == "" {
			l.told[key] = true
			l.add(Library, f.Path, "it needs the library "+name+", which is not on this machine"+l.system.similar(name),
				Finding{Follows: "What uses it cannot be started.", Rebuild: true})
			continue
		}
		if lacks := l.system.lacks(at, b.Versions[name]); len(lacks) > 0 {
			l.told[key] = true
			l.add(Symbols, f.Path, fmt.Sprintf("%s has no %s, which it was linked with", at, strings.Join(lacks, " and ")),
				Finding{Follows: "What uses it cannot be started.", Rebuild: true})
		}
	}
}
