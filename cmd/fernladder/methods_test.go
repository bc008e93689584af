package main_test

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A library, and a program that uses it and prints its data directory: a build is only right if
// the program runs with an empty environment.
const (
	libraryHeader = "const char *soil(void);\n"
	librarySource = "#include \"soil.h\"\nconst char *soil(void) { return \"humus\"; }\n"
	programSource = "#include <soil.h>\n#include <stdio.h>\nint main(void) { printf(\"fern in %s, %s\\n\", soil(), " +
		"DATA); return 0; }\n"
)

// soilPackage is the library, built by a makefile.
func soilPackage(w *world) {
	w.pkg("soil", "[build]\nmethod = \"make\"\n", "soil.h", libraryHeader, "soil.c", librarySource, "Makefile", `
libsoil.so: soil.c
	$(CC) -shared -fPIC -Wl,-soname,libsoil.so -o $@ soil.c
install: libsoil.so
	mkdir -p $(DESTDIR)$(PREFIX)/lib $(DESTDIR)$(PREFIX)/include
	cp libsoil.so $(DESTDIR)$(PREFIX)/lib
	cp soil.h $(DESTDIR)$(PREFIX)/include
`)
}

func TestEveryMethodFindsALibraryAndItsOwnPlace(t *testing.T) {
	t.Parallel()
	sources := map[string][]string{
		"configure": {"configure", `#!/bin/sh
case $1 in --prefix=*) prefix=${1#*=};; esac
src=$(dirname "$0")
cat >Makefile <<EOF
fern: $src/fern.c
	cc $CPPFLAGS -DDATA='"$prefix/share"' -o fern $src/fern.c $LDFLAGS -lsoil
install:
	mkdir -p \$(DESTDIR)$prefix/bin; cp fern \$(DESTDIR)$prefix/bin
EOF
`},
		"cmake": {"CMakeLists.txt", `cmake_minimum_required(VERSION 3.13)
project(fern C)
find_library(SOIL soil)
find_path(SOIL_INCLUDE soil.h)
add_executable(fern fern.c)
target_include_directories(fern PRIVATE ${SOIL_INCLUDE})
target_compile_definitions(fern PRIVATE DATA="${CMAKE_INSTALL_PREFIX}/share")
target_link_libraries(fern ${SOIL})
install(TARGETS fern DESTINATION bin)
`},
		"meson": {"meson.build", `project('fern', 'c')
soil = meson.get_compiler('c').find_library('soil', has_headers: 'soil.h')
data = '-DDATA="@0@"'.format(get_option('prefix') / 'share')
executable('fern', 'fern.c', c_args: data, dependencies: soil, install: true)
`},
		"make": {"Makefile", `fern: fern.c
	$(CC) -DDATA='"$(PREFIX)/share"' -o fern fern.c -lsoil
install:
	mkdir -p $(DESTDIR)$(PREFIX)/bin; cp fern $(DESTDIR)$(PREFIX)/bin
`},
		"script": {"build.sh",
			"#!/bin/sh\ncc $CPPFLAGS -DDATA=\"\\\"$FL_PREFIX/share\\\"\" -o fern fern.c $LDFLAGS -lsoil\n"},
	}
	for method, files := range sources {
		t.Run(method, func(t *testing.T) {
			t.Parallel()
			w := newWorld(t)
			soilPackage(w)
			recipe := "[[need]]\nrecipe = \"soil\"\nrole = \"library\"\n[build]\nmethod = \"" + method + "\"\n"
			if method == "script" {
				recipe = asking("cc") + recipe +
					"[steps]\ncompile = '''\n./build.sh\n'''\nplace = '''\nmkdir -p $DESTDIR$FL_PREFIX/bin; cp fern " +
					"$DESTDIR$FL_PREFIX/bin\n'''\n"
			}
			w.pkg("fern", recipe, append(files, "fern.c", programSource)...)
			w.must("install", "fern")
			bin := w.root + "/landing/bin/fern"
			tree, err := filepath.EvalSymlinks(bin)
			require.NoError(t, err)
			tree = filepath.Dir(filepath.Dir(tree))
			assert.Equal(t, "fern in humus, "+tree+"/share\n", w.sh("env -i "+bin).stdout)
		})
	}
}

// The same sources give the same bytes, in any directory.
func TestBuildingTwiceGivesTheSameBytes(t *testing.T) {
	t.Parallel()
	w, _ := newGarden(t)
	digests := func() map[string]string {
		var files struct {
			Files []struct{ Path, SHA256 string }
		}
		w.parsed(&files, "files", "dewcalc")
		all := map[string]string{}
		for _, f := range files.Files {
			all[f.Path] = f.SHA256
		}
		return all
	}
	w.must("install", "dewcalc", "-j", "1")
	first := digests()
	w.must("remove", "--trees", "dewcalc")
	w.must("install", "dewcalc", "-j", "4")
	assert.Equal(t, first, digests())
}

func TestNoMoreJobsThanSlots(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.isolation = "open" // the builds count each other's files
	// Each build has a user of its own, and its process ids start at 1.
	w.write("counts", "")
	require.NoError(t, os.Chmod(w.path("counts"), 0o666))
	for _, name := range []string{"fern", "moss", "sage"} {
		at := w.path("at-" + name + "-$$$$")
		makefile := "all: a b c d\na b c d:\n\ttouch " + at + "; ls " + w.dir + " | grep -c ^at- >>" + w.path("counts") +
			"; sleep 0.05; rm " + at + "\ninstall:\n\tmkdir -p $(DESTDIR)$(PREFIX); touch $(DESTDIR)$(PREFIX)/leaf\n"
		w.pkg(name, "[build]\nmethod = \"make\"\n", "Makefile", makefile)
	}
	w.must("build", "fern", "moss", "sage", "-j", "2")
	counts := strings.Fields(w.read("counts"))
	assert.Len(t, counts, 12)
	for _, count := range counts {
		assert.Contains(t, []string{"1", "2"}, count)
	}
}

// Programs can read all output with --json, including errors.
func TestJSON(t *testing.T) {
	t.Parallel()
	w, _ := newGarden(t)
	var installed struct {
		Built   []struct{ Name, Version, ID string }
		Landing struct{ Number int }
		Changed bool
	}
	w.parsed(&installed, "install", "loamdb", "-o", "shared=on")
	assert.Equal(t, "loamdb", installed.Built[0].Name)
	assert.True(t, installed.Changed)
	for _, args := range [][]string{{"env"}, {"env", "loamdb"}, {"log", "loamdb"}, {"try", "loamdb"}, {"check"},
		{"fetch", "loamdb"}, {"build", "loamdb"}, {"remove", "loamdb"}, {"new", "folder"}} {
		var any any
		w.parsed(&any, args...)
	}
	var schema struct{ Required []string }
	w.parsed(&schema, "check", "--schema")
	assert.Equal(t, []string{"format", "package", "release", "build"}, schema.Required)
	for status, args := range map[int][]string{
		1: {"show", "dewcalc"}, 2: {"plan", "UPPER"}, 4: {"plan", "dewcalc:9"},
		7: {"install", "dewcalc", "--root", "/proc/1/x"},
	} {
		r := w.run(append(args, "--json")...)
		assert.Equal(t, status, r.status)
		assert.Empty(t, r.stdout)
		var problem struct{ Error, Message string }
		require.NoError(t, json.Unmarshal([]byte(r.stderr), &problem), r.stderr)
		assert.NotEmpty(t, problem.Message)
	}
}

func TestSettingsAreFoundAboveAndElsewhere(t *testing.T) {
	t.Parallel()
	w, _ := newGarden(t)
	w.closed()
	require.NoError(t, os.MkdirAll(w.path("deep/er"), 0o755))
	c := w.command("plan", "dewcalc")
	c.Dir = w.path("deep/er")
	assert.Equal(t, 0, w.finish(c).status)
	require.NoError(t, os.Chmod(w.dir, 0o777|os.ModeSticky))
	w.fails(3, []string{"plan", "dewcalc"}, "everyone can write to "+w.dir, "To use these settings anyway: --settings "+
		w.path("fernladder.toml"))
	w.must("plan", "dewcalc", "--settings", "fernladder.toml")
	c = w.command("plan", "dewcalc")
	c.Dir = t.TempDir()
	r := w.finish(c)
	assert.Equal(t, 4, r.status)
	assert.Contains(t, r.stderr, "no shelf is set")
	c = w.command("plan", "dewcalc", "--settings", w.path("fernladder.toml"), "--root", "here")
	c.Dir = t.TempDir()
	assert.Equal(t, 0, w.finish(c).status)
	w.must("--version")
	require.NoError(t, os.Chmod(w.dir, 0o755))
	assert.Contains(t, w.must("__complete", "plan", "").stdout, "dewcalc\nfrondplot\n")
	assert.Contains(t, w.must("__complete", "plan", "mistplan:").stdout, "mistplan:1.9.4\tstable\nmistplan:tip\ttip\n")
	assert.Contains(t, w.must("__complete", "plan", "mistplan", "-o", "").stdout, "plots=\tDraw plans as SVG\n")
	assert.Contains(t, w.must("__complete", "plan", "mistplan", "-o", "storage=").stdout, "storage=loam\nstorage=flat\n")
	assert.Contains(t, w.must("__complete", "plan", "glasshouse", "-o", "mistplan.pl").stdout, "mistplan.plots=\t")
	assert.Contains(t, w.must("__complete", "plan", "mistplan", "--preset", "").stdout, "small\tFor a machine in a shed")
	assert.Contains(t, w.must("__complete", "env", "--as", "").stdout, "modulefile\n")
	assert.NotContains(t, w.must("__complete", "show", "").stdout, "dewcalc")
	assert.Contains(t, w.must("--help").stdout, "fernladder install glasshouse")
}
