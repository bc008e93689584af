package main_test

import (
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fernladder/demo/garden"
)

// A draft of an ordinary source installs without an edit.
func TestDraftThenInstall(t *testing.T) {
	t.Parallel()
	w, site := newGarden(t)
	require.NoError(t, os.RemoveAll(w.path("recipes")))
	require.NoError(t, os.Mkdir(w.path("recipes"), 0o755))
	for _, archive := range []string{"dewcalc-1.4.2.tar.gz", "loamdb-0.9.1.tar.zst", "sporegen-2.0.zip"} {
		r := w.must("draft", site.URL+"/dl/"+archive)
		name, _, _ := strings.Cut(archive, "-")
		assert.Contains(t, r.stdout, "Wrote recipes/"+name+"/recipe.toml")
		assert.Contains(t, w.read("recipes/"+name+"/recipe.toml"), site.URL+"/dl/"+name+"-$FL_VERSION.")
	}
	w.must("check")
	w.must("install", "dewcalc", "loamdb", "sporegen")
	assert.Contains(t, w.sh(`eval "$(fernladder env)"; loamdb --version; dewcalc 20 50; sporegen --version`).stdout,
		"loamdb 0.9.1\ndew point 9.3")

	// With dewcalc and loamdb on the shelf, glasshouse's needs are known.
	text := w.must("draft", site.URL+"/dl/glasshouse-1.0.0.tar.gz", "--print").stdout
	assert.Contains(t, text,
		"[option.alarm]\nabout   = \"Raise an alarm when the air is too dry\"\ndefault = true\noff     = [\"-DALARM=OFF\"]")
	assert.Contains(t, text,
		"[[need]]\nrecipe = \"dewcalc\"   # library dewcalc in the configure step\nrole   = \"library\"\n",
		"it has libdewcalc, which is required")
	assert.Contains(t, text,
		"[[need]]\nrecipe = \"loamdb\"   # library loamdb in the configure step\nrole   = \"library\"\n\n",
		"so is libloamdb, which only running it tells")
	text = w.must("draft", site.URL+"/dl/glasshouse-1.0.0.tar.gz", "--print", "--read").stdout
	assert.Contains(t, text,
		"[option.loamdb]\nabout   = \"Use loamdb, which the build takes if it is there\"\ndefault = "+
			"true\n\n[[need]]\nrecipe = \"loamdb\"   # library loamdb in CMakeLists.txt\nrole   = \"library\"\nwhen   = "+
			"\"loamdb\"\n", "its files do not")
	assert.NoFileExists(t, w.path("recipes/glasshouse"))
	text = w.must("draft", site.URL+"/dl/mistplan-2.1.0.tar.gz", "--print").stdout
	assert.Contains(t, text,
		"[[need]]\nrecipe = \"dewcalc\"   # library dewcalc in the configure step\nrole   = \"library\"\n")
	assert.Contains(t, text,
		"[[need]]\nrecipe = \"sporegen\"   # program sporegen in the configure step\nrole   = \"tool\"\n",
		"it stops without, and the shelf has it")
	assert.Contains(t, text,
		"[[need]]\nrecipe = \"loamdb\"   # header loamdb.h in the configure step\nrole   = \"library\"\nwhen   = "+
			"\"storage == loam\"\n", "which it looks for with that value alone")
}

func TestDraftOfBadInput(t *testing.T) {
	t.Parallel()
	w, site := newGarden(t)
	w.write("page.tar.gz", "<html>not found</html>")
	w.fails(5, []string{"draft", "page.tar.gz"}, "neither tar (plain, gz, bz2, xz, zst, lz) nor zip")
	w.fails(5, []string{"draft", site.URL + "/dl/absent-1.0.tar.gz"}, "absent-1.0.tar.gz cannot be fetched",
		"404 Not Found")
	w.fails(2, []string{"draft", "absent-1.0.tar.gz"}, "there is no absent-1.0.tar.gz")
	w.fails(2, []string{"draft", site.URL + "/dl/dewcalc-1.4.2.tar.gz"},
		"recipes/dewcalc/recipe.toml already exists, and stays as it is")
	w.fails(2, []string{"draft"}, "name one source")
	w.fails(5, []string{"draft", site.URL + "/absent.git"}, "/absent.git/' not found")
	w.fails(2, []string{"draft", "ftp://vale-glasshouse.example/fern.tar.gz"}, "is not a URL that can be fetched")
	w.write("leaves/README", "nothing to build here")
	w.fails(2, []string{"draft", "leaves"}, "--release VERSION")
	w.fails(2, []string{"draft", "leaves", "--release", "x"}, "the release: \"x\" does not begin with a digit")
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
	assert.Empty(t, w.glob("root/work/scratch/*"))
}

func TestProbe(t *testing.T) {
	t.Parallel()
	needs(t, "sealed")
	w, site := newGarden(t)
	require.NoError(t, os.RemoveAll(w.path("recipes")))
	require.NoError(t, os.Mkdir(w.path("recipes"), 0o755))
	r := w.must("draft", site.URL+"/dl/dewcalc-1.4.2.tar.gz", "--probe")
	assert.Contains(t, r.stdout, "signature by ")
	assert.Contains(t, r.stdout, "It builds: ")
	text := w.read("recipes/dewcalc/recipe.toml")
	assert.Contains(t, text, "# signature = \""+site.URL+"/dl/dewcalc-$FL_VERSION.tar.gz.asc\"")
	assert.Contains(t, text, "[offers]\nmodules = [\"dewcalc 1.4.2\"]")
	assert.Contains(t, text, "it builds, sealed, in ")
	assert.NoFileExists(t, w.root+"/landing")

	// One source that is not built in its own directory, and one that does not build.
	w.pkg("fern", "", "configure",
		"#!/bin/sh\n# Generated by GNU Autoconf 2.71.\ntest ! -f leaf || { echo 'error: use a separate build directory'; exit 1; }\nprintf "+
			"'all:\\ninstall:\\n\\tmkdir -p $(DESTDIR)'\"${1#*=}\"'/bin; touch $(DESTDIR)'\"${1#*=}\"'/bin/fern\\n' >Makefile\n",
		"leaf", "")
	w.pkg("moss", "", "Makefile", "all:\n\t@echo moss.c:1: error: too dry; false\ninstall:\n")
	require.NoError(t, os.RemoveAll(w.path("recipes/fern")))
	require.NoError(t, os.RemoveAll(w.path("recipes/moss")))
	r = w.must("draft", "archives/fern.tar.gz", "--release", "1.0", "--probe")
	assert.Contains(t, r.stderr, "It is built outside the source's directory.")
	assert.Contains(t, w.read("recipes/fern/recipe.toml"), "in_tree = false")
	w.fails(1, []string{"draft", "archives/moss.tar.gz", "--release", "1.0", "--probe"}, "moss.c:1: error: too dry",
		"recipes/moss/recipe.toml records it")
	assert.Contains(t, w.read("recipes/moss/recipe.toml"),
		"it does not build yet. moss 1.0 failed in stage compile: make ended with status 2\n#   moss.c:1: error: too dry\n")
	w.must("check")
	w.fails(2, []string{"draft", "archives/moss.tar.gz", "--probe", "--print"}, "use one of them")
}

// The URL of a repository need not end with .git: what it serves is no archive.
func TestDraftOfARepositorysURL(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.write("src/Makefile", "PREFIX = /usr\nall:\ninstall:\n\ttrue\n")
	w.sh("cd src && git init -q -b main . && git add . && git -c user.name=x -c user.email=x@vale.example commit -qm " +
		"Begin && git tag v1.4 && cd .. && git clone -q --bare src site/fern && git -C site/fern update-server-info")
	site := httptest.NewServer(http.FileServer(http.Dir(w.path("site"))))
	t.Cleanup(site.Close)
	text := w.must("draft", site.URL+"/fern", "--print", "--read").stdout
	assert.Contains(t, text, "name    = \"fern\"")
	assert.Contains(t, text, "git     = \""+site.URL+"/fern\"\ntag     = \"v1.4\"")
	w.fails(5, []string{"draft", site.URL + "/reed", "--print", "--read"}, "404")
	// The folder of a clone has the same draft, and nothing in it is run.
	w.sh("git clone -q " + site.URL + "/fern clone && printf '[core]\\n\\tfsmonitor = touch ran\\n' >>clone/.git/config")
	text = w.must("draft", "clone", "--print", "--read").stdout
	assert.Contains(t, text, "git     = \""+site.URL+"/fern\"\ntag     = \"v1.4\"")
	assert.NoFileExists(t, w.path("clone/ran"))
}

// A named key is the only trusted one: at once from a file; from a key server when its
// fingerprint is confirmed.
func TestDraftTrustsAKey(t *testing.T) {
	t.Parallel()
	w, site := newGarden(t)
	key := w.read("recipes/dewcalc/keys/growers.asc")
	asked := ""
	keys := httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		asked = r.URL.String()
		io.WriteString(rw, key)
	}))
	defer keys.Close()
	w.write("growers.asc", key)
	require.NoError(t, os.RemoveAll(w.path("recipes/dewcalc")))
	url := site.URL + "/dl/dewcalc-1.4.2.tar.gz"
	r := w.fails(2, []string{"draft", url, "--read", "--key", keys.URL}, "the signature is by ", "then add --fingerprint ")
	fingerprint := regexp.MustCompile(`--fingerprint ([0-9A-F]{40,})`).FindStringSubmatch(r.stderr)
	require.NotNil(t, fingerprint)
	assert.Regexp(t, `^/pks/lookup\?op=get&options=mr&search=0x[0-9A-F]+$`, asked)
	assert.NoDirExists(t, w.path("recipes/dewcalc"))
	w.fails(2, []string{"draft", url, "--read", "--key", keys.URL, "--fingerprint", strings.Repeat("A", 40)},
		"not by the key AAAA")
	w.must("draft", url, "--read", "--key", keys.URL, "--fingerprint", fingerprint[1])
	assert.Equal(t, key, w.read("recipes/dewcalc/keys/dewcalc.asc"))
	assert.Contains(t, w.read("recipes/dewcalc/recipe.toml"), "\nkeys      = [\"keys/dewcalc.asc\"]   # ")
	w.must("fetch", "dewcalc")
	require.NoError(t, os.RemoveAll(w.path("recipes/dewcalc")))
	others, err := garden.Archives()
	require.NoError(t, err)
	mine := key
	key += "\n" + string(others[garden.KeyFile]) // a second, unconfirmed one
	w.fails(2, []string{"draft", url, "--read", "--key", keys.URL, "--fingerprint", fingerprint[1]},
		"gives several keys (")
	key = mine
	assert.Contains(t, w.must("draft", url, "--read", "--key", "growers.asc").stdout, "signature good, by ")
	w.write("other.asc", string(others[garden.KeyFile]))
	require.NoError(t, os.RemoveAll(w.path("recipes/dewcalc")))
	w.fails(5, []string{"draft", url, "--read", "--key", "other.asc"}, "no good signature")
	assert.NoDirExists(t, w.path("recipes/dewcalc"))
	w.fails(2, []string{"draft", site.URL + "/dl/frondplot-1.2.0.tar.gz", "--read", "--key", "growers.asc"},
		"there is no signature beside the archive")
}
