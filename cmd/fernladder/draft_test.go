package main_test

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What is drafted from an ordinary source installs without an edit.
func TestDraftThenInstall(t *testing.T) {
	w, site := newGarden(t)
	require.NoError(t, os.RemoveAll(w.path("recipes")))
	require.NoError(t, os.Mkdir(w.path("recipes"), 0o755))
	for _, archive := range []string{"dewcalc-1.4.2.tar.gz", "loamdb-0.9.1.tar.zst", "sporegen-2.0.zip"} {
		r := w.must("draft", site.URL+"/dl/"+archive)
		name, _, _ := strings.Cut(archive, "-")
		assert.Contains(t, r.stdout, "Wrote recipes/"+name+"/recipe.toml")
		assert.Contains(t, w.read("recipes/"+name+"/recipe.toml"), site.URL+"/dl/"+archive)
	}
	w.must("check")
	w.must("install", "dewcalc", "loamdb", "sporegen")
	assert.Contains(t, w.sh(`eval "$(fernladder env)"; loamdb --version; dewcalc 20 50; sporegen --version`).stdout, "loamdb 0.9.1\ndew point 9.3")

	// Now that dewcalc and loamdb are there, glasshouse's wishes are known.
	text := w.must("draft", site.URL+"/dl/glasshouse-1.0.0.tar.gz", "--print").stdout
	assert.Contains(t, text, "[option.alarm]\nabout   = \"Raise an alarm when the air is too dry\"\ndefault = true\noff     = [\"-DALARM=OFF\"]")
	assert.Contains(t, text, "[[need]]\nrecipe = \"dewcalc\"\nrole   = \"library\"\n", "it has libdewcalc, which is required")
	assert.Contains(t, text, "# [[need]]\n# recipe = \"loamdb\"\n# role   = \"library\"\n", "it has libloamdb, which is not")
	assert.NoFileExists(t, w.path("recipes/glasshouse"))
}

func TestDraftOfBadInput(t *testing.T) {
	w, site := newGarden(t)
	w.write("page.tar.gz", "<html>not found</html>")
	w.fails(5, []string{"draft", "page.tar.gz"}, "neither tar (plain, gz, bz2, xz, zst) nor zip")
	w.fails(5, []string{"draft", site.URL + "/dl/absent-1.0.tar.gz"}, "absent-1.0.tar.gz cannot be fetched", "404 Not Found")
	w.fails(2, []string{"draft", "absent-1.0.tar.gz"}, "there is no absent-1.0.tar.gz")
	w.fails(2, []string{"draft", site.URL + "/dl/dewcalc-1.4.2.tar.gz"}, "recipes/dewcalc/recipe.toml is there already, and stays as it is")
	w.fails(2, []string{"draft"}, "name one source")
	w.fails(5, []string{"draft", site.URL + "/absent.git"}, "/absent.git/' not found")
	w.fails(2, []string{"draft", "ftp://vale-glasshouse.example/fern.tar.gz"}, "is not a URL that can be fetched")
	w.write("leaves/README", "nothing to build here")
	w.fails(2, []string{"draft", "leaves"}, "--release VERSION")
	w.fails(2, []string{"draft", "leaves", "--release", "x"}, "--release: \"x\" does not begin with a digit")
	r := w.must("draft", "leaves", "--release", "1.0")
	assert.Contains(t, r.stdout, "open     method script\n")
	assert.Contains(t, r.stdout, "release 1.0 has no archive", "a folder has none; the person is told")
	var found struct {
		Recipe   string
		Findings []struct{ What, Value, Certainty string }
	}
	w.parsed(&found, "draft", site.URL+"/dl/frondplot-1.2.0.tar.gz", "--name", "plots")
	assert.Equal(t, w.path("recipes/plots/recipe.toml"), found.Recipe)
	assert.Equal(t, "plots", found.Findings[0].Value)
	left, err := os.ReadDir(w.root + "/work")
	require.NoError(t, err)
	assert.Empty(t, left)
}
