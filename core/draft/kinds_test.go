package draft

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fernladder/core/host"
	"fernladder/core/recipe"
	"fernladder/core/store"
	"fernladder/core/tomlfile"
)

// Sources without a known method get the steps that a person would take.
func TestKindsOfSources(t *testing.T) {
	for name, c := range map[string]struct {
		files []string
		want  string // name, version, steps, what is needed
		says  string // in one of the steps
	}{
		"perl": {[]string{"Makefile.PL", "", "META.json",
			`{"prereqs":{"runtime":{"requires":{"perl":"5.8","Leaf::Moss":"1"}}}}`},
			"fern 1.0 configure compile place: perl make cc ExtUtils::MakeMaker Leaf::Moss", "INSTALL_BASE=$FL_PREFIX"},
		"perl, newer": {[]string{"Build.PL", "", "Makefile", "all:\n"},
			"fern 1.0 configure compile place: perl cc Module::Build", "./Build install --destdir=$DESTDIR"},
		"python": {[]string{"pyproject.toml",
			"[build-system]\nrequires = [\"leaf-core>=3\"]\n[project]\nname = \"Moss\"\nversion = \"2.1\"\ndependencies = " +
				"[\"reed>=1\", \"old; python_version<'3'\"]\n", "Makefile", "test:\n"},
			"moss 2.1 place: python3 pip leaf.core reed", "--no-index"},
		"python, older": {[]string{"setup.py", "setup(name='moss',\n version='2.0', ext_modules=[])"},
			"moss 2.0 place: python3 pip setuptools wheel cc", "lib/python"},
		"rust": {[]string{"Cargo.toml", "[package]\nname = \"moss\"\nversion = \"3.0.1\"\n",
			"vendor/leaf/Cargo.toml", ""}, "moss 3.0.1 compile place: cargo cc",
			"cp target/release/moss $DESTDIR$FL_PREFIX/bin"},
		"go": {[]string{"go.mod", "module vale.example/garden/moss/v2\n\nrequire x v1\n", "cmd/grow/main.go",
			"package main\n", "vendor/modules.txt", ""}, "moss 1.0 compile place: go",
			"-mod=vendor -o $FL_BUILD/out/ ./cmd/grow"},
		"waf": {[]string{"wscript", "", "waf", ""}, "fern 1.0 configure compile place: python3 cc",
			"python3 ./waf install --destdir=$DESTDIR"},
		"scons": {[]string{"SConstruct",
			"AddOption('--x')\nARGUMENTS.get('PREFIX', '/usr')\nARGUMENTS.get('DESTDIR')"}, "fern 1.0 compile place: scons cc",
			"scons install PREFIX=$FL_PREFIX DESTDIR=$DESTDIR"},
		"perl, own parts": {[]string{"Makefile.PL", "use inc::Module::Install", "inc/Module/Install.pm", ""},
			"fern 1.0 configure compile place: perl make cc ExtUtils::MakeMaker", "PERL_USE_UNSAFE_INC=1 perl"},
		"built already": {[]string{"bin/fern", "\x7fELF", "share/fern/data", "x"}, "fern 1.0 place:",
			"cp -R . $DESTDIR$FL_PREFIX"},
		"fonts": {[]string{"moss.ttf", "x", "docs/About moss.pdf", "x", "COPYING", "x"}, "fern 1.0 place:",
			"share/fonts/$FL_NAME"},
		"pictures": {[]string{"moss.png", "x", "README", "x"}, "fern 1.0 place:",
			"cp -R . $DESTDIR$FL_PREFIX/share/$FL_NAME"},
		"code alone": {[]string{"moss.png", "x", "moss.c", "x"}, "fern 1.0 :", ""},
		"a makefile too": {[]string{"setup.py", "setup(name='moss')", "Makefile", "install:\n\tcp x $(DESTDIR)$(PREFIX)\n"},
			"fern 1.0 :", ""},
	} {
		s := Read(sourceOf(c.files...), "fern-1.0.tar.gz")
		got, script := s.Name.Value+" "+s.Version.Value, ""
		for _, step := range s.Steps {
			got += " " + step[0]
			script += step[1] + "\n"
		}
		if len(s.Steps) == 0 {
			got += " "
		}
		got += ":"
		for _, l := range s.Lookups {
			got += " " + l.Name()
		}
		assert.Equal(t, c.want, got, name)
		assert.Contains(t, script, c.says, name)
	}
}

// A file that is not in the archive has to be supplied by a person; its digests are known.
func TestCratesThatAreNotThere(t *testing.T) {
	s := Read(sourceOf("Cargo.toml", "[package]\nname = \"moss\"\nversion = \"3.0.1\"\n", "Cargo.lock",
		"[[package]]\nname = \"leaf\"\nversion = \"1.2.0\"\nchecksum = \""+strings.Repeat("a", 64)+
			"\"\n[[package]]\nname = \"moss\"\nversion = \"3.0.1\"\n"), "moss")
	known, err := Survey(shelf(t), &store.Store{Root: t.TempDir()})
	require.NoError(t, err)
	text := s.Compose(Origin{}, s.Decide(Evidence{Known: known}), "debian")
	assert.Contains(t, text,
		"# [[extra]]\n# name    = \"leaf-1.2.0\"\n# archive = \"https://…/leaf-1.2.0.crate\"\n# sha256  = \""+
			strings.Repeat("a", 64)+"\"\n# into    = \"vendor/leaf-1.2.0\"\n")
	assert.Contains(t, text, "# open: where its 1 crates come from: Cargo.lock")
}

// Texts, scripts and packaging files name needs for other systems. None of them is run.
func TestHints(t *testing.T) {
	files := sourceOf("Installation.TXT",
		"Run `sudo apt-get install -y libmoss1g-dev \\\n    leaf-tools` or dnf install Moss-devel.\nThen ./configure "+
			"--prefix=/usr --enable-plots \\\n  --with-moss=builtin\n\n  $ make samples\nmake sure that it runs; make install\n",
		"README", "Nothing.", "fern.spec",
		"BuildRequires: moss-devel >= 2, pkgconfig(leaf)\nBuildRequires:\tbison\n%if 0%{?suse_version}\n",
		"debian/control",
		"Source: fern\nBuild-Depends: debhelper (>= 12), libfrond-dev (>= 1.2) [amd64] | frond-dev,\n libleaf-dev "+
			"<!nocheck>\nHomepage: x\n",
		".github/workflows/c.yml", "run: sudo pacman -S --noconfirm moss\n", "install-deps.sh",
		"apk --no-cache add moss-dev\n", "src/README", "apt install nothing\n")
	hints := Hints(files)
	froms := map[string]Hint{}
	for _, h := range hints {
		froms[h.From] = h
	}
	assert.Equal(t,
		Hint{"Installation.TXT", map[string][]string{"debian": {"libmoss1g-dev", "leaf-tools"}, "fedora": {"Moss-devel"}},
			[]string{"--enable-plots", "--with-moss=builtin"}, []string{"samples"}}, hints[0])
	assert.Equal(t, []string{"debhelper", "libfrond-dev", "libleaf-dev"}, froms["debian/control"].Packages["debian"])
	assert.Equal(t, map[string][]string{"fedora": {"moss-devel", "bison"}, "suse": {"moss-devel", "bison"}},
		froms["fern.spec"].Packages)
	assert.Len(t, hints, 5)
	moss := host.Question{Kind: host.Header, Name: "moss/moss.h"}
	want := []tomlfile.Pair{{Name: "debian", Values: []string{"libmoss1g-dev"}},
		{Name: "fedora", Values: []string{"mine"}}, {Name: "suse", Values: []string{"moss-devel"}},
		{Name: "arch", Values: []string{"moss"}}, {Name: "alpine", Values: []string{"moss-dev"}}}
	assert.Equal(t, want, packagesFor(hints, moss, "", []tomlfile.Pair{{Name: "fedora", Values: []string{"mine"}}}))
	assert.Empty(t, packagesFor(hints, host.Question{Kind: host.Module, Name: "mossy"}, "", nil))
}

// The URL of a release serves for later ones if it contains the version.
func TestURLsOfLaterReleases(t *testing.T) {
	for url, want := range map[string]string{
		"https://vale.example/dl/fern-1.2.0.tar.gz": "https://vale.example/dl/fern-$FL_VERSION.tar.gz " +
			"https://vale.example/dl/",
		"https://vale.example/fern/1.2.0/fern-1.2.0.tar.gz":  "https://vale.example/fern/$FL_VERSION/fern-$FL_VERSION.tar.gz ",
		"https://vale.example/dl/fern-latest.tar.gz":         " ",
		"file:///srv/fern-1.2.0.tar.gz":                      " ",
		"https://vale.example/dl/fern-1.2.0-of-1.2.0.tar.gz": " ",
		"https://vale.example/dl/get?fern=fern-1.2.0.tar.gz": "https://vale.example/dl/get?fern=fern-$FL_VERSION.tar.gz ",
	} {
		s := &Source{Version: Finding{Value: "1.2.0"}}
		got, page, _ := s.openURL(Origin{URL: url})
		assert.Equal(t, want, got+" "+page, url)
	}
}

// A source newer than the recipe is recognised.
func TestWhatANewerSourceChanges(t *testing.T) {
	r := &recipe.Recipe{Name: "mistplan", Options: []*recipe.Option{{Name: "plots", On: []string{"--enable-plots"}},
		{Name: "old", Off: []string{"--disable-old"}}, {Name: "moss", Values: []tomlfile.Pair{}}},
		HostNeeds: []*recipe.HostNeed{{Program: "pkg-config"}}}
	s := Read(sourceOf("configure", generated+"  --enable-plots     x\n  --enable-new          grow anew\n",
		"configure.ac", "PKG_CHECK_MODULES([L], [leaf])\nPKG_CHECK_MODULES([M], [moss])\n"), "x-1")
	came, went := s.Changes(r)
	assert.Equal(t, []string{"option new (Grow anew)", "it looks for the module leaf"}, came)
	assert.Equal(t, []string{"option old"}, went)
}
