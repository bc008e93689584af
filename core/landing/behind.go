package landing

import (
	"io/fs"
	"path"
	"strings"
)

// A System tells which files the operating system has; each answers with a path, or "".
// A nil function has none.
type System struct {
	Program func(name string) string // of this name
	Library func(name string) string // a shared library; given where loaders and compilers look where the links are
	// By its path below /usr; one in lib or include may be in a directory there that is for one architecture.
	File func(name string) string
}

func ask(find func(string) string, name string) string {
	if find == nil {
		return ""
	}
	return find(name)
}

// first are directories of which, of several files of one name, only the first that is
// found counts: entries in menus, services, units, what starts sessions.
var first = words(`
	share/applications share/dbus-1/services share/thumbnailers share/xsessions share/wayland-sessions
	lib/systemd/system lib/systemd/user lib/girepository-1.0`)

// Behind is the file of the operating system that a package's file of this name on the
// landing would come before, or "": a program, with what shells and manuals have for it, a library, and
// what else there can be only one of.
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

// described is what describes a library of the system to those who build against it, where
// they would find what is on the landing first.
func (s System) described(names ...string) string {
	for _, name := range names {
		if at := ask(s.File, name); at != "" && s.Library != nil {
			return at
		}
	}
	return ""
}

// library is the library that programs would not use any more. ldconfig makes the link by
// which they ask for one, libfern.so.1, to any libfern.so.1.2 that it comes by. A link
// without a number is only for the linker.
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
