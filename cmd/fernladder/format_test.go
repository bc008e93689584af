package main_test

import (
	"encoding/base64"
	"encoding/pem"
	"fmt"
	"io"
	"net/http"
	"net/http/cgi"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fernladder/demo/garden"
)

func TestSignedArchives(t *testing.T) {
	t.Parallel()
	w, site := newGarden(t)
	r := w.must("install", "dewcalc")
	assert.Contains(t, r.stderr, "signed by Vale Growers <growers@vale-glasshouse.example> (")
	assert.Contains(t, w.must("show", "dewcalc").stdout, "signed by  Vale Growers")

	const recipe = "recipes/dewcalc/recipe.toml"
	w.edit(recipe, site.URL+"/dl/dewcalc-$FL_VERSION.tar.gz.asc", site.URL+"/dl/mistplan-2.1.0.tar.gz.asc")
	w.edit(recipe, "/dewcalc-$FL_VERSION.tar.gz.asc", "/absent.asc")
	w.fails(5, []string{"install", "dewcalc:1.3.0"}, "the signature of dewcalc 1.3.0 cannot be fetched",
		"mistplan-2.1.0.tar.gz.asc: no good signature: it claims to be by Vale Growers",
		"but does not match the file", "no signature by a key that the recipe trusts")
	w.must("install", "dewcalc:1.4.2") // its signature is kept

	other, err := garden.Archives() // with another key
	require.NoError(t, err)
	w.write("recipes/dewcalc/keys/growers.asc", string(other[garden.KeyFile]))
	w.fails(5, []string{"fetch", "dewcalc:1.3.0"}, "which is not among the trusted keys")
	w.write("recipes/dewcalc/keys/growers.asc", "no key")
	w.fails(5, []string{"fetch", "dewcalc:1.3.0"}, "growers.asc holds no usable public key")
	assert.NotContains(t, strings.Join(w.trees(), " "), "1.3.0")
}

func TestSupplies(t *testing.T) {
	t.Parallel()
	w, site := newGarden(t)
	w.fails(5, []string{"install", "mistplan", "-o", "calibrated=on"},
		"station.cal, for mistplan: The calibration of your weather station", "recipes/mistplan/recipe.toml:",
		"fernladder supply mistplan FILE")
	assert.Empty(t, site.Asked(), "nothing is fetched in vain")
	w.write("other", "0.8\n")
	w.fails(5, []string{"supply", "mistplan", "other"}, "other is not a file that the recipe asks for; its sha256 is ",
		"station.cal has the sha256")
	w.fails(2, []string{"supply", "dewcalc", "other"}, "dewcalc needs no supplies")
	w.fails(2, []string{"supply", "mistplan", "absent"}, "absent: no such file")
	w.write("mine.cal", garden.Calibration)
	assert.Equal(t,
		"station.cal is here for mistplan, verified: The calibration of your weather station, from its maker's customer "+
			"page\n", w.must("supply", "mistplan", "mine.cal").stdout)
	w.must("install", "mistplan", "-o", "calibrated=on")
	assert.Contains(t, w.sh(`eval "$(fernladder env)"; mistplan --version`).stdout, "calibration: +0.7")
	assert.Contains(t, w.must("show", "mistplan").stdout, "station.cal, supplied by hand, must not be passed on")
	assert.NotContains(t, w.must("log", "mistplan").stdout, "0.7\n")
}

func TestExtrasGoInside(t *testing.T) {
	t.Parallel()
	w, _ := newGarden(t)
	w.must("install", "mistplan")
	assert.FileExists(t, w.root+"/landing/share/mistplan/moss.csv")
	w.edit("recipes/mistplan/recipe.toml", "data/curves", "readings.csv")
	w.fails(1, []string{"install", "mistplan"},
		"the extra curves goes into readings.csv, where the source has something that is not a directory")
	w.pkg("curves", "", "moss.csv", "mine")
	w.pkg("fern", "[[extra]]\nname = \"more\"\narchive = \"file://"+w.path("archives/curves.tar.gz")+"\"\nsha256 = \""+
		w.sha256("archives/curves.tar.gz")+"\"\ninto = \"a/b\"\n"+
		script("place", "test -f a/b/moss.csv; "+place("fern")), "moss.csv", "theirs")
	w.must("install", "fern")
	w.edit("recipes/fern/recipe.toml", `into = "a/b"`, `into = "data"`)
	w.pkg("data", "", "x", "x")
	w.edit("recipes/fern/recipe.toml", "test -f a/b/moss.csv", "test -f data/moss.csv")
	w.must("install", "fern")
}

// A tip stays at the commit in the lock file until an update is requested.
func TestTips(t *testing.T) {
	t.Parallel()
	w, _ := newGarden(t)
	r := w.must("install", "mistplan:tip")
	assert.Contains(t, r.stderr, "Pinned the tip of mistplan to 2.1.0+1.g")
	pinned := w.read("ladder.lock")
	assert.Contains(t, pinned, "branch     = \"main\"")
	assert.Contains(t, w.must("show", "mistplan").stdout, "commit     ")
	assert.Contains(t, w.must("list").stdout, "2.1.0+1.g")
	w.must("install", "mistplan:tip")
	assert.Contains(t, w.must("upgrade", "mistplan").stderr, "The tip of mistplan is still 2.1.0+1.g")
	assert.Equal(t, pinned, w.read("ladder.lock"))
	assert.Regexp(t, `mistplan +2\.1\.0\+1\.g\w+ +built`, w.must("plan", "glasshouse").stdout, "what is installed stays")
	w.must("remove", "mistplan")
	w.edit("ladder.lock", pinned[strings.Index(pinned, "\n[[build]]"):], "")
	assert.Regexp(t, `mistplan +2\.1\.0 +to build`, w.must("plan", "glasshouse").stdout,
		"who does not ask for a tip gets none")
	w.fails(4, []string{"install", "dewcalc:tip"}, "dewcalc has no tip.")

	w.edit("recipes/mistplan/recipe.toml", `branch = "main"`, `branch = "absent"`)
	w.fails(5, []string{"install", "mistplan:tip"}, `the repository has no branch "absent"`)
	w.edit("ladder.lock", "commit ", "comit ")
	w.fails(3, []string{"plan", "mistplan:tip"}, `did you mean "commit"?`)
}

// A release can be a commit of a repository, with its submodules, and of
// Subversion.
func TestReleasesFromRepositories(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	sh := func(text string) string {
		c := exec.Command("sh", "-e", "-c", text)
		c.Dir = w.dir
		c.Env = append(os.Environ(), "GIT_CONFIG_GLOBAL="+w.path("gitconfig"), "HOME="+w.dir)
		out, err := c.CombinedOutput()
		require.NoError(t, err, string(out))
		return strings.TrimSpace(string(out))
	}
	w.write("gitconfig",
		"[user]\nname = Vale Growers\nemail = growers@vale-glasshouse.example\n[protocol \"file\"]\nallow = "+
			"always\n[init]\ndefaultBranch = main\n")
	commit := sh(`git init -q soil; cd soil; echo loam >kind; git add .; git commit -qm soil; cd ..
		git init -q fern; cd fern; echo fern >name; git submodule --quiet add "file://$PWD/../soil" beds/soil; git add .; git commit -qm fern; git tag v1.2
		echo later >name; git commit -qam later; git rev-parse v1.2`)
	build := script("place", "test \"$(cat name) $(cat beds/soil/kind)\" = 'fern loam'; "+place("fern"))
	write := func(release string) {
		w.write("recipes/fern/recipe.toml",
			"format = 1\n[package]\nname = \"fern\"\nsummary = \"x\"\n[[release]]\nversion = \"1.2\"\n"+release+"\n"+build)
	}
	write(fmt.Sprintf("git = \"file://%s/fern\"\ntag = \"v1.2\"\ncommit = %q", w.dir, commit))
	w.must("install", "fern")
	sh("mv fern gone; mv soil gone2")
	w.must("remove", "--trees", "fern")
	w.must("install", "fern") // from what was fetched before
	sh("mv gone fern; mv gone2 soil; cd fern; git tag -f v1.2 main")
	w.must("remove", "--trees", "fern")
	require.NoError(t, os.RemoveAll(w.root+"/archives"))
	w.fails(5, []string{"install", "fern"}, "the tag v1.2 names the commit ", "not "+commit+" as the recipe does")
	write(fmt.Sprintf("git = \"file://%s/fern\"\ncommit = %q", w.dir, strings.Repeat("0", 40)))
	w.fails(5, []string{"install", "fern"}, "recipes/fern/recipe.toml:5")

	sh(`svnadmin create svn; mkdir -p in/trunk/beds/soil; echo fern >in/trunk/name; echo loam >in/trunk/beds/soil/kind; echo x >in/trunk/Grün; LC_ALL=C.UTF-8 svn import -q -m one in "file://$PWD/svn"`)
	write(fmt.Sprintf("svn = \"file://%s/svn/trunk\"\nrevision = \"1\"", w.dir))
	w.must("install", "fern")
	assert.Contains(t, w.must("show", "fern").stdout, "commit     1\n")
	write(fmt.Sprintf("svn = \"file://%s/svn/trunk\"\nrevision = \"7\"", w.dir))
	w.fails(5, []string{"install", "fern"}, "No such revision 7")

	draft := w.must("draft", "file://"+w.dir+"/fern/.git", "--name", "frond", "--print").stdout
	assert.Contains(t, draft, "version = \"1.2\"   # guessed, the tag v1.2\ngit     = \"file://"+w.dir+
		"/fern/.git\"\ntag     = \"v1.2\"\ncommit  = ")
	assert.Contains(t, draft, "track  = \"tip\"")
}

func TestConfigurationFilesSurviveUpgrades(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	release := func(version, sample string) {
		w.pkg("fern",
			"[[config]]\nfile = \"etc/fern.conf\"\n[[try]]\nrun = \"cat $FL_PREFIX/etc/fern.conf\"\nexpect = \"=\"\n"+
				script("place", place("fern")+"; mkdir $DESTDIR$FL_PREFIX/etc; cp fern.conf $DESTDIR$FL_PREFIX/etc"),
			"fern.conf", sample)
		w.edit("recipes/fern/recipe.toml", `version = "1.0"`, fmt.Sprintf("version = %q", version))
	}
	conf := func() string { return w.read("root/landing/etc/fern.conf") }
	release("1.0", "light=low\n")
	assert.Contains(t, w.must("install", "fern").stdout, "fern is configured in "+w.root+"/config/fern/etc/fern.conf")
	assert.Equal(t, "light=low\n", conf())
	release("1.1", "light=high\n")
	assert.Contains(t, w.must("install", "fern").stdout, "has the new sample now")
	assert.Equal(t, "light=high\n", conf())
	w.write("root/config/fern/etc/fern.conf", "light=mine\n")
	release("1.2", "light=medium\n")
	assert.Contains(t, w.must("install", "fern").stdout, "keeps your edits; the new sample is beside it:\n  diff ")
	assert.Equal(t, "light=mine\n", conf())
	assert.Equal(t, "light=medium\n", w.read("root/config/fern/etc/fern.conf.sample-1.2"))
	assert.NotContains(t, w.must("install", "fern").stdout, "diff")
	release("1.3", "light=dim\n")
	assert.Contains(t, w.must("plan", "--upgrade").stdout, w.root+"/config/fern/etc/fern.conf was edited, and stays")
	w.must("upgrade")
	assert.Equal(t, "light=dim\n", w.read("root/config/fern/etc/fern.conf.sample-1.3"))
	assert.NoFileExists(t, w.root+"/config/fern/etc/fern.conf.sample-1.2", "that one was not edited")
	w.write("root/config/fern/etc/fern.conf.sample-1.3", "mine too\n")
	// A link put there by another user is foreign, whatever it leads to.
	w.sh("cd root/config/fern/etc && mv fern.conf mine && printf 'light=dim\\n' >linked && ln -s linked fern.conf")
	release("1.4", "light=out\n")
	w.must("upgrade")
	assert.Equal(t, "600 linked\n",
		w.sh("cd root/config/fern/etc && stat -c %a fern.conf.sample-1.4 | tr '\\n' ' ' && readlink fern.conf").stdout)
	w.must("landing", "undo")
	w.sh("cd root/config/fern/etc && mv mine fern.conf")
	w.must("landing", "undo")
	assert.Equal(t, "mine too\n", w.read("root/config/fern/etc/fern.conf.sample-1.3"))
	w.must("remove", "--trees", "fern")
	w.must("install", "fern")
	assert.Equal(t, "light=mine\n", conf(), "it outlives the tree")
}

func TestLaunchers(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	recipe := "[[launcher]]\nname = \"The fern\"\nrun = \"fern --grow 50%\"\n[env]\nFERN_LIGHT = \"a $HOME\\\"b\"\n" +
		script("place", place("fern"))
	w.pkg("fern", recipe)
	w.must("install", "fern")
	entry := w.read("root/landing/share/applications/fern.desktop")
	assert.Contains(t, entry, "\nExec=env \"FERN_LIGHT=a \\\\$HOME\\\\\"b\" "+w.root+
		"/landing/share/fernladder/fern/bin/fern --grow 50%%\n")
	w.edit("recipes/fern/recipe.toml", "run = \"fern", "run = \"frond")
	w.fails(1, []string{"install", "fern"},
		`the launcher "The fern" runs frond, but the build placed no program bin/frond (recipes/fern/recipe.toml:`)
}

func TestHostNeeds(t *testing.T) {
	t.Parallel()
	w, site := newGarden(t)
	assert.Contains(t, w.must("host", "mistplan").stdout, "needs for 5 packages on this machine (")
	w.edit("recipes/mistplan/recipe.toml", "header   = \"math.h\"", "header   = \"moss/absent.h\"")
	w.write("recipes/dewcalc/recipe.toml", w.read("recipes/dewcalc/recipe.toml")+
		"\n[[host]]\nprogram = \"sh\"\n[[host]]\nprogram = \"cc\"\nversion = \">= 900\"\n[[host]]\nlibrary = "+
		"\"absent-moss\"\n[[host]]\nmodule = \"absent-fern\"\nversion = \">= 2\"\nwhen = \"version >= "+
		"1\"\n[[host]]\nlibrary = \"m\"\n")
	says := []string{"header moss/absent.h, needed by mistplan (recipes/mistplan/recipe.toml:", "program cc is ",
		"here, but >= 900 is needed", "library absent-moss, needed by dewcalc", "module absent-fern >= 2",
		"packages = { … } in the recipe names them"}
	w.fails(6, []string{"install", "mistplan"}, says...)
	assert.Empty(t, site.Asked(), "nothing is fetched in vain")
	r := w.fails(6, []string{"host", "mistplan"}, says...)
	assert.Regexp(t, `library +absent-moss +missing`, r.stdout)
	assert.Regexp(t, `library +m +there`, r.stdout)
	assert.Regexp(t, `program +cc +does not fit +[0-9.]+`, r.stdout)
	w.fails(2, []string{"host", "mistplan", "--install"}, "to skip the question, add --yes")
}

// Edits change their own lines and nothing else.
func TestNewsBumpAndOffers(t *testing.T) {
	t.Parallel()
	w, site := newGarden(t)
	assert.Regexp(t, `dewcalc +1\.4\.2 +1\.4\.3`, w.must("news").stdout)
	const recipe = "recipes/dewcalc/recipe.toml"
	w.edit(recipe, "[[release]]\nversion = \"1.4.2\"",
		"# Newest first.\n\n# This one is in use.\n[[release]]\nversion = \"1.4.2\"")
	before := w.read(recipe)
	r := w.must("bump", "dewcalc")
	assert.Contains(t, r.stdout, "Signed by Vale Growers")
	added := "[[release]]\nversion = \"1.4.3\"\nsha256  = \"" +
		w.sha256("root/archives/sha256/"+
			filepath.Base(strings.TrimSpace(r.stdout[strings.Index(r.stdout, "sha256:")+7:][:64]))) + "\"\nsize    = 1883\n\n"
	assert.Equal(t, strings.Replace(before, "# This one is in use.\n", added+"# This one is in use.\n", 1), w.read(recipe))
	assert.Contains(t, w.must("bump", "dewcalc").stdout, "already has the newest release, 1.4.3")
	w.must("install", "dewcalc:1.4.3")
	w.fails(2, []string{"bump", "dewcalc", "1.4.2"}, "has release 1.4.2 already")
	w.fails(5, []string{"bump", "frondplot", "9"}, "/dl/frondplot-9.tar.gz: the server says 404 Not Found")
	w.fails(2, []string{"bump", "frondplot"}, "name the version")
	w.edit("recipes/mistplan/recipe.toml", "pattern = 'mistplan-", "pattern = 'pistplan-")
	w.fails(5, []string{"news", "mistplan"}, "nothing on the page matches the pattern")
	_ = site

	before = w.read("recipes/loamdb/recipe.toml")
	w.must("install", "loamdb") // what it offers is written when it is first built
	assert.Equal(t, strings.TrimRight(before, "\n")+"\n\n[offers]\nprograms = [\"loamdb\"]\nlibraries = [\"loamdb\"]\n",
		w.read("recipes/loamdb/recipe.toml"))
	w.edit("recipes/loamdb/recipe.toml", "programs = [\"loamdb\"]",
		"programs = [  # what it has\n  \"old\",\n]   # so far")
	w.must("offers", "loamdb", "--write")
	assert.Contains(t, w.read("recipes/loamdb/recipe.toml"), "programs = [\"loamdb\"]   # so far\n")
	w.must("check", "loamdb")
}

func TestShelves(t *testing.T) {
	t.Parallel()
	w, _ := newGarden(t)
	require.NoError(t, os.CopyFS(w.path("more"), os.DirFS(w.path("recipes/dewcalc"))))
	require.NoError(t, os.Rename(w.path("more"), w.path("more-dewcalc")))
	w.write("second/dewcalc/recipe.toml", w.read("recipes/dewcalc/recipe.toml"))
	w.write("second/dewcalc/keys/growers.asc", w.read("recipes/dewcalc/keys/growers.asc"))
	out, err := exec.Command("sh", "-e", "-c",
		"cd "+w.dir+
			"; mkdir repo; cp -r recipes/sporegen repo/; mkdir repo/shelf; cp -r recipes/frondplot repo/shelf/; cd repo; git "+
			"init -q; git add .; git -c user.name=x -c user.email=x@x.example commit -qm x; git rev-parse HEAD").CombinedOutput()
	require.NoError(t, err, string(out))
	require.NoError(t, os.RemoveAll(w.path("recipes/frondplot")))
	w.write("fernladder.toml",
		fmt.Sprintf("root = \"root\"\nshelves = [\"recipes\", \"second\"]\n[[remote_shelf]]\ngit = "+
			"\"file://%s/repo\"\ncommit = %q\ndir = \"shelf\"\n", w.dir, strings.TrimSpace(string(out))))
	w.fails(3, []string{"plan", "frondplot"}, "is not here", "fernladder shelves --fetch")
	assert.Contains(t, w.must("shelves").stdout, "not fetched")
	assert.Regexp(t, `2 +second +1 recipe +dewcalc\n`, w.must("shelves", "--fetch").stdout)
	w.must("install", "frondplot")
	assert.Contains(t, w.must("check").stdout, "recipes/dewcalc/recipe.toml hides second/dewcalc\n")
}

func TestWarnings(t *testing.T) {
	t.Parallel()
	w, site := newGarden(t)
	const recipe = "recipes/mistplan/recipe.toml"
	w.edit(recipe, `when    = "storage == loam"`, `when    = "version < 1.0"`)
	w.edit(recipe, `when   = "plots"

[[need]]`, `when   = "plots or not plots"

[[need]]`)
	w.edit(recipe, "recipe  = \"dewcalc\"", "either  = [\"dewcalc\", \"absent\"]")
	w.must("fetch", "mistplan:1.9.4")
	w.edit("recipes/mistplan/patches/1.9-thirsty-seedlings.patch", "-", "- ")
	out := w.must("check", "mistplan").stdout
	for _, warning := range []string{`this need never applies: "version < 1.0" is never true`,
		`this need always applies: "plots or not plots" is always true`,
		`no shelf has a recipe "absent"`, "the patch patches/1.9-thirsty-seedlings.patch does not apply to 1.9.4: "} {
		assert.Contains(t, out, warning)
	}
	w.edit("recipes/dewcalc/recipe.toml", "1.3.0", "1.2.9")
	w.edit("recipes/dewcalc/recipe.toml", "signature = [", "[[release]]\n[xsignature]\ny = [")
	w.write("recipes/dewcalc/recipe.toml", strings.NewReplacer("[[release]]\n[xsignature]\ny = [", "# [").
		Replace(w.read("recipes/dewcalc/recipe.toml")))
	text := w.read("recipes/dewcalc/recipe.toml")
	i, j := strings.Index(text, "# ["), strings.Index(text, "keys ")
	w.write("recipes/dewcalc/recipe.toml", text[:i]+text[j:])
	out = w.must("check", "dewcalc", "--online").stdout
	assert.Contains(t, out, "/dl/dewcalc-1.2.9.tar.gz: the server says 404 Not Found")
	assert.Contains(t, out, "release 1.4.2 names no signature, but there is one: "+site.URL+"/dl/dewcalc-1.4.2.tar.gz.asc")
}

func (w *world) sha256(name string) string {
	out, err := exec.Command("sha256sum", w.path(name)).Output()
	require.NoError(w.t, err)
	return string(out[:64])
}

func TestOffline(t *testing.T) {
	t.Parallel()
	w, site := newGarden(t)
	w.edit("recipes/mistplan/recipe.toml", "\"file://", "\"http://127.0.0.1:1")
	w.edit("recipes/dewcalc/recipe.toml", "\"file://", "\"http://127.0.0.1:1")
	r := w.fails(5, []string{"install", "mistplan", "--offline"},
		"These sources are missing, and the session is offline:\n    dewcalc 1.4.2: "+site.URL+"/dl/dewcalc-1.4.2.tar.gz",
		"mistplan 2.1.0: ", "curves-7.zip", "To fetch them: fernladder fetch")
	assert.NotContains(t, r.stderr, "loamdb", "which a file on this machine has")
	w.fails(5, []string{"lock", "mistplan:tip", "--offline"}, "the network is forbidden")
	w.fails(5, []string{"news", "dewcalc", "--offline"}, "the announcements of dewcalc cannot be fetched",
		"the network is forbidden")
	w.fails(2, []string{"install", "loamdb", "--isolation", "shut"}, "it can be open, fenced or sealed")
	w.fails(5, []string{"draft", site.URL + "/dl/sporegen-2.0.zip", "--offline"}, "the network is forbidden")
	assert.Empty(t, site.Asked())
	w.must("fetch", "mistplan")
	asked := len(site.Asked())
	w.must("install", "mistplan", "--offline")
	assert.Len(t, site.Asked(), asked)
}

// A token reaches its own host, and no other.
func TestCredentialsReachNoLog(t *testing.T) {
	t.Parallel()
	w, site := newGarden(t)
	plain, err := url.Parse(site.URL)
	require.NoError(t, err)
	secure := httptest.NewTLSServer(httputil.NewSingleHostReverseProxy(plain))
	defer secure.Close()
	w.write("site.pem", string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: secure.Certificate().Raw})))
	w.env = append(w.env, "SSL_CERT_FILE="+w.path("site.pem"))
	w.edit("recipes/sporegen/recipe.toml", site.URL, secure.URL)
	w.edit("recipes/sporegen/recipe.toml", "/dl/", "/locked/")
	w.edit("recipes/sporegen/recipe.toml", "\"file://", "\"http://127.0.0.1:1")
	w.fails(5, []string{"fetch", "sporegen"}, "the server says 401 Unauthorized")
	w.write("fernladder.toml", w.read("fernladder.toml")+"credentials = \"secrets.toml\"\n")
	w.write("secrets.toml", fmt.Sprintf("[[host]]\nname = %q\ntoken = \"open-sesame\"\n",
		strings.TrimPrefix(secure.URL, "https://")))
	w.fails(3, []string{"fetch", "sporegen"}, "others can read these credentials (mode 0644)", "chmod 600 secrets.toml")
	w.must("list") // which fetches nothing
	require.NoError(t, os.Chmod(w.path("secrets.toml"), 0o600))
	r := w.must("install", "sporegen", "--json")
	assert.NotContains(t, r.stdout+r.stderr+w.must("show", "sporegen", "--json").stdout+w.must("log", "sporegen").stdout,
		"sesame")
	left, err := exec.Command("grep", "-rl", "sesame", w.root).CombinedOutput()
	assert.Error(t, err, "%s", left)
}

func TestSingleFiles(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.write("curve.csv", "40,0.1\n")
	out, err := exec.Command("gzip", "-k", w.path("curve.csv")).CombinedOutput()
	require.NoError(t, err, string(out))
	w.pkg("fern", "[[extra]]\nname = \"curve\"\narchive = \"file://"+w.path("curve.csv.gz")+"\"\nsha256 = \""+
		w.sha256("curve.csv.gz")+"\"\ninto = \"data\"\n"+
		script("place", "grep -q 0.1 data/curve.csv; "+place("fern")))
	w.must("install", "fern")
	w.edit("recipes/fern/recipe.toml", `into = "data"`, `into = "leaf"`)
	w.fails(1, []string{"install", "fern"}, "data/curve.csv")
}

// An unusually large source is refused until the settings allow it.
func TestLargeSources(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.pkg("fern", script("place", place("fern")), "leaf", strings.Repeat("x", 3<<20))
	settings := w.read("fernladder.toml")
	w.write("fernladder.toml", settings+"largest_source = 2\n")
	w.fails(1, []string{"install", "fern"}, "makes the source too large: over ",
		"largest_source in the settings allows more")
	w.write("fernladder.toml", settings+"largest_source = 4\n")
	w.must("install", "fern")
}

// Parts that a build would download are gathered beforehand, with the network, for packages
// trusted with that. They are pinned, and unpacked from the root later.
func TestGathering(t *testing.T) {
	t.Parallel()
	needs(t, "sealed")
	w := newWorld(t)
	asked := 0
	leaves := "leaves\n"
	site := httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		asked++
		io.WriteString(rw, leaves)
	}))
	defer site.Close()
	curl := "[[host]]\nprogram = \"curl\"\npackages = { debian = \"curl\" }\n"
	w.write("station.cal", "mine\n")
	supply := "[[supply]]\nfile = \"station.cal\"\nsha256 = \"" + w.sha256("station.cal") + "\"\nabout = \"Calibration\"\n"
	extra := supply +
		"[[extra]]\nname = \"leaves\"\ninto = \"vendor/leaves\"\ngather = '''\ntest ! -e $FL_SUPPLY/station.cal\nmkdir -p " +
		"vendor/leaves/deep; curl -sS -o vendor/leaves/deep/leaf " + site.URL +
		"/$FL_VERSION; ln -s deep/leaf vendor/leaves/link; date >vendor/other\n'''\n"
	w.pkg("fern",
		extra+curl+
			"[build]\nmethod = \"script\"\n[steps]\nplace = '''\ntest -e $FL_SUPPLY/station.cal\nmkdir -p $FL_PREFIX/share; "+
			"cp vendor/leaves/link $FL_PREFIX/share/fern; test ! -e vendor/other\n! curl -sS "+site.URL+
			" || touch $FL_PREFIX/share/network\n'''\n")
	w.must("supply", "fern", "station.cal")
	w.fails(1, []string{"build", "fern"}, "fern 1.0 failed in stage gather: gathering the extra leaves needs the network",
		`trusted_network = ["fern"]`)
	assert.Zero(t, asked)
	w.write("fernladder.toml", "trusted_network = [\"fern\"]\n"+w.read("fernladder.toml"))
	r := w.fails(1, []string{"build", "fern"},
		"the recipe has no digest for the extra leaves. Check the gathered files in ")
	digest := regexp.MustCompile(`sha256 = ("[0-9a-f]{64}")`).FindStringSubmatch(r.stderr)
	require.NotNil(t, digest)
	w.edit("recipes/fern/recipe.toml", "name = \"leaves\"", "name = \"leaves\"\nsha256 = "+digest[1])
	leaves = "thorns\n"
	w.fails(1, []string{"build", "fern"},
		"the files gathered for the extra leaves do not match the recipe: their sha256 is ")
	leaves = "leaves\n"
	w.must("build", "fern")
	tree := strings.TrimPrefix(w.glob("root/trees/fern/1.0-*")[0], w.dir+"/")
	assert.Equal(t, "leaves\n", w.read(tree+"/share/fern"))
	assert.NoFileExists(t, w.path(tree+"/share/network"), "nothing else has it")
	before := asked
	w.must("remove", "--trees", "fern")
	w.must("clean", "--yes")
	w.must("--offline", "build", "fern")
	assert.Equal(t, before, asked, "it is here")
	w.must("remove", "--trees", "--with-archives", "fern")
	assert.Contains(t, w.must("fetch", "fern").stderr, "fernladder build --until unpack fern")
	w.fails(5, []string{"--offline", "build", "fern"}, "the files that the extra leaves gathers")
	w.edit("recipes/fern/recipe.toml", "curl -sS -o", "curl -sS -O x; curl -sS -o")
	w.fails(1, []string{"build", "fern"}, "fern 1.0 failed in stage gather")
	assert.NotEmpty(t, w.must("log", "fern", "--stage", "gather").stdout)
}

// A real git server behind TLS with the site's own authority requires a login; the credentials
// have it, and are sent to no other host.
func TestGitWithALogin(t *testing.T) {
	t.Parallel()
	backend, err := exec.Command("git", "--exec-path").Output()
	require.NoError(t, err)
	w := newWorld(t)
	w.write("src/fern/fern", "grown\n")
	w.sh("cd src/fern && git init -qb main . && git add . && git -c user.name=x -c user.email=x@vale.example commit " +
		"-qm x && git tag v1.0 && cd .. && git clone -q --bare fern fern.git")
	served := &cgi.Handler{Path: strings.TrimSpace(string(backend)) + "/git-http-backend",
		Env: []string{"GIT_PROJECT_ROOT=" + w.path("src"), "GIT_HTTP_EXPORT_ALL=1"}}
	secure := httptest.NewTLSServer(http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		if user, password, _ := r.BasicAuth(); user != "grower" || password != "open-sesame" {
			rw.Header().Set("WWW-Authenticate", "Basic realm=vale")
			rw.WriteHeader(http.StatusUnauthorized)
			return
		}
		served.ServeHTTP(rw, r)
	}))
	defer secure.Close()
	w.write("site.pem", string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: secure.Certificate().Raw})))
	commit := strings.TrimSpace(w.sh("git -C src/fern rev-parse HEAD").stdout)
	w.write("recipes/fern/recipe.toml",
		fmt.Sprintf("format = 1\n[package]\nname = \"fern\"\nsummary = \"A test\"\n[[release]]\nversion = \"1.0\"\ngit = "+
			"\"%s/fern.git\"\ncommit = %q\n", secure.URL, commit)+
			script("place", "mkdir -p $FL_PREFIX/share; cp fern $FL_PREFIX/share"))
	w.fails(5, []string{"fetch", "fern"}, "certificate")
	w.env = append(w.env, "SSL_CERT_FILE="+w.path("site.pem"))
	w.fails(5, []string{"fetch", "fern"},
		"the server requires a login\n  Add one for this host to the file that credentials in the settings names")
	w.write("fernladder.toml", "credentials = \"secrets.toml\"\n"+w.read("fernladder.toml"))
	w.write("secrets.toml", fmt.Sprintf("[[host]]\nname = %q\nuser = \"grower\"\npassword = \"open-sesame\"\n",
		strings.TrimPrefix(secure.URL, "https://")))
	require.NoError(t, os.Chmod(w.path("secrets.toml"), 0o600))
	w.must("install", "fern")
	left, err := exec.Command("grep", "-rlE", "sesame|"+base64.StdEncoding.EncodeToString([]byte("grower:open-sesame")),
		w.root).CombinedOutput()
	assert.Error(t, err, "%s", left)
}
