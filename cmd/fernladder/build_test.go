package main_test

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The garden's packages are identical when they are built again elsewhere; a difference is
// named.
func TestProve(t *testing.T) {
	long(t)
	t.Parallel()
	needs(t, "sealed")
	w, _ := newGarden(t)
	r := w.must("build", "--prove", "mistplan", "dewcalc")
	assert.Contains(t, r.stdout, "mistplan 2.1.0 comes out the same when built in another directory.\n")
	assert.Contains(t, r.stdout, "dewcalc 1.4.2 comes out the same")
	w.pkg("fern",
		script("place", `mkdir -p $DESTDIR$FL_PREFIX; pwd >$DESTDIR$FL_PREFIX/where; echo same >$DESTDIR$FL_PREFIX/leaf`))
	r = w.fails(1, []string{"build", "--prove", "fern"}, "fern came out differently the second time")
	assert.Contains(t, r.stdout, "fern 1.0 differs in 1 file:\n    where: text, line 1: ")
	assert.Empty(t, w.glob("root/work/fern*"), "nothing of the second build is left")
	w.fails(6, []string{"build", "--prove", "fern", "--isolation", "open"}, "only sealed builds can be built again")
}

// Placed files are inspected before they become a tree.
func TestWhatWasPlacedIsInspected(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.pkg("fern",
		script("place",
			`mkdir -p $DESTDIR$FL_PREFIX/bin; ln -s nowhere $DESTDIR$FL_PREFIX/bin/lost; echo x >$DESTDIR$FL_PREFIX/open; chmod 666 $DESTDIR$FL_PREFIX/open; echo $DESTDIR$FL_PREFIX >$DESTDIR$FL_PREFIX/paths`))
	r := w.must("install", "fern")
	for _, remark := range []string{"bin/lost: it is a link to nothing: nowhere",
		"open: write permission for everyone was removed", "paths: it named the staging directory, and now names the tree"} {
		assert.Contains(t, r.stderr, remark)
		assert.Contains(t, w.must("show", "fern").stdout, remark)
	}
	w.pkg("moss", script("place", `mkdir -p $DESTDIR$FL_PREFIX/bin`))
	w.fails(1, []string{"install", "moss"}, "moss 1.0 failed in stage place: the placed files cannot work:",
		"only empty directories were placed")
	w.pkg("sage",
		asking("cc")+script("place", `mkdir -p $DESTDIR$FL_PREFIX/lib $DESTDIR$FL_PREFIX/bin; cd $DESTDIR$FL_PREFIX
echo 'int leaf(void) { return 0; }' >leaf.c; echo 'int leaf(void); int main(void) { return leaf(); }' >main.c
unset LD_RUN_PATH; cc -shared -fPIC -o lib/libleaf.so leaf.c; cc -o bin/sage main.c -Llib -lleaf`))
	w.fails(1, []string{"install", "sage"}, "bin/sage: the library libleaf.so will not be found", "link with -Wl,-rpath,")
}

// Leftovers of failed builds are listed and deleted; the history keeps the builds.
func TestCleanHistoryAndLogs(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	assert.Equal(t, "No build is recorded.\n", w.must("history").stdout)
	assert.Equal(t, "Nothing to delete.\n", w.must("clean").stdout)
	w.pkg("fern", script("compile",
		"i=0; while test $i -lt 99999; do i=$((i+1)); done; echo quiet; echo 'fern.c:3:1: error: no leaf here'; exit 1",
		"place", place("fern")))
	w.fails(1, []string{"install", "fern"}, "no leaf here")
	var runs []struct {
		Busy float64 `json:"processor_seconds"`
	}
	w.parsed(&runs, "history", "--runs")
	assert.Positive(t, runs[0].Busy, "the processor time of a failed stage counts")
	assert.Contains(t, w.must("log", "fern", "--errors").stdout, "fern.c:3:1: error: no leaf here")
	assert.Regexp(t, `fern +1\.0 +[0-9a-f]{12} +failed in compile`, w.must("history").stdout)
	r := w.must("clean")
	assert.Regexp(t, `build +fern +1\.0 +[0-9a-f]{12} +\d+ k?B +\d seconds? +unpack done`, r.stdout)
	assert.Contains(t, r.stderr, "Nothing was deleted. To delete it: the same command with --yes")
	assert.Len(t, w.glob("root/work/*-*"), 1)
	assert.Contains(t, w.must("clean", "moss").stdout, "Nothing to delete.")
	w.must("clean", "--yes")
	assert.Empty(t, w.glob("root/work/*-*"))

	w.edit("recipes/fern/recipe.toml", "; exit 1", "; echo fine")
	w.edit("recipes/fern/recipe.toml", "error: no leaf here", "all is green")
	w.must("install", "fern")
	assert.Contains(t, w.must("log", "fern", "--errors").stderr, "Nothing in the logs of fern 1.0 looks like an error")
	assert.Contains(t, w.must("log", "fern", "--follow").stdout, "fine\n", "and ends, because nothing builds it")
	w.edit("recipes/fern/recipe.toml", "all is green", "all is greener")
	w.must("install", "fern")
	assert.Len(t, w.trees(), 2)
	assert.Contains(t, w.must("clean", "--trees").stdout, "Nothing to delete", "an earlier state of the landing has it")
	assert.Contains(t, w.must("clean", "--trees", "--landings").stdout, "tree")
	w.must("clean", "--trees", "--landings", "--archives", "--yes")
	assert.Len(t, w.trees(), 1, "what is on the landing stays")
	assert.Empty(t, w.glob("root/archives/sha256/*"))
	var records []struct {
		Name   string
		Stages []struct{ Stage string }
	}
	w.parsed(&records, "history", "fern")
	assert.Len(t, records, 3)
	assert.NotEmpty(t, records[0].Stages)
}

// A shell opens at the point where a build failed, and sees what the build saw.
func TestAShellInAFailedBuild(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.pkg("fern", script("compile", "touch been-here; exit 1", "place", place("fern")))
	w.fails(2, []string{"build", "--shell", "fern"}, "no build that failed or was interrupted")
	w.fails(1, []string{"build", "fern"})
	c := w.command("build", "--shell", "fern")
	c.Stdin = strings.NewReader("ls; echo $FL_NAME in $HOME; exit 3\n")
	r := w.finish(c)
	assert.Equal(t, 0, r.status, r.stderr)
	assert.Contains(t, r.stdout, "been-here\r\n")
	assert.Contains(t, r.stdout, "fern in "+w.root+"/work/fern-1.0-")
	assert.Contains(t, r.stderr, "The shell ended with status 3.")
}

// A ninja that can read job slots from a named pipe gets one; an older one gets a number of
// jobs.
func TestNinjasThatKnowSlots(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.isolation = "open" // it is not in /usr
	w.pkg("fern", "[build]\nmethod = \"meson\"\n")
	w.write("bin/meson",
		"#!/bin/sh\n[ $1 = install ] && mkdir -p $DESTDIR$FL_PREFIX && touch $DESTDIR$FL_PREFIX/leaf; :\n")
	w.write("bin/ninja",
		"#!/bin/sh\n[ $1 = --version ] && { echo $VERSION; exit; }\necho \"args: $*, flags: "+
			"$MAKEFLAGS\"\npipe=${MAKEFLAGS#*fifo:}\n[ $pipe = \"$MAKEFLAGS\" ] || head -c 1 $pipe\n")
	require.NoError(t, os.Chmod(w.path("bin/meson"), 0o755))
	require.NoError(t, os.Chmod(w.path("bin/ninja"), 0o755))
	w.edit("bin/ninja", "$VERSION", "1.13.1")
	w.write("fernladder.toml", w.read("fernladder.toml")+"path = [\""+w.path("bin")+"\", \"/usr/bin\", \"/bin\"]\n")
	w.must("build", "fern", "-j", "3")
	assert.Regexp(t, `args: , flags:  -j3 --jobserver-auth=fifo:\S+/slots\n\+`,
		w.must("log", "fern", "--stage", "compile").stdout)
	w.edit("bin/ninja", "1.13.1", "1.11.1")
	w.edit("recipes/fern/recipe.toml", "[build]", "[build.env]\nLEAF = \"1\"\n[build]")
	w.must("build", "fern", "-j", "3")
	assert.Contains(t, w.must("log", "fern", "--stage", "compile").stdout, "args: -j3, flags: \n")
}

// Builds that misbehave fail or are cleaned up after, and the machine is unchanged.
func TestMisbehavingBuilds(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	for name, step := range map[string]string{
		// Stdin is empty.
		"reader": "if read line; then exit 1; fi; cat",
		// And is never shown unescaped.
		"binary": "head -c 100000 /dev/urandom; printf '\\033[2J'",
		// Nothing of it outlives the build.
		"daemon": "(trap '' TERM HUP; setsid sh -c 'sleep 300' &) ; :",
		"wordy":  "yes leaf | head -c 30000000", // 30 MB
		"deaf":   "trap '' TERM; :",             //
		// Its own source.
		"changer": "echo changed >>readings.csv; chmod -w readings.csv; mkdir -p no; touch no/x; chmod 500 no",
	} {
		w.pkg(name, script("compile", step, "place", place(name)), "readings.csv", "1")
	}
	began := time.Now()
	w.must("build", "reader", "binary", "daemon", "wordy", "deaf", "changer")
	assert.Less(t, time.Since(began), time.Minute)
	assert.NotContains(t, w.sh("ps -eo args || true").stdout, "sleep 300")
	w.pkg("crash", script("compile", "printf 'x\\033[2Jy: error: \\007 bad\\n'; exit 1", "place", place("crash")))
	r := w.fails(1, []string{"build", "crash"}, "error:  bad")
	assert.NotContains(t, r.stderr, "\033[2J")
	assert.Empty(t, w.glob("root/work/reader*"))
}

func (w *world) glob(pattern string) []string {
	found, err := filepath.Glob(w.path(pattern))
	require.NoError(w.t, err)
	return found
}

// Makefiles with races are detected, with the line that the recipe needs.
func TestMakefilesThatRace(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	makefile := "all: a b\na:\n\tmkdir lock\n\tsleep 0.3; rmdir lock; touch a\nb:\n\tmkdir lock\n\tsleep 0.3; rmdir " +
		"lock; touch b\ninstall:\n\tmkdir -p $(DESTDIR)$(PREFIX); cp a $(DESTDIR)$(PREFIX)\n"
	w.pkg("fern", "[build]\nmethod = \"make\"\n", "Makefile", makefile)
	const says = "it failed with several jobs and succeeded with one, so its makefiles race; add parallel = false to " +
		"[build] in recipes/fern/recipe.toml"
	assert.Contains(t, w.must("build", "fern", "-j", "2").stderr, says)
	assert.Contains(t, w.must("show", "fern").stdout, says)
	const locks = "mkdir lock || { echo moss.c:1: error: raced; exit 1; }; sleep 0.3; rmdir lock"
	w.pkg("moss", "[build]\nmethod = \"make\"\n", "Makefile",
		"all: a b\na:\n\t"+locks+"\nb:\n\t"+locks+"; echo moss.c:2: error: dry; exit 1\n")
	alone := w.fails(1, []string{"build", "moss", "-j", "2"}, "Cause: the compiler rejects the code: dry (moss.c:2)")
	assert.NotContains(t, alone.stderr, "Waiting for unfinished jobs", "what failed with one job counts")
	assert.Contains(t, w.must("log", "moss").stdout, "trying again with one")
}

// Tries run commands, which can be expected to fail, and programs compiled against the package.
func TestKindsOfTries(t *testing.T) {
	t.Parallel()
	w, _ := newGarden(t)
	w.must("install", "dewcalc")
	assert.Contains(t, w.must("try", "dewcalc").stdout, "$ a program compiled against the package")
	library := asking("cc") + script("place",
		"mkdir -p $DESTDIR$FL_PREFIX/lib/pkgconfig; cd $DESTDIR$FL_PREFIX/lib; echo 'int leaf(void) { return 7; }' "+
			">leaf.c; cc -shared -fPIC -o libleaf.so leaf.c; "+
			`printf 'Name: leaf\nDescription: leaf\nVersion: 1\nLibs: -L%s/lib -lleaf\n' $FL_PREFIX >pkgconfig/leaf.pc`)
	try := "[[try]]\nprogram = '''\nint leaf(void);\nint main(void) { return leaf(); }\n'''\n"
	w.pkg("fern", library+try+"modules = [\"leaf\"]\nstatus = 7\n")
	w.must("install", "fern")
	w.pkg("moss", library+try+"flags = [\"-lleaf\"]\n")
	w.fails(1, []string{"install", "moss"},
		"moss 1.0 failed in stage try: a program compiled against the package: it ended with status 7")
	w.pkg("sage", library+"[[try]]\nrun = \"true\"\nstatus = 3\n")
	w.fails(1, []string{"install", "sage"}, "true: it ended with status 0, and should have ended with status 3")
	w.pkg("reed", library+"[[try]]\nexpect = \"x\"\n")
	w.fails(3, []string{"install", "reed"}, "a try runs a command or a program")
}

// Whatever a build may not access is named: addresses, files elsewhere, homes.
func TestWhatARoomKeepsFromABuildIsTold(t *testing.T) {
	t.Parallel()
	needs(t, "sealed")
	w := newWorld(t)
	for step, says := range map[string]string{
		"echo x >/usr/leaf": "The build wanted to change /usr/leaf, which is read-only for builds.",
		"cat /root/leaf":    "The build wanted the file /root/leaf; builds see no home directories.",
		"git clone https://vale-glasshouse.example/x.git": "The build wanted the address vale-glasshouse.example; builds " +
			"have no network.",
	} {
		w.pkg("fern", asking("git")+script("compile", step+" || { exit 1; }", "place", place("fern")))
		w.fails(1, []string{"build", "fern"}, says)
	}
}

// A changed recipe continues with the stages that are still valid, and a build that prints
// endlessly is killed.
func TestStagesThatAreStillGood(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.pkg("moss", "[build]\nmethod = \"configure\"\n[option.tall]\nabout = \"Grow\"\ndefault = false\non = [\"--tall\"]\n",
		"configure", "#!/bin/sh\nexit 1\n")
	w.fails(1, []string{"build", "moss", "-o", "tall=on"})
	w.fails(1, []string{"build", "moss"})
	assert.Len(t, w.glob("root/work/moss-1.0-*"), 2, "builds with other options stay")
	w.must("clean", "--yes")
	w.fails(1, []string{"build", "moss"})
	before := w.sh("stat -c %i root/work/moss-1.0-*/box/source/configure").stdout
	w.edit("recipes/moss/recipe.toml", "[build]", "[build.env]\nLEAF = \"2\"\n[build]")
	w.fails(1, []string{"build", "moss"})
	assert.Len(t, w.glob("root/work/moss-1.0-*"), 1, "the new build has taken the old one's source")
	assert.Equal(t, before, w.sh("stat -c %i root/work/moss-1.0-*/box/source/configure").stdout)

	// The check stage is not part of the build id; a changed one runs again.
	w.pkg("sage", script("compile", ":", "check", "echo first", "place", "test -f ../../../../go; "+place("sage")))
	w.isolation = "open"
	w.fails(1, []string{"build", "sage"})
	w.edit("recipes/sage/recipe.toml", "echo first", "echo second")
	w.write("root/go", "")
	w.must("build", "sage")
	assert.Contains(t, w.must("log", "sage", "--stage", "check").stdout, "\nsecond\n")

	w.write("fernladder.toml", w.read("fernladder.toml")+"largest_log = 1\n")
	w.pkg("reed", script("compile", "yes", "place", place("reed")))
	w.fails(1, []string{"build", "reed"}, "was ended: it printed more than the settings allow (largest_log)")
}

// A failure is explained: its cause, and the lines that the recipe needs.
func TestFailuresAreExplained(t *testing.T) {
	t.Parallel()
	w, _ := newGarden(t)
	w.pkg("fern", "[build]\nmethod = \"make\"\n", "Makefile", "all: fern.o\n", "fern.c", "#include <dewcalc.h>\n")
	r := w.fails(1, []string{"build", "fern"}, "Cause: the header dewcalc.h is missing (fern.c:1).",
		"The recipe dewcalc has this name; if it is the right one, add to recipes/fern/recipe.toml:",
		"    recipe = \"dewcalc\"\n      role   = \"library\"", "    header = \"dewcalc.h\"",
		"fernladder host --refresh finds out which package has it")
	assert.Contains(t, r.stderr, "#include <dewcalc.h>")
	w.pkg("reed", "[build]\nmethod = \"make\"\n", "Makefile", "all: reed.o\n", "reed.c", "#include <reed.h>\n",
		"reed.h", "\n")
	w.fails(1, []string{"build", "reed"},
		"Cause: the compiler cannot find the header reed.h, although the source has it (reed.c:1).", "in_tree = true")
	w.pkg("moss", "[build]\nmethod = \"configure\"\n", "configure",
		"#!/bin/sh\necho 'checking for sporegen... no'\necho 'configure: error: sporegen is needed'\nexit 1\n")
	w.fails(1, []string{"build", "moss"}, "Cause: the program sporegen is missing.",
		"recipe = \"sporegen\"\n      role   = \"tool\"")
	assert.Contains(t, w.must("log", "moss", "--errors").stdout, "Cause: the program sporegen is missing.")
	var failed struct {
		Cause  struct{ Kind string }
		Advice []string
	}
	require.NoError(t, json.Unmarshal([]byte(lastLine(w.run("build", "moss", "--json").stderr)), &failed))
	assert.Equal(t, "missing_program", failed.Cause.Kind)
	assert.NotEmpty(t, failed.Advice)
	w.pkg("sage", "[build]\nmethod = \"make\"\n", "Makefile", "all:\n\t@echo the soil is odd; exit 1\n")
	r = w.fails(1, []string{"build", "sage"}, "the soil is odd")
	assert.NotContains(t, r.stderr, "Cause:", "nothing is made up")
}

func lastLine(text string) string {
	lines := strings.Split(strings.TrimSpace(text), "\n")
	return lines[len(lines)-1]
}

// A probe adds the recipes that a build lacks, one after another, and records what it did; it
// leaves to a person what it cannot answer.
func TestProbesAnswerFailures(t *testing.T) {
	t.Parallel()
	needs(t, "sealed")
	w, _ := newGarden(t)
	configure := "#!/bin/sh\n# Generated by GNU Autoconf 2.71.\n"
	for _, program := range []string{"sporegen", "dewcalc"} {
		configure += "if command -v " + program + "; then :; else echo 'checking for " + program +
			"... no'; echo 'configure: error: " + program + " was not found'; exit 1; fi\n"
	}
	w.pkg("fern", "", "configure",
		configure+
			"printf 'all:\\ninstall:\\n\\tmkdir -p $(DESTDIR)'\"${1#*=}\"'/bin; touch $(DESTDIR)'\"${1#*=}\"'/bin/fern\\n' "+
			">Makefile\n")
	require.NoError(t, os.RemoveAll(w.path("recipes/fern")))
	r := w.must("draft", "archives/fern.tar.gz", "--release", "1.0", "--probe")
	assert.Contains(t, r.stdout, "It builds: ")
	text := w.read("recipes/fern/recipe.toml")
	for _, name := range []string{"sporegen", "dewcalc"} {
		assert.Regexp(t, "# Added by a probe on .*, because in stage configure the program "+name+
			" is missing\\.\n\\[\\[need\\]\\]\nrecipe = \""+name+"\"\nrole   = \"tool\"", text)
	}
	w.pkg("moss", "", "configure", strings.ReplaceAll(configure, "dewcalc", "no-such-program")+"exit 0\n")
	require.NoError(t, os.RemoveAll(w.path("recipes/moss")))
	r = w.run("draft", "archives/moss.tar.gz", "--release", "1.0", "--probe")
	assert.Contains(t, r.stderr,
		"Have it installed (fernladder host moss --install), or change it, then: fernladder build moss")
	assert.NotContains(t, r.stderr, "own directory", "it would lack it there, too")
	assert.Contains(t, w.read("recipes/moss/recipe.toml"), "[[host]]\nprogram = \"no-such-program\"")

	// If the source names an argument for doing without something, the probe uses it.
	w.pkg("reed", "", "configure",
		"#!/bin/sh\n# Generated by GNU Autoconf 2.71.\nif test \"$1\" = --help; then echo '  --enable-soil  use soil'; "+
			"fi\ncase \"$*\" in *--disable-soil*) ;; *) echo 'configure: error: libsoil not found; --disable-soil does "+
			"without'; exit 1;; esac\ncase \"$*\" in *--without-sand*) ;; *) echo 'configure: error: libsand not found'; "+
			"echo 'or build with --without-sand'; exit 1;; esac\n"+
			"printf 'all:\\ninstall:\\n\\tmkdir -p $(DESTDIR)'\"${1#*=}\"'/bin; touch $(DESTDIR)'\"${1#*=}\"'/bin/reed\\n' "+
			">Makefile\n", "configure.ac", "AC_ARG_ENABLE([soil], [AS_HELP_STRING([--disable-soil], [use no soil])])\n")
	require.NoError(t, os.RemoveAll(w.path("recipes/reed")))
	r = w.must("draft", "archives/reed.tar.gz", "--release", "1.0", "--probe")
	text = w.read("recipes/reed/recipe.toml")
	assert.Regexp(t,
		`because in stage configure it seems that libsoil is missing\.\n# The (option soil is off`+
			`|argument --disable-soil is added)\.\n# Or, with it:\n# \[\[host\]\]`, text)
	assert.Contains(t, text, "# The argument --without-sand is added.")
	w.must("check", "reed")
}

// Programs that the operating system also has are reported, with the one that wins.
func TestClashesWithTheOperatingSystem(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.pkg("fern", script("place", place("make"))+"[offers]\nprograms = [\"make\"]\nlibraries = [\"leaf\"]\n")
	assert.Contains(t, w.must("host", "fern").stdout,
		"fern: the operating system has the program make, too. On the landing, ours have that name only if before_system "+
			"in the settings or the recipe says so.")
	assert.Contains(t, w.must("install", "fern").stdout,
		"fern 1.0: bin/make is not linked under that name, because the operating system has /usr/bin/make.")
}

// The log of any build is explained, with the package that has the missing file.
func TestExplain(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	require.NoError(t, os.Mkdir(w.path("bin"), 0o755))
	require.NoError(t,
		os.WriteFile(w.path("bin/dnf"),
			[]byte("#!/bin/sh\nprintf 'package "+
				"leaf-devel\\n/usr/include/leaf-2/leaf.h\\n/usr/lib64/cmake/Leaf/LeafConfig.cmake\\n/usr/lib64/pkgconfig/leaf.pc\\npackage sporegen\\n/usr/bin/sporegen\\n'\n"), 0o755))
	w.write("fernladder.toml", fmt.Sprintf("root = \"root\"\nshelves = [\"recipes\"]\npath = [%q]\n", w.path("bin")))
	w.pkg("moss", "[offers]\nmodules = [\"moss\"]\n"+script("place", place("moss")))
	w.write("cc.log", strings.Repeat("CC soil.o\n\n", 300000)+
		"leaf.c:3:10: fatal error: leaf.h: No such file or directory\nmake: *** [leaf.o] Error 1\n")
	w.write("cmake.log",
		"CMake Error at CMakeLists.txt:8 (find_package):\n  By not providing \"FindLeaf.cmake\" in CMAKE_MODULE_PATH this "+
			"project has\n")
	w.write("program.log", "sh: 1: sporegen: not found\n")
	w.write("moss.log",
		"configure: error: Package requirements (moss >= 2) were not met:\n\nNo package 'moss' found\n\nor configure with "+
			"--without-moss\n")
	w.write("unclear.log", "a\nmake: *** [leaf] Error 1\n")
	w.write("fine.log", "cc -c leaf.c\nleaf is built\n")
	w.write("points.log", "configure: error: C compiler cannot create executables\nSee `config.log' for more details\n")
	w.write("config.log",
		"configure:9: checking for it\n/usr/bin/ld: cannot find -lleaf\nconfigure:9: error: C compiler cannot create "+
			"executables\n")
	assert.Contains(t, w.must("explain", "cc.log").stdout, "fernladder host --refresh finds out which package has it.")
	w.must("host", "--refresh")
	r := w.must("explain", "cc.log", "cmake.log", "program.log", "moss.log", "points.log")
	for _, says := range []string{
		"cc.log:600001: the header leaf.h is missing (leaf.c:3)\n    │ CC soil.o",
		"header = \"leaf-2/leaf.h\"\n      packages = { debian = \"leaf-devel\" }", "and then: apt-get install leaf-devel",
		"cmake.log:2: CMake cannot find the package Leaf",
		"leaf-devel of this operating system has the pkg-config module leaf",
		"program = \"sporegen\"",
		"The recipe moss has it; a recipe requests it by:\n      [[need]]\n      recipe  = \"moss\"\n      version = \">= " +
			"2\"", "Or without it, as it says itself: in [build] of a recipe\n      args = [\"--without-moss\"]",
		"/config.log:2: the library leaf is missing",
	} {
		assert.Contains(t, r.stdout, says)
	}
	r = w.sh("printf 'make: *** No rule to make target `grow'\\''.  Stop.\\n' | fernladder explain; fernladder explain " +
		"--json unclear.log moss.log || echo $?")
	assert.Contains(t, r.stdout, "input:1: the makefile has no target grow")
	assert.Regexp(t, `"kind": "own_words"[\s\S]*"says": "the pkg-config module moss >= 2 is missing"[\s\S]*\n1\n$`,
		r.stdout)
	assert.Equal(t, "fine.log: it did not fail\n    │ cc -c leaf.c\n    │ leaf is built\n",
		w.must("explain", "fine.log").stdout)
	w.fails(2, []string{"explain", "nowhere.log"}, "nowhere.log cannot be read")
}

// Undeclared use of the machine is reported, shown as lines of the recipe, and written into it.
func TestWhatABuildUses(t *testing.T) {
	t.Parallel()
	needs(t, "sealed")
	w := newWorld(t)
	require.NoError(t, os.Mkdir(w.path("bin"), 0o755))
	require.NoError(t, os.WriteFile(w.path("bin/dpkg-query"), []byte(`#!/bin/sh
case $1 in
-W) printf '%s\t\t\t\tamd64\tinstalled\n' libc-dev moss-dev spore ;;
-L) printf '/usr/include/stdio.h\n/usr/include/features.h\n/usr/include/stdc-predef.h\n' ;;
-S) shift; for f; do case $f in
	/usr/include/arpa/*) echo "moss-dev:amd64: $f" ;;
	/usr/bin/getconf) echo "spore: $f" ;;
	/usr/*|/lib/*|/bin/*) echo "libc-dev: $f" ;;
	esac; done ;;
esac
`), 0o755))
	w.write("fernladder.toml",
		fmt.Sprintf("root = \"root\"\nshelves = [\"recipes\"]\nbare = false\nbare_why = \"its packages are made "+
			"up\"\npath = [%q, \"/usr/bin\", \"/bin\"]\n", w.path("bin")))
	w.pkg("fern", "[build]\nmethod = \"make\"\n", "Makefile",
		"fern: fern.c\n\tgetconf PATH >limits\n\t$(CC) -o fern fern.c\ninstall: fern\n\tmkdir -p $(DESTDIR)$(PREFIX)/bin; "+
			"cp fern $(DESTDIR)$(PREFIX)/bin\n",
		"fern.c", "#include <stdio.h>\n#include <arpa/tftp.h>\nint main(void) { return 0; }\n")
	w.fails(1, []string{"host", "fern", "--used"}, "fern is not built")
	r := w.must("build", "fern")
	assert.Contains(t, r.stderr,
		"it uses parts of this machine that its recipe does not declare: header arpa/tftp.h; fernladder host fern --used "+
			"shows the lines to add")
	r = w.must("host", "fern", "--used")
	assert.Contains(t, r.stdout,
		"[[host]]   # included: /usr/include/arpa/tftp.h\n    header = \"arpa/tftp.h\"\n    packages = { debian = "+
			"\"moss-dev\" }")
	assert.NotContains(t, r.stdout, "getconf", "nothing has noted that")

	r = w.must("build", "--watch", "fern")
	assert.Contains(t, r.stdout,
		"[[host]]   # ran: /usr/bin/getconf\n    program = \"getconf\"\n    packages = { debian = \"spore\" }")
	record := regexp.MustCompile("Every file: (.*)").FindStringSubmatch(r.stdout)
	require.NotNil(t, record, r.stdout)
	assert.Contains(t, w.read("root"+strings.TrimPrefix(record[1], w.root)), "ran /usr/bin/getconf\n")
	var all []struct {
		Watched bool
		Uses    []struct{ Kind, Name, Package, How string }
	}
	w.parsed(&all, "host", "fern", "--used")
	require.Len(t, all, 1)
	assert.True(t, all[0].Watched)
	assert.Len(t, all[0].Uses, 2)

	w.must("host", "fern", "--used", "--write")
	w.must("check", "fern")
	text := w.read("recipes/fern/recipe.toml")
	assert.Contains(t, w.must("host", "fern", "--used", "--write").stdout,
		"uses only what its recipe declares of this machine", "by now")
	assert.Equal(t, text, w.read("recipes/fern/recipe.toml"))
	r = w.must("build", "--watch", "fern")
	assert.Contains(t, r.stdout, "uses only what its recipe declares of this machine")
	assert.NotContains(t, r.stderr, "does not name")
	w.isolation = "open"
	w.fails(6, []string{"build", "--watch", "fern"}, "only sealed builds can be watched")
	w.fails(6, []string{"build", "--watch", "fern", "--root", "new"}, "only sealed builds can be watched")
	w.fails(2, []string{"host", "--used"}, "the name of a package that was built is missing")
	w.fails(2, []string{"host", "fern", "--write"}, "give both")
}

// Every kind of cause has advice.
func TestAdvice(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	for log, says := range map[string]string{
		"make: *** No rule to make target 'leaf.c', needed by 'leaf.o'.  Stop.":                      "The archive is incomplete",
		"  Compatibility with CMake < 3.5 has been removed from CMake.":                              `args = ["-DCMAKE_POLICY_VERSION_MINIMUM=3.5"]`,
		"SyntaxError: Missing parentheses in call to 'print'.":                                       "a Python 2 as a tool",
		"cc: error: unrecognized command-line option '-fleaves'":                                     "Remove it from args or the options in its recipe",
		"make: *** No rule to make target 'grow'.  Stop.":                                            "Replace the step that runs this target in its recipe",
		"cc1: out of memory allocating 8 bytes":                                                      "-j 1",
		"mkdir: cannot create directory 'leaf': File exists\nmake: *** [Makefile:1: leaf] Error 1":   "parallel = false",
		"curl: (6) Could not resolve host: vale.example":                                             "Builds have no network",
		"leaf.c:1:2: error: implicit declaration of function 'grow'":                                 `patches = ["patches/….patch"]`,
		"g++: error: unrecognized command-line option '-std=c++26'":                                  "a newer compiler as a need",
		"leaf.c:1:2: error: unused variable [-Werror=unused]":                                        `CFLAGS = "-O2 -Wno-error"`,
		"ld: leaf.o: relocation R_X86_64_32 against `.rodata' can not be used; recompile with -fPIC": `CFLAGS = "-O2 -fPIC"`,
		"leaf.c:(.text+0x5): undefined reference to `png_create_read_struct'":                        `LIBS = "-lpng"`,
		"Requested 'moss >= 2' but version of Moss is 1.4":                                           `a [[need]] on it with version = ">= 2"`,
		"Can't locate Leaf/Parser.pm in @INC (you may need to install the Leaf::Parser module)":      `perl = "Leaf::Parser"`,
		"configure.ac:9: error: possibly undefined macro: AX_CHECK_LEAF":                             `file = "/usr/share/aclocal/ax_check_leaf.m4"`,
		"./grow: error while loading shared libraries: libmoss.so.2: cannot open shared object file": `library = "moss"`,
		"/bin/sh: 1: sporegen: not found":                                                            `program = "sporegen"`,
		"configure: error: libmoss not found; --disable-moss does without":                           `args = ["--disable-moss"]`,
	} {
		w.write("a.log", log+"\n")
		assert.Contains(t, w.must("explain", "a.log").stdout, says, log)
	}
}

// Modules of languages and files can be needs, too; impossible names are refused.
func TestNeedsOnLanguages(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.pkg("fern",
		"[[host]]\npython = \"json\"\n[[host]]\npython = \"leaves\"\npackages = { debian = \"python3-leaves\" "+
			"}\n[[host]]\nperl = \"List::Util\"\nversion = \">= 1\"\n"+
			"[[host]]\nfile = \"/usr/share/leaves/none\"\n"+script("place", place("fern")))
	w.pkg("leaves", "[offers]\nprograms = [\"sporegen\"]\n"+script("place", place("leaves")))
	w.pkg("moss", "[[host]]\nprogram = \"sporegen\"\n"+script("place", place("moss")))
	w.fails(6, []string{"build", "moss"}, "program sporegen, needed by moss",
		"The recipe leaves also has the program sporegen: a [[need]] on it can replace this.")
	r := w.fails(6, []string{"host", "fern"}, "python leaves, needed by fern",
		"file /usr/share/leaves/none, needed by fern", "apt-get install python3-leaves")
	assert.Regexp(t, `python +json +there`, r.stdout)
	assert.Regexp(t, `perl +List::Util +there +[0-9.]+ +>= 1`, r.stdout)
	w.fails(6, []string{"build", "fern"}, "python leaves, needed by fern")
	for wrong, says := range map[string]string{
		"python = \"a b\"":                        `"a b" cannot be the name of such a module`,
		"perl = \"Leaf/Parser\"":                  `"Leaf/Parser" cannot be the name of such a module`,
		"file = \"share/leaves\"":                 `"share/leaves" is not an absolute path`,
		"file = \"/usr/leaf\"\nversion = \"1\"":   "headers, libraries and files have no version",
		"python = \"leaves\"\nperl = \"Leaf\"":    "[[host]] names one thing",
		"packages = { debian = \"libleaf-dev\" }": "write one of program, header, library, module, python, perl and file",
	} {
		w.pkg("reed", "[[host]]\n"+wrong+"\n"+script("place", place("reed")))
		w.fails(3, []string{"plan", "reed"}, says)
	}
}

// A copy of the program that serves a room has ended before most of the program's packages are
// initialized, which takes longer than making the room.
func TestACopyStartsEarly(t *testing.T) {
	run := exec.Command(program)
	run.Args, run.Env = []string{"fernladder: watched"}, []string{"GODEBUG=inittrace=1"}
	out, err := run.CombinedOutput()
	require.Error(t, err)
	assert.Contains(t, string(out), "a watched command without its arguments")
	assert.Contains(t, string(out), "init os ")
	assert.NotRegexp(t, `init fernladder/core/(draft|recipe|session) `, string(out))
}
