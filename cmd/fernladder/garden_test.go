package main_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// One command builds a chain of four rungs, and the result works.
func TestInstallTheGarden(t *testing.T) {
	t.Parallel()
	w, site := newGarden(t)
	r := w.must("install", "glasshouse")
	assert.Contains(t, r.stderr, "not from "+site.URL+"/tampered/mistplan-2.1.0.tar.gz: wrong sha256")
	assert.Equal(t, "+ glasshouse 1.0.0\n+ mistplan 2.1.0\nLanding 1 is in use: "+w.root+
		"/landing\nmistplan is configured in "+w.root+"/config/mistplan/etc/mistplan.conf\n", r.stdout)
	assert.Equal(t, []string{"dewcalc/1.4.2", "frondplot/1.2.0", "glasshouse/1.0.0", "loamdb/0.9.1", "mistplan/2.1.0",
		"sporegen/2.0"}, w.trees())

	used := w.sh(`eval "$(fernladder env)"; glasshouse --version; glasshouse day book; mistplan --version; test -f "$MISTPLAN_DATA/readings.csv"; ! command -v sporegen`)
	assert.Equal(t, 0, used.status, used.stderr)
	assert.Contains(t, used.stdout, "glasshouse 1.0.0, with dewcalc 1.4.2\n8 hours planned, 35 minutes of mist")
	assert.Contains(t, used.stdout, "mistplan 2.1.0 (storage: loam, plots: yes, calibration: +0.0)")

	w.write("c.c",
		"#include <dewcalc.h>\n#include <stdio.h>\nint main(void) { printf(\"%.1f\", dewcalc_dew_point(20, 50)); }\n")
	against := w.sh(`eval "$(fernladder env dewcalc)"; cc $CPPFLAGS c.c $LDFLAGS -ldewcalc -o c; env -i ./c; test "$(pkg-config --modversion dewcalc)" = 1.4.2`)
	assert.Equal(t, result{stdout: "9.3"}, against)

	again := w.must("install", "glasshouse")
	assert.Equal(t, result{stdout: "Nothing to do: glasshouse 1.0.0 is already on the landing.\n"}, again)
	site.Close()
	w.must("remove", "glasshouse")
	assert.Contains(t, w.must("install", "glasshouse").stdout, "Landing 3 is in use", "nothing is fetched or built again")
}

func TestAnOptionChangesTheLadder(t *testing.T) {
	t.Parallel()
	w, _ := newGarden(t)
	type plan struct {
		Rungs    int
		Packages []struct {
			Name, Version, State, ID string
			Options                  map[string]string
			Why                      []string
		}
	}
	var with, without plan
	w.parsed(&with, "plan", "mistplan")
	w.parsed(&without, "plan", "mistplan", "-o", "plots=off", "-o", "storage=flat")
	names := func(p plan) (names []string) {
		for _, x := range p.Packages {
			names = append(names, x.Name)
		}
		return names
	}
	assert.Equal(t, []string{"dewcalc", "loamdb", "sporegen", "frondplot", "mistplan"}, names(with))
	assert.Equal(t, []string{"dewcalc", "sporegen", "mistplan"}, names(without))
	assert.Equal(t, []int{3, 2}, []int{with.Rungs, without.Rungs})
	assert.Equal(t, map[string]string{"shared": "on", "tests": "off", "debug": "none"}, with.Packages[1].Options)
	assert.Equal(t, with.Packages[0].ID, without.Packages[0].ID, "what is not concerned keeps its id")
	assert.NotEqual(t, with.Packages[4].ID, without.Packages[2].ID)
	assert.Equal(t, []string{"mistplan 2.1.0 needs >= 1.4, < 2 (recipes/mistplan/recipe.toml:87)"}, with.Packages[0].Why)
	assert.NoDirExists(t, w.root, "a plan changes nothing")
}

func TestTheIdOfABuildIsWhatCanChangeIt(t *testing.T) {
	t.Parallel()
	w, _ := newGarden(t)
	id := func() string {
		var plan struct{ Packages []struct{ Name, ID string } }
		w.parsed(&plan, "plan", "mistplan:1.9.4", "-o", "plots=off")
		return plan.Packages[len(plan.Packages)-1].ID
	}
	first := id()
	const recipe, patch = "recipes/mistplan/recipe.toml", "recipes/mistplan/patches/1.9-thirsty-seedlings.patch"
	for _, same := range [][3]string{{recipe, "Plans misting", "Still plans misting"},
		{recipe, "make check", "make -k check"}, {recipe, "on      = [", "on =  ["}} {
		w.edit(same[0], same[1], same[2])
		assert.Equal(t, first, id(), same[2])
	}
	seen := map[string]bool{first: true}
	for _, other := range [][3]string{
		{patch, "seedling 90", "seedling 95"}, {recipe, "--disable-plots", "--without-plots"},
		{recipe, "method = \"configure\"", "method = \"configure\"\nin_tree = true"},
		{"recipes/dewcalc/recipe.toml", "--disable-static", "--enable-static"}, {recipe, "share/mistplan", "share/mist"},
	} {
		w.edit(other[0], other[1], other[2])
		assert.False(t, seen[id()], other[2])
		seen[id()] = true
	}
}

func TestAnOlderReleaseAndBack(t *testing.T) {
	t.Parallel()
	w, _ := newGarden(t)
	w.must("install", "mistplan", "-o", "plots=off")
	r := w.must("install", "mistplan:<2", "-o", "plots=off")
	assert.Contains(t, r.stdout, "~ mistplan 2.1.0 → 1.9.4\n")
	assert.Contains(t, w.sh(`eval "$(fernladder env)"; mistplan --stage seedling --data "$MISTPLAN_DATA"`).stdout,
		"68 minutes in all", "56 without the patch")
	assert.Contains(t, w.must("show", "mistplan").stdout, "patches/1.9-thirsty-seedlings.patch")
	assert.Contains(t, w.must("show", "mistplan:2.*").stdout, "not on it")
	assert.Contains(t, w.must("log", "mistplan", "--stage", "patch").stdout, "patching file stages.spore")

	assert.Contains(t, w.must("install", "mistplan").stderr,
		"Newer on the shelf: mistplan 2.1.0. To move: fernladder upgrade mistplan",
		"what is installed stays, with its options")
	assert.Contains(t, w.must("upgrade", "mistplan").stdout, "The landing will change:\n  ~ mistplan 1.9.4 → 2.1.0\n")
	w.must("install", "glasshouse", "-o", "mistplan.plots=off")
	w.fails(4, []string{"install", "mistplan:1.9.4", "-o", "plots=off"}, "glasshouse 1.0.0 runs with mistplan 2.1.0",
		"fernladder install glasshouse mistplan:1.9.4")
	w.must("install", "glasshouse", "mistplan:1.9.4", "-o", "plots=off")
	w.fails(4, []string{"install", "mistplan:9"}, "mistplan has no release that is 9",
		"mistplan has 2.1.0, 1.9.4, and as previews 2.2.0-rc1 (recipes/mistplan/recipe.toml)")
}

func TestLookingAtWhatIsThere(t *testing.T) {
	t.Parallel()
	w, _ := newGarden(t)
	assert.Equal(t, "Nothing is built in "+w.root+".\n", w.must("list").stdout)
	w.fails(1, []string{"show", "dewcalc"}, "dewcalc is not built", "fernladder install dewcalc")
	w.must("install", "dewcalc")

	var list struct {
		Builds []struct{ Name, Version, ID, Landing, Tree string }
	}
	w.parsed(&list, "list")
	require.Len(t, list.Builds, 1)
	assert.Equal(t, "asked", list.Builds[0].Landing)
	tree := list.Builds[0].Tree
	var files struct {
		Files []struct{ Path, SHA256, Target string }
	}
	w.parsed(&files, "files", "dewcalc")
	var paths []string
	for _, f := range files.Files {
		paths = append(paths, f.Path)
		assert.NotEqual(t, f.SHA256 == "", f.Target == "", f.Path)
	}
	assert.Equal(t, []string{"bin/dewcalc", "include/dewcalc.h", "lib/libdewcalc.so", "lib/libdewcalc.so.1",
		"lib/pkgconfig/dewcalc.pc"}, paths)
	assert.Contains(t, w.must("files", "dewcalc").stdout, tree+"/bin/dewcalc\n")

	var receipt struct {
		Isolation, Compiler string
		Sources             []struct{ URL string }
		Stages              []struct{ Stage string }
	}
	w.parsed(&receipt, "show", "dewcalc")
	assert.Contains(t, []string{"sealed", "fenced", "open"}, receipt.Isolation)
	assert.Contains(t, receipt.Sources[0].URL, "/dl/dewcalc-1.4.2.tar.gz")
	var stages []string
	for _, s := range receipt.Stages {
		stages = append(stages, s.Stage)
	}
	assert.Equal(t, "unpack configure compile check place try", strings.Join(stages, " "))
	assert.Contains(t, w.must("log", "dewcalc").stdout, "checking whether cc works... yes")
	assert.Contains(t, w.must("try", "dewcalc").stdout,
		"dewcalc$ dewcalc 20 50\n    dew point 9.3 C, deficit 1.17 kPa\n  good\n")
	require.NoError(t, os.Remove(filepath.Join(tree, "bin/dewcalc")))
	w.fails(1, []string{"try", "dewcalc"}, "1 of 2 tries failed")
}

func TestRemove(t *testing.T) {
	t.Parallel()
	w, _ := newGarden(t)
	w.must("install", "glasshouse", "-o", "mistplan.plots=off")
	w.fails(2, []string{"remove", "--trees", "mistplan"},
		"needs mistplan 2.1.0\n  To delete both: fernladder remove --trees mistplan glasshouse")
	w.fails(2, []string{"remove", "mistplan"}, "mistplan is on the landing because glasshouse needs it to run")
	w.fails(1, []string{"remove", "fogbank"}, "fogbank is not built")
	assert.Contains(t, w.must("remove", "--trees", "mistplan", "glasshouse").stdout,
		"- glasshouse 1.0.0\n- mistplan 2.1.0\n")
	assert.Equal(t, []string{"dewcalc/1.4.2", "loamdb/0.9.1", "sporegen/2.0"}, w.trees())
	assert.NoFileExists(t, w.root+"/landing/bin/glasshouse")
}

func TestNewFolderAndFetch(t *testing.T) {
	t.Parallel()
	w, site := newGarden(t)
	w.closed()
	w.must("new", "work")
	assert.Contains(t, w.read("work/fernladder.toml"), "shelves")
	w.fails(2, []string{"new", "work"}, "work/fernladder.toml already exists")
	c := w.command("check")
	c.Dir = w.path("work")
	assert.Equal(t, "0 recipes, no mistakes\n", w.finish(c).stdout)

	assert.Contains(t, w.must("fetch", "dewcalc").stdout, "The sources of 1 package are here, verified.")
	site.Close()
	assert.Contains(t, w.must("fetch", "dewcalc").stdout, "all sources are here")
	w.must("build", "dewcalc")
	assert.NoFileExists(t, w.root+"/landing", "build leaves the landing alone")
	w.fails(5, []string{"install", "loamdb"}, "loamdb 0.9.1 cannot be fetched", "the connection was refused")
}

func TestDemo(t *testing.T) {
	long(t)
	t.Parallel()
	w := newWorld(t)
	w.env = append(w.env, "TMPDIR="+w.dir)
	var scenes []struct {
		Command, Stdout, Stderr string
		Status                  int
	}
	w.parsed(&scenes, "demo", "--keep", "garden")
	assert.Len(t, scenes, 24)
	assert.Contains(t, scenes[12].Command, "landing undo")
	assert.NotContains(t, scenes[12].Stderr, "built", "the way back needs no build")
	assert.FileExists(t, w.path("garden/recipes/mistplan/recipe.toml"))
	r := w.must("demo", "--plain")
	assert.Contains(t, r.stdout, "$ fernladder install glasshouse")
	left, err := filepath.Glob(w.path("fernladder-*"))
	require.NoError(t, err)
	assert.Empty(t, left, "nothing is left behind")
	w.fails(2, []string{"demo", "--keep", "garden"}, "already exists")
	assert.FileExists(t, w.path("garden/page/index.html"))

	step := w.command("demo", "--step")
	step.Stdin = strings.NewReader("\nq\n")
	first := w.finish(step)
	assert.Contains(t, first.stdout, "6 recipes, no mistakes")
	assert.NotContains(t, first.stdout, "rung", "it has ended before the plan")
	assert.Contains(t, first.stdout, "Three things to try:")
}
