package advice

import (
	"bytes"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fernladder/core/build"
	"fernladder/core/diagnose"
	"fernladder/core/draft"
	"fernladder/core/host"
	"fernladder/core/recipe"
	"fernladder/core/store"
)

// fern is a recipe with an option that is off, and the option's needs.
func fern(t *testing.T) *recipe.Recipe {
	dir := filepath.Join(t.TempDir(), "fern")
	require.NoError(t, os.Mkdir(dir, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, recipe.FileName), []byte(`format = 1
[package]
name = "fern"
summary = "Grows"
[[release]]
version = "1"
archive = "file:///fern.tar.gz"
sha256 = "0000000000000000000000000000000000000000000000000000000000000000"
[option.moss]
about = "Moss"
default = false
off = ["--without-moss"]
[[host]]
module = "libmoss"
when = "moss"
[build]
method = "configure"
`), 0o644))
	r, err := recipe.Read(dir, "fern")
	require.NoError(t, err)
	return r
}

func evidence(t *testing.T, installed ...string) Evidence {
	return Evidence{Family: "debian", Known: func() (*draft.Known, error) {
		return draft.Survey(recipe.NewShelves(nil), &store.Store{Root: t.TempDir()})
	},
		Here: func(q host.Question) (string, bool) {
			for _, name := range installed {
				if q.Name == name {
					return name + "-dev", true
				}
			}
			return "", false
		}}
}

// Answers are sorted by how likely a person would choose them.
func TestAnswersInOrder(t *testing.T) {
	const placed = "# Only what is placed is compiled (skip_unplaced): what fails may be a test or an example."
	for what, c := range map[string]struct {
		cause diagnose.Cause
		want  []string
	}{
		"an option brings it": {diagnose.Cause{Kind: diagnose.MissingHeader, Names: []string{"moss/leaf.h"}},
			[]string{"# The option moss is on: the source does not do without it.", "[[host]]\nheader = \"moss/leaf.h\""}},
		"it is on the machine": {diagnose.Cause{Kind: diagnose.MissingHeader, Names: []string{"reed.h"}},
			[]string{"[[host]]\nheader = \"reed.h\"\npackages = { debian = \"reed.h-dev\" }"}},
		"it only writes documentation": {diagnose.Cause{Kind: diagnose.MissingProgram, Names: []string{"makeinfo"}},
			[]string{"# The argument MAKEINFO=true is added: documentation is not written anew.",
				"[[host]]\nprogram = \"makeinfo\""}},
		"the archive lacks documentation": {diagnose.Cause{Kind: diagnose.MissingInSource, Names: []string{"leaf.texi"},
			Lines: []string{"make[1]: Leaving directory '/work/box/source/src'", "make[1]: *** No rule to make target",
				"make[1]: Leaving directory '/work/box/source/doc'", "make: Leaving directory '/work/box/source'"}},
			[]string{"# The archive lacks doc/leaf.texi. An empty file stands in for it, in the step before_configure; the " +
				"repository may have it.", placed}},
		"its name is for the shell": {diagnose.Cause{Kind: diagnose.MissingInSource,
			Names: []string{"doc/leaf;reboot.texi"}}, []string{placed}},
		"the archive lacks code": {diagnose.Cause{Kind: diagnose.MissingInSource, Names: []string{"leaf.c"}},
			[]string{placed}},
		"code is older than the compiler": {diagnose.Cause{Kind: diagnose.CompilerTooNew,
			Lines: []string{"multiple definition of `leaf'; first defined here"}},
			[]string{`# CC = "cc -fcommon" in [build.env].`, placed}},
		"code declares errno": {diagnose.Cause{Kind: diagnose.CompilerTooNew,
			Lines: []string{"ld: errno: TLS definition in libc.so.6 section .tbss mismatches non-TLS reference in leaf.o"}},
			[]string{`# CC = "cc -include errno.h" in [build.env].`, placed}},
		"a library is named too early": {diagnose.Cause{Kind: diagnose.Undefined, Names: []string{"sin"}, Found: "-lm",
			Lines: []string{"cc -o fern -lm leaf.a"}},
			[]string{`# CC = "cc -Wl,--no-as-needed", CXX = "c++ -Wl,--no-as-needed" in [build.env].`,
				placed}},
		"a definition is inline": {diagnose.Cause{Kind: diagnose.Undefined, Names: []string{"leaf"}, Place: "leaf.c:7"},
			[]string{`# CC = "cc -fgnu89-inline" in [build.env].`, placed}},
		"a macro is in another header": {diagnose.Cause{Kind: diagnose.Undefined, Names: []string{"major"}},
			[]string{`# CC = "cc -include sys/sysmacros.h" in [build.env].`, placed}},
		"the compiler does not know a warning": {diagnose.Cause{Kind: diagnose.WrongOption, Names: []string{"-Wleaves"}},
			[]string{"# The step before_configure takes -Wleaves out of the build files.", placed}},
		"nor what is no warning": {diagnose.Cause{Kind: diagnose.WrongOption, Names: []string{"-Wl,$(reboot)"}},
			[]string{placed}},
		"a name without its header": {diagnose.Cause{Kind: diagnose.CompileError, Place: "src/leaf.cpp:7",
			Lines: []string{"src/leaf.cpp:7:2: error: ‘numeric_limits’ was not declared in this scope"}},
			[]string{`# CXX = "c++ -include limits" in [build.env].`, placed}},
		"a header of C++ is older": {diagnose.Cause{Kind: diagnose.CompilerTooNew, Place: "src/leaf.h:7",
			Lines: []string{"In file included from src/leaf.cpp:2:"}},
			[]string{`# CXX = "c++ -std=gnu++14" in [build.env].`, placed}},
		"C++ is older than the compiler": {diagnose.Cause{Kind: diagnose.CompilerTooNew, Place: "src/leaf.cpp:7"},
			[]string{`# CXX = "c++ -std=gnu++14" in [build.env].`, placed}},
		"a header is not included": {diagnose.Cause{Kind: diagnose.CompileError, Place: "leaf.cpp:2",
			Lines: []string{"leaf.cpp:2: note: ‘memcmp’ is defined in header ‘<cstring>’; did you forget"}},
			[]string{`# CXX = "c++ -include cstring" in [build.env].`, placed}},
		"C++ is loose": {diagnose.Cause{Kind: diagnose.CompileError,
			Lines: []string{"leaf.cc:2: error: ISO C++ forbids it [-fpermissive]"}},
			[]string{`# CXX = "c++ -fpermissive" in [build.env].`, placed}},
		"one warning counts as an error": {diagnose.Cause{Kind: diagnose.WarningError, Place: "leaf.c:2",
			Lines: []string{"leaf.c:2:3: error: unused variable ‘moss’ [-Werror=unused-variable]"}},
			[]string{`# CC = "cc -Wno-error=unused-variable" in [build.env].`, placed}},
		"warnings count as errors": {diagnose.Cause{Kind: diagnose.WarningError},
			[]string{`# CFLAGS = "-O2 -Wno-error", CXXFLAGS = "-O2 -Wno-error" in [build.env].`,
				placed}},
		"the source says how to do without": {diagnose.Cause{Kind: diagnose.MissingLibrary, Names: []string{"reed"},
			Without: "--without-reed"},
			[]string{"# The argument --without-reed is added.\n# Or, with it:\n# [[host]]\n# library = \"reed\"",
				"[[host]]\nlibrary = \"reed\""}},
	} {
		cause := c.cause
		r := fern(t)
		answers := To(r, &build.Failure{Package: "fern", Stage: build.StageCompile, Cause: &cause}, evidence(t, "reed.h"))
		var texts []string
		for _, a := range answers {
			texts = append(texts, a.Text)
			require.NoError(t, a.Give(fern(t), "# why"), what)
		}
		assert.Equal(t, c.want, texts, what)
	}
}

// A library that the shelf has without a pkg-config module is preferred to the operating system's.
func TestUndescribed(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.CopyFS(filepath.Join(dir, "reed"), os.DirFS(fern(t).Dir)))
	file := filepath.Join(dir, "reed", recipe.FileName)
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	text = append(bytes.Replace(text, []byte(`"fern"`), []byte(`"reed"`), 1), "[offers]\nlibraries = [\"reed2\"]\n"...)
	require.NoError(t, os.WriteFile(file, text, 0o644))
	e := evidence(t, "reed2")
	e.Known = func() (*draft.Known, error) {
		return draft.Survey(recipe.NewShelves([]recipe.Shelf{{Dir: dir}}), &store.Store{Root: t.TempDir()})
	}
	cause := diagnose.Own().Log("configure: error: Package requirements (reed2) were not met:\n\nNo package 'reed2' found\n\n" +
		"Consider adjusting the PKG_CONFIG_PATH environment variable if you\ninstalled software in a non-standard prefix.\n\n" +
		"Alternatively, you may set the environment variables REEDS_CFLAGS\nand REEDS_LIBS to avoid the need to call pkg-config.")
	r := fern(t)
	require.NoError(t, To(r, &build.Failure{Stage: build.StageConfigure, Cause: &cause}, e)[0].Give(r, "# why"))
	changed, err := recipe.Read(r.Dir, "fern")
	require.NoError(t, err)
	assert.Equal(t, []string{"REEDS_CFLAGS=-I$FL_TREE_REED/include", "REEDS_LIBS=-lreed2"}, changed.Build.Args)
	assert.Equal(t, "reed", changed.Needs[0].Recipe)
	assert.Equal(t, "reed", For(changed, &cause, e).Needed, "and not of the operating system")
}

// A second warning that counts as an error ends all of them.
func TestWarningsOneAfterTheOther(t *testing.T) {
	r := fern(t)
	cause := diagnose.Cause{Kind: diagnose.WarningError, Lines: []string{"fern.c:2: error: x [-Werror=unused]"}}
	f := &build.Failure{Package: "fern", Stage: build.StageCompile, Cause: &cause}
	require.NoError(t, To(r, f, evidence(t))[0].Give(r, "# why"))
	r, err := recipe.Read(r.Dir, r.Dir)
	require.NoError(t, err)
	assert.Equal(t, "# The step before_configure takes -Werror out of the build files.", To(r, f, evidence(t))[0].Text)
}

// For a makefile, the compiler is an argument: one that is there keeps its place and what it has.
func TestArgumentsOfMake(t *testing.T) {
	r := fern(t)
	r.Build.Method, r.Build.Args = recipe.Make, []string{"CC=cc -fPIC", "all"}
	cause := diagnose.Cause{Kind: diagnose.NotRelocatable}
	answers := To(r, &build.Failure{Package: "fern", Stage: build.StageCompile, Cause: &cause}, evidence(t))
	require.Len(t, answers, 2)
	assert.Equal(t, "# The step before_compile adds -fPIC to the compilers that makefiles name.", answers[1].Text)
	require.NoError(t, answers[0].Give(r, "# why"))
	text, err := os.ReadFile(filepath.Join(r.Dir, recipe.FileName))
	require.NoError(t, err)
	assert.Contains(t, string(text), `args = ["CC=cc -fPIC", "all", "CXX=c++ -fPIC"]`)
}

// A package is not proposed to itself.
func TestNothingIsAPartOfItself(t *testing.T) {
	cause := diagnose.Cause{Kind: diagnose.MissingLibrary, Names: []string{"fern"}}
	assert.Empty(t, For(fern(t), &cause, evidence(t, "fern")).Host.Name)
}

// What is on the machine is not advised again, unless it is there and too old.
func TestWhatIsHere(t *testing.T) {
	e := Evidence{Known: func() (*draft.Known, error) {
		return &draft.Known{}, nil
	}, At: func([]host.Question) string { return "/usr/include/moss.h" }}
	assert.Equal(t, "/usr/include/moss.h",
		For(nil, &diagnose.Cause{Kind: diagnose.MissingHeader, Names: []string{"moss.h"}}, e).At)
	assert.Empty(t, For(nil, &diagnose.Cause{Kind: diagnose.TooOld, Names: []string{"moss"}, Range: ">= 2"}, e).At)
	assert.Empty(t, For(fern(t), &diagnose.Cause{Kind: diagnose.MissingHeader, Names: []string{"moss.h"}}, e).At,
		"of a build it is known what it sees")
}

// A script of the source's own that left Makefile.in out is replaced.
func TestRegenerate(t *testing.T) {
	f := &build.Failure{Cause: &diagnose.Cause{Kind: diagnose.MissingInSource, Names: []string{"src/Makefile.in"}}}
	for step, want := range map[string]int{"sh ./autogen.sh": 1, "autoreconf -fi": 0, "": 0} {
		r := &recipe.Recipe{Build: recipe.Build{Method: recipe.Configure}}
		if step != "" {
			r.Steps = []recipe.Step{{Name: "before_configure", Script: step}}
		}
		assert.Len(t, regenerate(r, f), want, step)
	}
}
