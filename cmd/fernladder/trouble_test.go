package main_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestWrongDigestOnEveryMirror(t *testing.T) {
	long(t)
	t.Parallel()
	w, site := newGarden(t)
	const recipe = "recipes/dewcalc/recipe.toml"
	w.edit(recipe, site.URL+"/dl/dewcalc-$FL_VERSION.tar.gz\"", site.URL+"/tampered/dewcalc-$FL_VERSION.tar.gz\", \""+
		site.URL+"/cut/dewcalc-$FL_VERSION.tar.gz\"")
	w.fails(5, []string{"install", "mistplan"}, "dewcalc 1.4.2 cannot be fetched",
		"/tampered/dewcalc-1.4.2.tar.gz: wrong sha256", "cut off after ",
		"not built", "recipes/dewcalc/recipe.toml:16")
	assert.Equal(t, []string{"frondplot/1.2.0", "loamdb/0.9.1", "sporegen/2.0"}, w.trees(), "the rest goes on")
	assert.NoFileExists(t, w.root+"/landing")
	w.edit(recipe, "/cut/", "/dl/")
	w.must("install", "mistplan")
}

func TestARecipeWithTenMistakes(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.write("recipes/fern/recipe.toml", `format = 1
[package]
name = "Fern"
sumary = "x"
[[release]]
version = "v1"
archive = "fern.tar"
sha256 = "12"
[option.tall]
default = "very"
[[need]]
recipe = "soil"
role = "libary"
[build]
method = "configure"
args = ["--with-soil=$FL_TREE_SAND"]
parallel = "no"
`)
	r := w.fails(3, []string{"install", "fern"}, "recipes/fern/recipe.toml:13:9: role cannot be \"libary\"",
		"did you mean \"library\"?", "10 mistakes; nothing was done")
	assert.Equal(t, 10, strings.Count(r.stderr, "recipes/fern/recipe.toml:"))
	assert.NoDirExists(t, w.root)
	c := w.run("check", "--json")
	assert.Equal(t, 3, c.status)
	assert.Equal(t, 10, strings.Count(c.stdout, `"message"`))
}

func TestLaddersThatCannotBe(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.pkg("fern", "[[need]]\nrecipe = \"soil\"\nrole = \"tool\"\n"+script("place", place("fern")))
	w.fails(4, []string{"install", "fern"}, `No shelf has a recipe "soil"`,
		"fern 1.0 needs soil as a tool (recipes/fern/recipe.toml:9)")
	assert.Contains(t, w.run("check").stdout, `recipes/fern/recipe.toml:9:3: no shelf has a recipe "soil"`)
	w.pkg("soil", "[[need]]\nrecipe = \"fern\"\nrole = \"library\"\n"+script("place", place("soil")))
	w.fails(4, []string{"install", "fern"}, "need each other in a circle",
		"fern 1.0 needs soil as a tool (recipes/fern/recipe.toml:9)", "soil 1.0 needs fern (recipes/soil/recipe.toml:9)")
	w.fails(4, []string{"plan", "frn"}, `Did you mean "fern"?`)
	w.fails(2, []string{"plan", "Fern"}, "cannot be a package's name")
	w.fails(2, []string{"plan", "fern", "-o", "tall"}, "write OPTION=VALUE")
	w.fails(2, []string{"plan"}, "name a package, for example mistplan, or list what is wanted in fernladder.toml")
	w.fails(2, []string{"plant"}, `there is no command "plant"; did you mean plan?`)
	w.fails(2, []string{"plan", "--tall"}, "unknown flag: --tall")
	w.write("fernladder.toml", "shelfs = [\"recipes\"]\njobs = -1\n")
	w.fails(3, []string{"list"}, `fernladder.toml:1:1: "shelfs" is not a key`, `did you mean "shelves"?`,
		`"jobs" is from 0`)
}

func TestNoCompiler(t *testing.T) {
	t.Parallel()
	w, site := newGarden(t)
	require.NoError(t, os.Mkdir(w.path("bin"), 0o755))
	for _, program := range []string{"sh", "make"} {
		file, err := exec.LookPath(program)
		require.NoError(t, err)
		require.NoError(t, os.Symlink(file, w.path("bin/"+program)))
	}
	w.write("fernladder.toml", fmt.Sprintf("root = \"root\"\nshelves = [\"recipes\"]\npath = [%q]\n", w.path("bin")))
	w.fails(6, []string{"install", "loamdb", "dewcalc"}, "This machine lacks what the builds need",
		"cc, needed by dewcalc, loamdb", "cmake, needed by loamdb")
	assert.Empty(t, site.Asked(), "nothing is fetched in vain")
}

func TestARootThatCannotBeWritten(t *testing.T) {
	t.Parallel()
	w, site := newGarden(t)
	w.write("file", "")
	w.fails(7, []string{"install", "dewcalc", "--root", "file/root"}, "file/root", "not a directory")
	w.fails(7, []string{"install", "dewcalc", "--root", "/proc/1/fernladder"}, "/proc/1/fernladder")
	assert.Empty(t, site.Asked())
}

// onSmallDisk runs the program with the root on a file system of the given size.
func (w *world) onSmallDisk(size string, args ...string) result {
	require.NoError(w.t, os.MkdirAll(w.root, 0o755))
	text := fmt.Sprintf("mount -t tmpfs -o mode=755,size=%s none %s && exec \"$@\"", size, w.root)
	c := exec.Command("unshare", append([]string{"--mount", "--map-root-user", "sh", "-c", text, "sh", program},
		args...)...)
	if os.Geteuid() == 0 {
		c.Args = slices.DeleteFunc(c.Args, func(arg string) bool { return arg == "--map-root-user" })
	}
	c.Dir, c.Env = w.dir, w.env
	return w.finish(c)
}

func TestAFullDisk(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	if exec.Command("unshare", "--mount", "true").Run() != nil && exec.Command("unshare", "--mount", "--map-root-user",
		"true").Run() != nil {
		t.Skip("no mount namespaces here")
	}
	// 4 MiB, far less compressed.
	w.pkg("big", script("place", place("big")), "data", strings.Repeat("0123456789abcdef", 1<<18))
	r := w.onSmallDisk("2m", "install", "big")
	assert.Equal(t, 7, r.status, r.stderr)
	assert.Contains(t, r.stderr, "The disk that holds the root is full. Make room there")

	w.pkg("grower", script("compile", "dd if=/dev/zero of=grown bs=1M count=30", "place", place("grower")))
	r = w.onSmallDisk("8m", "install", "grower")
	assert.Equal(t, 7, r.status, r.stderr)
	assert.Contains(t, r.stderr, "grower 1.0 failed in stage compile")
	assert.Contains(t, r.stderr, "the disk that holds "+w.root+" is full")
	w.must("install", "big")
}

// slowly is a build that blocks in its compile stage until a file appears, with processes in the
// background, one of them in its own session. Its tree records how often it was configured.
func slowly(w *world, name string) {
	w.pkg(name, script(
		"configure", "echo once >>../configured",
		"compile", "sleep 987 & setsid sleep 987 & touch started; while ! test -f ../../given/go; do sleep 0.05; done",
		"place", place(name)+"; cp ../configured $DESTDIR$FL_PREFIX/$FL_NAME.configured"))
}

// slow waits until a slow build blocks.
func (w *world) slow(name string) { w.waitFor("root/work/" + name + "-*/box/source/started") }

// goOn lets slow builds continue.
func (w *world) goOn(names ...string) {
	for _, name := range names {
		for _, given := range w.glob("root/work/" + name + "-*/given") {
			w.write(strings.TrimPrefix(given, w.dir+"/")+"/go", "")
		}
	}
}

// configured is how often a tree's build was configured.
func (w *world) configured(name string) string {
	files, err := filepath.Glob(w.root + "/trees/" + name + "/*/*.configured")
	require.NoError(w.t, err)
	require.Len(w.t, files, 1)
	data, err := os.ReadFile(files[0])
	require.NoError(w.t, err)
	return string(data)
}

// orphans are the processes left by builds below the root.
func (w *world) orphans() (left []string) {
	files, _ := filepath.Glob("/proc/[0-9]*/environ")
	for _, file := range files {
		if data, err := os.ReadFile(file); err == nil && strings.Contains(string(data), "FL_STAGE="+w.root) {
			command, _ := os.ReadFile(filepath.Join(filepath.Dir(file), "cmdline"))
			left = append(left, strings.ReplaceAll(string(command), "\x00", " "))
		}
	}
	return left
}

func (w *world) waitFor(pattern string) {
	require.Eventually(w.t, func() bool {
		files, _ := filepath.Glob(w.path(pattern))
		return len(files) > 0
	}, 20*time.Second, 10*time.Millisecond, pattern)
}

// Whatever ends a build in the middle of a compile, nothing is half done, no process keeps
// running, and the next run continues from there.
func TestInterruptedInTheMiddleOfACompile(t *testing.T) {
	long(t)
	t.Parallel()
	for _, c := range []struct {
		how       syscall.Signal
		isolation string
	}{{syscall.SIGINT, "sealed"}, {syscall.SIGTERM, "fenced"}, {syscall.SIGTERM, "open"}, {syscall.SIGKILL, "sealed"},
		{syscall.SIGKILL, "open"}} {
		t.Run(c.how.String()+" "+c.isolation, func(t *testing.T) {
			needs(t, c.isolation)
			how, w := c.how, newWorld(t)
			w.isolation = c.isolation
			slowly(w, "fern")
			slowly(w, "moss")
			c := w.command("install", "fern", "moss", "-j", "2")
			var stderr strings.Builder
			c.Stderr = &stderr
			require.NoError(t, c.Start())
			w.slow("fern")
			w.slow("moss")
			require.NoError(t, c.Process.Signal(how))
			c.Wait()
			if how != syscall.SIGKILL {
				assert.Equal(t, 130, c.ProcessState.ExitCode())
				assert.Contains(t, stderr.String(),
					"interrupted\n  All started processes have ended. The same command continues from here.")
				assert.Empty(t, w.orphans())
			}
			assert.Eventually(t, func() bool {
				return len(w.orphans()) == 0
			}, 10*time.Second, 10*time.Millisecond, "compilers end with the program, however it ends")
			assert.Contains(t, w.must("list").stdout, "Nothing is built")
			assert.NoFileExists(t, w.root+"/landing")

			w.goOn("fern", "moss")
			w.must("install", "fern", "moss")
			if how == syscall.SIGKILL {
				assert.Equal(t, "once\nonce\n", w.configured("fern"), "what may be half-written is made anew")
			} else {
				assert.Equal(t, "once\n", w.configured("fern"), "what was done is not done again")
			}
			assert.Empty(t, w.orphans(), "nor does anything of the first run go on")
			assert.Empty(t, append(w.glob("root/work/*-*"), w.glob("root/work/scratch/*")...))
		})
	}
}

// Between being placed and being tried, a tree is in its final path without counting as a tree.
// A run killed there loses nothing.
func TestKilledDuringATry(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.isolation = "open" // the try sees a file outside
	w.pkg("fern", script("place", "echo once >>"+w.path("placed")+"; "+place("fern"))+
		"[[try]]\nrun = \"test -f "+w.path("trying")+" || touch "+w.path("trying")+"; while ! test -f "+w.path("go")+
		"; do sleep 0.05; done; fern\"\nexpect = \"fern\"\n")
	c := w.command("install", "fern")
	require.NoError(t, c.Start())
	w.waitFor("trying")
	require.NoError(t, c.Process.Kill())
	c.Wait()
	assert.Equal(t, []string{"fern/1.0"}, w.trees())
	assert.Equal(t, "Nothing is built in "+w.root+".\n", w.must("list").stdout, "it is no tree")
	w.write("go", "")
	w.must("install", "fern")
	assert.Equal(t, "once\n", w.read("placed"))
	assert.Contains(t, w.must("files", "fern").stdout, "/bin/fern\n")
	assert.Equal(t, "fern\n", w.sh(w.root+"/landing/bin/fern").stdout)
}

// Patches cannot be applied twice: after a failed patch, the next run begins with a fresh
// source.
func TestAPatchThatFailsIsAppliedToAFreshSource(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.pkg("fern", script("place", place("fern")+"; cp text $DESTDIR$FL_PREFIX"), "text", "one\n")
	w.edit("recipes/fern/recipe.toml", "version = \"1.0\"", "version = \"1.0\"\npatches = [\"a.patch\", \"b.patch\"]")
	w.write("recipes/fern/a.patch", "--- a/text\n+++ b/text\n@@ -1 +1 @@\n-one\n+two\n")
	w.write("recipes/fern/b.patch", "--- a/text\n+++ b/text\n@@ -1 +1 @@\n-three\n+four\n")
	for range 2 {
		r := w.fails(1, []string{"install", "fern"}, "failed in stage patch: patch ended with status 1")
		assert.NotContains(t, r.stderr, "a.patch already")
		assert.Contains(t, w.must("log", "fern").stdout, "Hunk #1 FAILED at 1")
		assert.NotContains(t, w.must("log", "fern").stdout, "Reversed")
	}
	w.edit("recipes/fern/b.patch", "-three", "-two")
	w.must("install", "fern")
}

func TestRootsThatCompilersCannotName(t *testing.T) {
	t.Parallel()
	w, _ := newGarden(t)
	w.fails(2, []string{"install", "dewcalc", "--root", "a root"}, "which compilers and shells cannot handle")
	w.fails(2, []string{"install", "dewcalc", "-j", "-1"}, "at least one job has to run")
}

func TestAFailedBuildTakesAlongWhatStandsOnItAndResumes(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.pkg("soil", script("configure", "echo once >>../configured", "compile",
		"echo fine; echo 'soil.c:3:1: error: too dry'; echo more; test -f ../../given/rain", "place", place("soil")+
			"; cp ../configured $DESTDIR$FL_PREFIX/$FL_NAME.configured"))
	need := "[[need]]\nrecipe = \"soil\"\nrole = \"library\"\n"
	w.pkg("fern", need+script("place", place("fern")))
	w.pkg("stone", script("place", place("stone")))
	r := w.fails(1, []string{"install", "fern", "stone"},
		"soil 1.0 failed in stage compile: a step of the recipe ended with status 1",
		"│ soil.c:3:1: error: too dry\n", "compile.log", "Not built, because they depend on what failed: fern.")
	assert.NotContains(t, r.stderr, "stone failed")
	assert.Equal(t, []string{"stone/1.0"}, w.trees(), "other rungs go on")
	assert.NoFileExists(t, w.root+"/landing", "the landing waits for all that was requested")
	assert.Contains(t, w.must("log", "soil").stdout, "too dry")
	require.NoError(t, os.WriteFile(filepath.Join(w.glob("root/work/soil-*/given")[0], "rain"), nil, 0o644))
	w.must("install", "fern", "stone")
	assert.Equal(t, "once\n", w.configured("soil"))
	assert.Contains(t, w.must("show", "soil").stdout, ", failed in stage compile\n", "the history has failures too")
}

func TestTwoAtOnceOnOneRoot(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	slowly(w, "fern")
	var wait sync.WaitGroup
	results := make([]result, 2)
	wait.Go(func() { results[0] = w.run("install", "fern") })
	w.slow("fern")
	wait.Go(func() { results[1] = w.run("install", "fern") })
	time.Sleep(200 * time.Millisecond)
	w.goOn("fern")
	wait.Wait()
	assert.Equal(t, 0, results[0].status, results[0].stderr)
	assert.Equal(t, 0, results[1].status, results[1].stderr)
	assert.Contains(t, results[1].stderr, "waiting for another fernladder to build the same")
	assert.Equal(t, "once\n", w.configured("fern"))
}

func TestFilesOfTwoPackagesInOnePlace(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.pkg("fern", script("place", place("grow")))
	w.pkg("moss", script("place", place("grow")))
	w.must("install", "fern")
	w.fails(4, []string{"install", "moss"}, "fern 1.0 and moss 1.0 both have bin/grow", "The landing did not change")
	assert.FileExists(t, w.root+"/landing/bin/grow")
	w.must("remove", "fern")
	w.must("install", "moss")
}

func TestABuildSeesOnlyWhatItDeclares(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.pkg("declared", script("place", place("declared")))
	w.pkg("hidden", script("place", place("hidden")))
	w.pkg("fern", "[[need]]\nrecipe = \"declared\"\nrole = \"tool\"\n"+script(
		"compile", "env | sort; declared; ! command -v hidden; ! read line; pwd", "place", place("fern")))
	w.must("install", "declared", "hidden", "fern")
	log := w.must("log", "fern", "--stage", "compile").stdout
	for _, gone := range []string{"SECRET", "-broken", "hidden/1.0"} {
		assert.NotContains(t, strings.ReplaceAll(log, "! command -v hidden", ""), gone)
	}
	for _, there := range []string{"TZ=UTC\n", "LC_ALL=C.UTF-8\n", "SOURCE_DATE_EPOCH=315532800\n", "FL_VERSION=1.0\n",
		"FL_TREE_DECLARED=" + w.root, "HOME=" + w.root + "/work/fern-1.0-"} {
		assert.Contains(t, log, there)
	}
}

func TestPlacing(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.pkg("nodestdir", "[build]\nmethod = \"make\"\n[[try]]\nrun = \"nodestdir\"\nexpect = \"^grown$\"\n",
		"Makefile",
		"nodestdir:\n\tprintf '#!/bin/sh\\necho grown\\n' >$@; chmod +x $@\ninstall:\n\tmkdir -p $(PREFIX)/bin; cp "+
			"nodestdir $(PREFIX)/bin\n")
	w.must("install", "nodestdir")
	for _, level := range []string{"sealed", "fenced"} { // a makefile can know DESTDIR in some places only
		w.pkg("both", script("place", place("both")+"; mkdir -p $FL_PREFIX/etc; echo "+level+" >$FL_PREFIX/etc/both"))
		w.must("build", "both", "--isolation", level)
		assert.Len(t, append(w.glob("root/trees/both/*/bin/both"), w.glob("root/trees/both/*/etc/both")...), 2)
		w.must("remove", "both", "--trees", "--yes")
	}
	for name, c := range map[string]struct{ step, says string }{
		"outside": {"mkdir -p $DESTDIR/etc; touch $DESTDIR/etc/fern.conf; " + place("x"),
			"files were placed outside the tree: /etc/fern.conf"},
		"twice": {"mkdir -p $DESTDIR$DESTDIR/x; touch $DESTDIR$DESTDIR/x/lost; " + place("x"),
			"files were placed outside the tree: /"},
		"nothing": {"true", "nothing was placed in $FL_PREFIX"},
		"clash":   {place("x") + "; mkdir -p $FL_PREFIX; echo x >$FL_PREFIX/bin", "and they do not fit together"},
	} {
		w.pkg(name, script("place", c.step))
		w.fails(1, []string{"install", name}, "failed in stage place", c.says)
	}
	w.pkg("trying", script("place", place("trying"))+"[[try]]\nrun = \"trying\"\nexpect = \"growing\"\n")
	w.fails(1, []string{"install", "trying"}, "failed in stage try: trying: no output matches \"growing\"")
	assert.Equal(t, []string{"nodestdir/1.0"}, w.trees())
	w.edit("recipes/trying/recipe.toml", "growing", "trying")
	w.must("install", "trying")
}

func TestAnArchiveThatClimbsOut(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.pkg("fern", script("place", place("fern")), "a", "x")
	archive := w.path("archives/fern.tar.gz")
	out, err := exec.Command("tar", "-C", w.dir, "-czf", archive, "--transform", "s,^go$,../../climbed,", "-P",
		"fernladder.toml", "--transform", "s,fernladder.toml,../../climbed,").CombinedOutput()
	require.NoError(t, err, string(out))
	sum, err := exec.Command("sha256sum", archive).Output()
	require.NoError(t, err)
	text := w.read("recipes/fern/recipe.toml")
	i := strings.Index(text, "sha256 = ")
	w.write("recipes/fern/recipe.toml", text[:i+10]+string(sum[:64])+text[i+10+64:])
	w.fails(1, []string{"install", "fern"}, `entry "../../climbed" would be written outside the directory`)
}
