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
	Library func(name string) string // a shared library, where the loader looks where the links are
	File    func(name string) string // by its path below /usr
}

func ask(find func(string) string, name string) string {
	if find == nil {
		return ""
	}
	return find(name)
}

// first are directories of which, of several files of one name, only the first that is
// found counts: entries in menus, services, units, what starts sessions.
var first = words(`share/applications share/dbus-1/services share/thumbnailers share/xsessions share/wayland-sessions lib/systemd/system lib/systemd/user`)

// Behind is the file of the operating system that a file of this name on the landing would
// come before, or "": a program, with what shells and manuals have for it, a library, and
// what else there can be only one of.
func (s System) Behind(name string, mode fs.FileMode) string {
	dir, base := path.Split(name)
	dir = strings.TrimSuffix(dir, "/")
	switch dir {
	case "bin", "sbin":
		return ask(s.Program, base)
	case "lib":
		return s.library(base, mode)
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
