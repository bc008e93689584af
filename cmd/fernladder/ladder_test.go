package main_test

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// Two roots with the same lock, shelves and compiler plan the same builds; any deviation is
// reported, and nothing is built.
func TestLockedLadders(t *testing.T) {
	t.Parallel()
	w, _ := newGarden(t)
	w.fails(2, []string{"plan", "--locked", "mistplan"}, "ladder.lock has no ladder", "fernladder lock")
	assert.Equal(t, "ladder.lock locks 6 builds.\n", w.must("lock", "glasshouse").stdout)
	locked := w.read("ladder.lock")
	assert.Contains(t, locked, "[[build]]\nname       = \"loamdb\"\nversion    = \"0.9.1\"\nid         = \"")
	assert.Contains(t, locked, "options    = [\"shared=on\"]\n")
	assert.Contains(t, locked, "needs      = [\"dewcalc\", \"loamdb\", \"mistplan\"]\n")
	assert.Equal(t, w.must("plan", "glasshouse", "--locked", "--json").stdout,
		w.must("plan", "glasshouse", "--json").stdout)
	w.must("lock", "glasshouse")
	assert.Equal(t, locked, w.read("ladder.lock"), "the same again is the same")

	w.edit("recipes/dewcalc/recipe.toml", "--disable-static", "--enable-static")
	w.fails(4, []string{"install", "--locked", "glasshouse"}, "This ladder differs from ladder.lock:",
		"dewcalc 1.4.2 would be built differently: its recipe, patches or supplies have changed (ladder.lock:",
		"2 more would be built differently, because they depend on these")
	w.edit("recipes/dewcalc/recipe.toml", "--enable-static", "--disable-static")
	w.edit("ladder.lock", `version    = "1.4.2"`, `version    = "1.3.0"`)
	w.fails(4, []string{"plan", "--locked", "glasshouse"}, "dewcalc would be 1.4.2, but is locked to 1.3.0")
	w.edit("ladder.lock", `version    = "1.3.0"`, `version    = "1.4.2"`)
	w.edit("ladder.lock", `options    = ["shared=on"]`, `options    = ["shared"]`)
	w.fails(3, []string{"plan", "glasshouse"}, `ladder.lock:`, `"shared" should be NAME=VALUE`)
	w.edit("ladder.lock", `options    = ["shared"]`, `options    = ["shared=on"]`)

	sha := locked[strings.Index(locked, "sha256:"):][:71]
	w.edit("ladder.lock", sha, "sha256:"+strings.Repeat("0", 64))
	w.fails(4, []string{"install", "--locked", "glasshouse"}, "would be "+sha+", but is locked to sha256:0000")
	w.edit("ladder.lock", "sha256:"+strings.Repeat("0", 64), sha)
	w.must("install", "--locked", "glasshouse")
	assert.Equal(t, locked, w.read("ladder.lock"))
}

// A locked release stays although a newer one exists, until it is upgraded; builds are added to
// an existing lock file.
func TestLockedVersionsStayUntilUpgraded(t *testing.T) {
	t.Parallel()
	w, _ := newGarden(t)
	w.must("lock", "mistplan:1.9.4", "-o", "plots=off")
	w.must("install", "mistplan")
	assert.Contains(t, w.must("list").stdout, "1.9.4")
	assert.Contains(t, w.must("plan", "--upgrade", "mistplan").stdout, "2.1.0")
	w.must("upgrade")
	assert.Contains(t, w.read("ladder.lock"), "name       = \"mistplan\"\nversion    = \"2.1.0\"")
	assert.Contains(t, w.read("ladder.lock"), "options    = [\"plots=off\"]", "options stay")
	r := w.must("upgrade")
	assert.Contains(t, r.stdout, "Nothing to do")

	// An upgrade does not go back from a preview.
	w.must("install", "mistplan:2.2.0-rc1")
	assert.Contains(t, w.must("upgrade").stdout, "Nothing to do: mistplan 2.2.0-rc1")
	assert.Contains(t, w.must("install", "frondplot").stdout, "frondplot")
	w.must("install", "mistplan:2.1.0")

	// A missing recipe does not prevent other commands.
	assert.NoError(t, os.RemoveAll(w.path("recipes/mistplan")))
	w.must("install", "frondplot")
	assert.Contains(t, w.must("upgrade").stderr, "mistplan stays at 2.1.0: no shelf has a recipe for it")
	assert.Contains(t, w.must("list").stdout, "mistplan")
	w.fails(4, []string{"install", "mistplan"}, `No shelf has a recipe "mistplan"`)
}

// The landing is brought to what the settings want.
func TestWanted(t *testing.T) {
	t.Parallel()
	w, _ := newGarden(t)
	w.must("install", "frondplot")
	settings := w.read("fernladder.toml")
	w.write("fernladder.toml",
		settings+"\n[wanted.mistplan]\nversion = \"1.*\"\noptions = { plots = false }\n\n[wanted.dewcalc]\n")
	r := w.must("install")
	assert.Contains(t, r.stdout, "The landing will change:\n  + dewcalc 1.4.2\n  + mistplan 1.9.4\n  - frondplot 1.2.0\n")
	assert.Contains(t, w.must("install").stdout, "Nothing to do")
	assert.Equal(t, "Everything is built: 4 packages on 2 rungs.\nIt is already on the landing.\n", w.must("plan").stdout)
	w.write("fernladder.toml", settings+"\n[wanted.mistplan]\nversion = \"> \"\n")
	w.fails(3, []string{"install"}, "fernladder.toml:", "version")
	w.write("fernladder.toml", settings+"\n[wanted.mistplan]\nversion = \"3.*\"\n")
	w.fails(4, []string{"install"}, "you asked for mistplan 3.*")
}

// The operating system's copy is used if the settings allow it.
func TestHostCopies(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.pkg("fern", "[[need]]\nrecipe = \"shell\"\nversion = \">= 1\"\nrole = \"tool\"\n"+
		script("place", "test $FL_TREE_SHELL = /usr; "+place("fern")))
	w.pkg("shell", "[host_copy]\nprogram = \"make\"\nversion = \">= 3\"\n"+script("place", place("shell")))
	assert.Contains(t, w.must("plan", "fern").stdout, "2 packages")
	settings := w.read("fernladder.toml")
	w.write("fernladder.toml", settings+"host_copies = [\"shell\"]\n")
	r := w.must("plan", "fern")
	assert.Contains(t, r.stdout, "1 package on 1 rung")
	assert.Regexp(t, `The operating system's own shell [0-9.]+ is used by fern\.`, r.stdout)
	w.must("install", "fern")
	assert.Regexp(t, `"by_host": \[\s*"shell [0-9.]+"`, w.sh("cat root/trees/fern/*/share/fernladder/receipt.json").stdout)
	assert.Contains(t, w.must("plan", "shell").stdout, "to build", "what a person asks for is built")
	w.edit("recipes/shell/recipe.toml", `">= 3"`, `">= 300"`)
	assert.Contains(t, w.must("plan", "fern").stdout, "2 packages", "one that does not fit does not count")
	w.edit("recipes/shell/recipe.toml", `program = "make"`, ``)
	w.fails(3, []string{"plan", "fern"}, "[[host]] names one thing")
}

// Every view of a plan works.
func TestFormsOfAPlan(t *testing.T) {
	t.Parallel()
	w, _ := newGarden(t)
	assert.Contains(t, w.must("plan", "glasshouse").stdout, "6 to build, 6 of them still to fetch (")
	assert.Contains(t, w.must("plan", "glasshouse", "--tree").stdout,
		"glasshouse 1.0.0\n  dewcalc 1.4.2 library\n  loamdb 0.9.1 shared=on library\n  mistplan 2.1.0 runtime\n    "+
			"dewcalc 1.4.2 library\n")
	dot := w.must("plan", "glasshouse", "--dot").stdout
	assert.Contains(t, dot, "digraph ladder {")
	assert.Equal(t, 6, strings.Count(dot, "[label = "))
	why := w.must("plan", "glasshouse", "--why", "sporegen").stdout
	assert.Contains(t, why, "sporegen 2.0, because\n    frondplot 1.2.0 needs it (")
	assert.Contains(t, why, "glasshouse needs mistplan needs sporegen")
	w.fails(2, []string{"plan", "dewcalc", "--why", "sporegen"}, "sporegen is not on this ladder")
	w.fails(2, []string{"plan", "glasshouse", "--tree", "--dot"}, "--tree and --dot cannot be combined")
	w.must("install", "glasshouse")
	w.edit("recipes/dewcalc/recipe.toml", "--disable-static", "--enable-static")
	assert.Regexp(t,
		`By the last builds: about \S+ s with 2 job slots, [0-9.]+ kB in trees and up to [0-9.]+ \wB in work directories\.`,
		w.must("plan", "glasshouse", "--root", w.root).stdout)
	w.must("new", "fresh")
	assert.Contains(t, w.read("fresh/ladder.lock"), "format = 1")
}

// Two hundred packages are still readable, and a plan with nothing to do is one line.
func TestAPlanOfManyPackages(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	needs := ""
	for i := range 60 {
		name := "moss" + strings.Repeat("a", i/26) + string(rune('a'+i%26))
		w.pkg(name, script("place", place(name)))
		needs += "[[need]]\nrecipe = \"" + name + "\"\nrole = \"library\"\n"
	}
	w.pkg("fern", needs+script("place", place("fern")))
	r := w.must("plan", "fern")
	assert.Contains(t, r.stdout, "rung 1   mossa 1.0, mossaa 1.0,")
	assert.Less(t, strings.Count(r.stdout, "\n"), 24)
	assert.Greater(t, strings.Count(w.must("plan", "fern", "--all").stdout, "\n"), 60)
}
