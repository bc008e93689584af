package diagnose

import (
	"path"
	"slices"
	"strings"
	"sync"

	"fernladder/core/host"
)

// Questions are those that the operating system, or its lists of files, can answer to remove the
// cause: the likeliest first. Any of them will do. There are none for causes that are not about
// something missing.
func (c Cause) Questions() []host.Question {
	var all []host.Question
	for _, name := range c.Names {
		all = append(all, questions(c.Kind, name)...)
	}
	if c.library {
		all = slices.DeleteFunc(all, func(q host.Question) bool { return q.Kind == host.Program })
	}
	return all
}

func questions(kind Kind, name string) []host.Question {
	stem := strings.TrimPrefix(strings.ToLower(name), "lib")
	switch kind {
	case MissingHeader:
		return []host.Question{{Kind: host.Header, Name: name}}
	case MissingLibrary:
		if file := path.Base(name); file != name { // a makefile names the file itself
			name, _, _ = strings.Cut(strings.TrimSuffix(strings.TrimPrefix(file, "lib"), ".a"), ".so")
		}
		return []host.Question{{Kind: host.Library, Name: name}}
	case MissingShared:
		stem, _, _ := strings.Cut(strings.TrimPrefix(name, "lib"), ".so")
		return []host.Question{{Kind: host.Library, Name: stem}, {Kind: host.Shared, Name: name}}
	case MissingModule:
		all := []host.Question{{Kind: host.Module, Name: name}, {Kind: host.Package, Name: strings.ToLower(name)}}
		return append(append(all, aliases()[stem]...), host.Question{Kind: host.Program, Name: name})
	case MissingProgram:
		all := []host.Question{{Kind: host.Program, Name: name}}
		if other := map[string]string{"yacc": "bison", "lex": "flex", "python": "python3"}[name]; other != "" {
			all = append(all, host.Question{Kind: host.Program, Name: other})
		}
		if of, is := strings.CutSuffix(name, "-config"); is {
			all = append(all, questions(Missing, of)...)
		}
		return all
	case TooOld:
		return []host.Question{{Kind: host.Module, Name: name}, {Kind: host.Program, Name: strings.ToLower(name)}}
	case MissingPython:
		module := strings.ReplaceAll(name, "-", "_")
		return []host.Question{{Kind: host.Python, Name: module}, {Kind: host.Python, Name: strings.ToLower(module)}}
	case MissingPerl:
		return []host.Question{{Kind: host.Perl, Name: name}}
	case MissingMacro:
		name = strings.TrimPrefix(strings.ToLower(name), "am_path_") // which packages call after themselves
		all := []host.Question{{Kind: host.File, Name: "/usr/share/aclocal/" + name + ".m4"}}
		if of, is := strings.CutPrefix(name, "ax_path_"); is {
			all = append(all, host.Question{Kind: host.File, Name: "/usr/share/aclocal/" + of + ".m4"})
		}
		return all
	case MissingPackage, Missing:
		all := []host.Question{{Kind: host.Package, Name: strings.ToLower(name)}}
		if kind == Missing {
			all = nil
		}
		all = append(all, aliases()[stem]...)
		for _, name := range []string{name, strings.ToLower(name), "lib" + stem} {
			all = append(all, host.Question{Kind: host.Module, Name: name})
		}
		return append(all, host.Question{Kind: host.Library, Name: stem}, host.Question{Kind: host.Header, Name: stem + ".h"},
			host.Question{Kind: host.Header, Name: stem + "/" + stem + ".h"},
			host.Question{Kind: host.Program, Name: strings.ToLower(name)},
			host.Question{Kind: host.Package, Name: strings.ToLower(name)})
	}
	return nil
}

// aliases are other names of things that no file is named after, in lower case and without lib.
var aliases = sync.OnceValue(func() map[string][]host.Question {
	all := map[string][]host.Question{}
	for header, names := range map[string]string{
		"openssl/ssl.h": "ssl tls openssl crypto opensslv", "zlib.h": "z zlib", "curses.h": "curses ncurses ncursesw cursesw",
		"termcap.h":           "terminal termcap tinfo terminfo",
		"readline/readline.h": "readline gnureadline", "jpeglib.h": "jpeg", "png.h": "png", "tiffio.h": "tiff",
		"bzlib.h": "bz2 bzip2 bzip", "lzma.h": "xz lzma liblzma",
		"X11/Xlib.h": "x11 x xlib", "GL/gl.h": "opengl gl", "GL/glu.h": "glu", "GL/glut.h": "glut", "pcre.h": "pcre",
		"pcre2.h": "pcre2", "pcap.h": "pcap",
		"sqlite3.h": "sqlite sqlite3", "expat.h": "expat", "curl/curl.h": "curl", "ldap.h": "ldap",
		"security/pam_appl.h": "pam", "alsa/asoundlib.h": "alsa asound",
		"gmp.h": "gmp", "mpfr.h": "mpfr", "tcl.h": "tcl", "tk.h": "tk", "boost/version.hpp": "boost", "uuid/uuid.h": "uuid",
		"fftw3.h": "fftw fftw3", "cups/cups.h": "cups",
		"libusb-1.0/libusb.h": "usb usb1 libusb", "Python.h": "pythonlibs python-dev pythondev", "db.h": "berkeleydb bdb db",
		"gdbm.h": "gdbm", "magic.h": "magic", "sys/acl.h": "acl",
	} {
		for name := range strings.FieldsSeq(names) {
			all[name] = []host.Question{{Kind: host.Header, Name: header}}
		}
	}
	for module, names := range map[string]string{"glib-2.0": "glib gobject", "gtk+-3.0": "gtk gtk+ gtk3",
		"gtk+-2.0": "gtk2", "libxml-2.0": "xml libxml", "freetype2": "freetype", "sdl2": "sdl"} {
		for name := range strings.FieldsSeq(names) {
			all[name] = []host.Question{{Kind: host.Module, Name: module}}
		}
	}
	all["autoconf-archive"] = []host.Question{{Kind: host.File, Name: "/usr/share/aclocal/ax_check_compile_flag.m4"}}
	for program, names := range map[string]string{"python3": "python python3 pythoninterp", "perl": "perl perllibs",
		"msgfmt": "gettext intl", "docbook2x-man": "docbook2x", "javac": "java jdk", "pkg-config": "pkgconfig",
		"dot": "graphviz", "intltoolize": "intltool"} {
		for name := range strings.FieldsSeq(names) {
			all[name] = []host.Question{{Kind: host.Program, Name: program}}
		}
	}
	return all
})
