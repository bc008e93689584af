package landing

import (
	"io/fs"
	"path"
	"strings"
)

// A System finds files of the operating system; each function returns a path, or "". A nil
// function finds none.
type System struct {
	Program func(name string) string // of this name
	Library func(name string) string // a shared library; given where loaders and compilers look where the links are
	// By its path below /usr; in lib or include, it may be in a directory for one architecture.
	File func(name string) string
}

func ask(find func(string) string, name string) string {
	if find == nil {
		return ""
	}
	return find(name)
}

// first are directories in which only the first of several files with one name counts: desktop
// entries, services, units, sessions.
var first = words(`
	share/applications share/dbus-1/services share/thumbnailers share/xsessions share/wayland-sessions
	lib/systemd/system lib/systemd/user lib/girepository-1.0`)

// Behind is the file of the operating system that a file of this name on the landing would hide,
// or "": a program, its completions and manual pages, a library, or anything else of which only
// one counts.
func (s System) Behind(pkg, name string, mode fs.FileMode) string {
	dir, base := path.Split(name)
	dir = strings.TrimSuffix(dir, "/")
	switch dir {
	case "bin", "sbin":
		return ask(s.Program, base)
	case "lib", "lib64":
		return s.library(base, mode)
	case "lib/pkgconfig", "lib64/pkgconfig", "share/pkgconfig":
		return s.described("lib/pkgconfig/"+base, "share/pkgconfig/"+base)
	case "share/man/man1", "share/man/man8", "man/man1", "man/man8":
		stem := base
		for _, suffix := range []string{".gz", ".bz2", ".xz", ".zst"} {
			stem = strings.TrimSuffix(stem, suffix)
		}
		if stem, is := strings.CutSuffix(stem, "."+dir[len(dir)-1:]); is {
			return ask(s.Program, stem)
		}
	case "share/bash-completion/completions":
		return ask(s.Program, strings.TrimSuffix(base, ".bash"))
	case "share/zsh/site-functions", "share/zsh/vendor-completions":
		return ask(s.Program, strings.TrimPrefix(base, "_"))
	case "share/fish/vendor_completions.d":
		return ask(s.Program, strings.TrimSuffix(base, ".fish"))
	}
	if first[dir] {
		return ask(s.File, name)
	}
	parts := strings.SplitN(name, "/", 4)
	switch {
	case len(parts) < 2:
	case parts[0] == "include": // a directory that the system lacks has no header that it has
		if s.described(path.Join(parts[:2]...)) != "" {
			return s.described(name)
		}
	case len(parts) == 4 && parts[1] == "cmake":
		return s.described("lib/cmake/"+parts[2], "share/cmake/"+parts[2])
	case ownTops[parts[0]] && isOwn(pkg, parts[1]): // the system's package of that name reads it
		return ask(s.File, path.Join(parts[:2]...))
	}
	return ""
}

// described is the description of a system library for building against it, where builds would
// find one on the landing first.
func (s System) described(names ...string) string {
	for _, name := range names {
		if at := ask(s.File, name); at != "" && s.Library != nil {
			return at
		}
	}
	return ""
}

// library is the library that programs would no longer use. ldconfig makes the link by which
// they request one, libfern.so.1, to any libfern.so.1.2 that it finds. A link without a number
// is only for the linker.
func (s System) library(base string, mode fs.FileMode) string {
	if !strings.HasPrefix(base, "lib") {
		return ""
	}
	if strings.HasSuffix(base, ".so") && mode.IsRegular() {
		return ask(s.Library, base)
	}
	for name := base; strings.Contains(name, ".so."); name = strings.TrimSuffix(name, path.Ext(name)) {
		if at := ask(s.Library, name); at != "" {
			return at
		}
	}
	return ""
}
