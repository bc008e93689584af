package draft

import (
	"fmt"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fernladder/core/host"
	"fernladder/core/recipe"
	"fernladder/core/store"
)

func TestWhereTheBuildSystemIs(t *testing.T) {
	for _, c := range []struct {
		files fstest.MapFS
		want  string // directory and method
	}{
		{sourceOf("fern/configure", generated, "docs/a", ""), "fern configure"},
		{sourceOf("Makefile", "install:", "fern/configure", generated), " make"},
		{sourceOf("one/Makefile", "", "two/Makefile", ""), " script"},
		{sourceOf("unix/configure", "#!/bin/sh\n", "two/Makefile", ""), "unix configure"},
		{sourceOf("home/rose/fern/Makefile", "", "home/rose/fern/README", ""), "home/rose/fern make"},
		{sourceOf("build/gmake.os2/Makefile", "", "build/gmake.unix/Makefile", ""), "build/gmake.unix make"},
		{sourceOf("tests/Makefile", "", "build/unix/Makefile", "install:"), "build/unix make"},
		{sourceOf("tests/Makefile", "", "README", ""), " script"},
		{sourceOf("src/makefile.u", "all:", "src/makefile.vc", ""), "src make"},
		{sourceOf("README", "", "makefiles/Makefile-BSDI", "", "makefiles/Makefile-Linux", "install:"), " make"},
		{sourceOf("configure", "#!/bin/sh\ncmake .. \"$@\"\n", "CMakeLists.txt", "project(fern)"), " cmake"},
		{sourceOf("configure", "#!/bin/sh\necho\n", "CMakeLists.txt", "project(fern)"), " configure"},
	} {
		s := Read(c.files, "fern-1.0.tar.gz")
		assert.Equal(t, c.want, s.Dir+" "+s.Method.Value)
	}
}

// However many large files a source has, what is read of them is limited.
func TestTextsAreLimited(t *testing.T) {
	large, files := make([]byte, longestText), fstest.MapFS{"Makefile": {Data: []byte("all:")}}
	for i := range mostText/longestText + 8 {
		files[fmt.Sprintf("d%d/Makefile", i)] = &fstest.MapFile{Data: large}
	}
	from := &tree{files: files, texts: map[string]string{}}
	from.makefile(&Source{}, "Makefile")
	assert.Equal(t, mostText, from.read)
}

func TestSummariesAndVersionsFromTexts(t *testing.T) {
	for readme, want := range map[string]string{
		"Fern\n====\n\nFern is a library for growing\nleaves in the shade. It is old.\n": "Library for growing leaves in " +
			"the shade",
		"libfern (the Fern) is the one planner of beds.\n": "One planner of beds",
		"This is a garden.\n":                              "",
		"Fern is a [x](y) z.\n":                            "",
	} {
		s := Read(sourceOf("README.md", readme, "Makefile", ""), "libfern-1.0.tar.gz")
		assert.Equal(t, want, s.Summary.Value)
	}
	for file, text := range map[string]string{
		"man/libfern.3":        ".TH LIBFERN 3\n.SH NAME\nlibfern \\- grow ferns in the shade\n.SH SYNOPSIS\n",
		"libfern.1":            ".Sh NAME\n.Nm libfern\n.Nd grow ferns in the shade\n",
		"libfern.spec":         "Name: x\nSummary: grow ferns in the shade\n",
		"data/fern.desktop.in": "[Desktop Entry]\nComment=grow ferns in the shade\n",
	} {
		s := Read(sourceOf("Makefile", "", file, text), "libfern-1.0.tar.gz")
		assert.Equal(t, "Grow ferns in the shade", s.Summary.Value, file)
	}
	s := Read(sourceOf("Makefile", "", "include/fern.h", "#define FERN_API 3\n#  define FERN_VERSION_STRING \"v2.4.1\"\n"),
		"fern")
	assert.Equal(t, "2.4.1", s.Version.Value)
	s.Confirm(Origin{Git: "https://x.example/fern.git", Tag: "v2.5", Version: "2.5"})
	assert.Equal(t, "2.5", s.Version.Value, "what the tag says counts")
}

func TestMakefilesThatNameThePlaceOtherwise(t *testing.T) {
	for makefile, want := range map[string]string{
		"PREFIX ?= /usr/local\ninstall:\n":                            "",
		"INSTALL_TOP = /usr/local\ninstall:\n":                        "INSTALL_TOP=$FL_PREFIX",
		"PREFIX=/usr\nDESTDIR=${PREFIX}/bin\ninstall:\n":              "DESTDIR=$FL_PREFIX/bin",
		"DESTDIR=\nprefix=/usr\ninstall:\n":                           "",
		"CC = /usr/bin/cc\ninstall:\n\tcp x /usr/local/bin\n":         "",
		"  INSTALLDIR := /opt/fern-2\nall:\n\ninstall: all\n\tcp x y": "INSTALLDIR=$FL_PREFIX",
	} {
		assert.Equal(t, want, strings.Join(Read(sourceOf("Makefile", makefile), "x-1").Args, " "), makefile)
	}
}

// A look-up under a condition is not required.
func TestConditionalLookups(t *testing.T) {
	required := func(files ...string) string {
		var names []string
		for _, w := range Read(sourceOf(files...), "x-1").Lookups {
			if w.Kind != "program" {
				names = append(names, w.Name()+map[bool]string{true: "!"}[w.Required])
			}
		}
		return strings.Join(names, " ")
	}
	assert.Equal(t, "dew! soil moss!",
		required("meson.build",
			"a = dependency('dew')\nif host_machine.system() == 'x'\n  if y\n  endif\n  b = dependency('soil')\nendif\nc = "+
				"dependency('moss')\n"))
	assert.Equal(t, "Dew! Soil Moss!",
		required("CMakeLists.txt",
			"find_package(Dew REQUIRED)\nIF(X)\n  find_package(Soil REQUIRED)\nELSE()\nendif(X)\nfind_package(Moss REQUIRED)\n"))
	assert.Equal(t, "dew! soil bark moss!", required("configure", generated, "configure.ac",
		"PKG_CHECK_MODULES([A], [dew])\nif test x = y; then\nPKG_CHECK_MODULES([B], [soil])\nfi\nAS_IF([test x], "+
			"[PKG_CHECK_MODULES([D], [bark])])\nPKG_CHECK_MODULES([C], [moss])\n"))
	assert.Equal(t, "dew! loam! soil!",
		required("configure", generated, "configure.ac",
			"PKG_CHECK_MODULES([A], [dew >= 1.2 loam, soil])\nAC_SEARCH_LIBS([f], [x], [a], [b])\n")[:len("dew! loam! soil!")])
	assert.Empty(t, required("meson.build", "project('x')\nd = dependency('x')\n"), "nothing looks for itself")
}

func TestGeneratorsAreNeeded(t *testing.T) {
	s := Read(sourceOf("configure.ac", "AC_INIT([fern],[1])\nAM_INIT_AUTOMAKE\nLT_INIT\nAC_PROG_YACC\n"), "fern-1")
	known, err := Survey(shelf(t, "bison"), &store.Store{Root: t.TempDir()})
	require.NoError(t, err)
	here := map[host.Question]host.Answer{{Kind: host.Program, Name: "autoreconf"}: {There: true, Version: "2.71"}}
	text := s.Compose(Origin{}, s.Decide(Evidence{Known: known, Here: here, Family: "debian"}), "debian")
	assert.Contains(t, text,
		"[[host]]\nprogram = \"autoreconf\"   # configure.ac; here: yes 2.71\npackages = { debian = \"autoconf\"")
	assert.Contains(t, text, "program = \"libtoolize\"   # configure.ac; not here now")
	assert.Contains(t, text,
		"[[need]]\nrecipe = \"bison\"   # guessed by its name, for program bison in configure.ac\nrole   = \"tool\"",
		"a recipe on the shelf goes before the system")
}

func TestWhatAnOriginAdds(t *testing.T) {
	s := Read(sourceOf("Makefile", "PREFIX=/usr\ninstall:\n"), "fern-1.0")
	known, err := Survey(shelf(t), &store.Store{Root: t.TempDir()})
	require.NoError(t, err)
	for says, o := range map[string]Origin{
		"#   AB CD\n": {URL: "https://x.example/f.tar.gz", SHA256: "0", Signature: "https://x.example/f.tar.gz.asc",
			Signers: []string{"AB\nCD"}},
		"# signature = \"https://x.example/f.tar.gz.asc\"": {URL: "https://x.example/f.tar.gz", SHA256: "0",
			Signature: "https://x.example/f.tar.gz.asc", Signers: []string{"X"}},
		"svn      = \"https://x.example/f\"\nrevision = \"7\"": {Svn: "https://x.example/f", Revision: "7"},
		"track = \"tip\"\nsvn   = ":                            {Svn: "https://x.example/f", Revision: "7"},
		"# open: archive = ":                                   {},
	} {
		assert.Contains(t, s.Compose(o, s.Decide(Evidence{Known: known}), "debian"), says)
	}
}

func TestOffered(t *testing.T) {
	var files []store.File
	for _, name := range []string{"bin/fern", "sbin/x", "lib/libfern.so", "lib/libfern.so.1", "lib/libfern.a",
		"lib/pkgconfig/fern-2.pc", "share/pkgconfig/fern-data.pc",
		"lib/cmake/Fern/FernConfig.cmake", "lib/cmake/Fern/FernTargets.cmake", "share/cmake/moss/moss-config.cmake",
		"lib/pkgconfig/README"} {
		files = append(files, store.File{Path: name})
	}
	assert.Equal(t, recipe.Offers{Modules: []string{"fern-2", "fern-data"}, Programs: []string{"fern"},
		Libraries: []string{"fern"}, CMake: []string{"Fern", "moss"}}, Offered(t.TempDir(), files))
	assert.True(t, Offered("", nil).Empty())
}
