package draft

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The name of an archive: from its file, from the folder in it, from its URL.
func TestTitles(t *testing.T) {
	for from, c := range map[string]struct{ top, title, name, version string }{
		"https://vale.example/dl/fern-1.2.tar.gz":                  {"fern-1.2", "fern-1.2.tar.gz", "fern", "1.2"},
		"https://vale.example/fern/archive/4.2.zip":                {"fern-4.2", "fern-4.2", "fern", "4.2"},
		"https://vale.example/fern/archive/refs/tags/v4.2.tar.gz":  {"fern-4.2", "fern-4.2", "fern", "4.2"},
		"https://vale.example/garden/fern/-/archive/v4.2.zip":      {"", "fern-v4.2", "fern", "4.2"},
		"https://vale.example/fern/archive/master.zip":             {"fern-master", "fern-master", "fern", ""},
		"https://vale.example/fern/archive/refs/heads/main.tar.gz": {"trunk", "fern-main", "fern", ""},
		"file:///srv/fern-3.0.5-bin.tar.gz":                        {"fern-3.0.5", "fern-3.0.5-bin.tar.gz", "fern", "3.0.5"},
		"file:///srv/fern-3.0.5-linux-x86_64.tgz":                  {"", "fern-3.0.5-linux-x86_64.tgz", "fern", "3.0.5"},
		"file:///srv/fern-src-2.1.tgz":                             {"", "fern-src-2.1.tgz", "fern", "2.1"},
		"file:///srv/Moss-Fern-7ab0241.tgz":                        {"", "Moss-Fern-7ab0241.tgz", "moss-fern", ""},
		"file:///srv/7leaf-1.0.zip":                                {"", "7leaf-1.0.zip", "7leaf", "1.0"},
		"file:///srv/fern-20230407b.tgz":                           {"", "fern-20230407b.tgz", "fern", "20230407b"},
		"file:///srv/trunk.zip":                                    {"", "trunk.zip", "", ""},
	} {
		title := titled(from, c.top)
		assert.Equal(t, c.title, title, from)
		s := Read(sourceOf("Makefile", "PREFIX=/usr\ninstall:\n"), title)
		assert.Equal(t, c.name, s.Name.Value, from)
		assert.Equal(t, c.version, s.Version.Value, from)
	}
	s := Read(sourceOf("configure.ac", "AC_INIT([fern],[3.6])"), "fern-3.6.4.tar.gz")
	assert.Equal(t, "3.6.4", s.Version.Value, "the archive's name says more")
	url, _, open := (&Source{Version: Finding{Value: "3.6"}}).
		openURL(Origin{URL: "https://vale.example/dl/fern-3.6.4.tar.gz"})
	assert.False(t, open, url)

	for from, want := range map[string]string{
		"https://vale.example/fern/archive/refs/heads/main.zip":           "https://vale.example/fern.git",
		"https://vale.example/g/fern/-/archive/master/fern-master.tar.gz": "https://vale.example/g/fern.git",
		"https://vale.example/dl/fern-master.zip":                         "",
		"https://vale.example/fern/archive/4.2.zip":                       "no",
	} {
		repository, is := branchOf(from)
		if !is {
			repository = "no"
		}
		assert.Equal(t, want, repository, from)
	}
	s = Read(sourceOf("configure", generated), "fern-main.zip")
	s.Confirm(Origin{URL: "https://vale.example/fern/archive/main.zip", SHA256: "00"})
	assert.Contains(t, s.Compose(Origin{URL: "https://vale.example/fern/archive/main.zip", SHA256: "00"}, Decided{},
		"debian"),
		"# open: another source than this archive: it is of a branch, and changes without notice; a release of the "+
			"repository does not: git = \"https://vale.example/fern.git\"\n")
	s = Read(sourceOf("meson.build", "project('fern', version: '2.0-rc1')"), "fern-2.0-rc1.zip")
	assert.Contains(t, s.Compose(Origin{URL: "https://vale.example/x", SHA256: "00"}, Decided{}, "debian"),
		"\ntrack   = \"preview\"\n")
}

// The clone of a repository names its origin; nothing in it is run, and links are not followed.
func TestClones(t *testing.T) {
	aaaa, bbbb, cccc := strings.Repeat("a", 40), strings.Repeat("b", 40), strings.Repeat("c", 40)
	dir := t.TempDir()
	write := func(name, text string) {
		file := filepath.Join(dir, ".git", name)
		require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
		require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
	}
	assert.Equal(t, Origin{}, cloned(dir))
	write("config",
		"[core]\n\turl = x\n[remote \"other\"]\n\turl = https://x.example/y.git\n[remote \"origin\"]\n\turl = "+
			"https://vale.example/fern.git\n\tfetch = +refs\n")
	write("HEAD", "ref: refs/heads/main\n")
	write("refs/heads/main", aaaa+"\n")
	write("packed-refs", strings.NewReplacer("aaaa", aaaa, "bbbb", bbbb, "cccc", cccc).
		Replace("# pack-refs with: peeled\nbbbb refs/heads/main\nbbbb refs/tags/v1.9\naaaa refs/tags/fern-1.2\ncccc "+
			"refs/tags/v1.10\n^aaaa\ncccc refs/tags/nightly\n^aaaa\n"))
	assert.Equal(t, Origin{Git: "https://vale.example/fern.git", Branch: "main", Commit: aaaa, Tag: "v1.10",
		Version: "1.10"}, cloned(dir))
	require.NoError(t, os.Remove(filepath.Join(dir, ".git/refs/heads/main")))
	assert.Equal(t, "1.9", cloned(dir).Version, "of a clone that packed all")
	require.NoError(t, os.RemoveAll(filepath.Join(dir, ".git/refs")))
	secret := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(secret, "main"), []byte(aaaa+"\n"), 0o600))
	require.NoError(t, os.Symlink(secret, filepath.Join(dir, ".git/refs")))
	write("HEAD", "ref: refs/main\n")
	assert.Equal(t, Origin{}, cloned(dir), "through a link to another user's file")
	write("HEAD", "ref: config\n")
	assert.Equal(t, Origin{}, cloned(dir), "a file that has no commit")
	write("HEAD", "ref: ../../../etc/passwd\n")
	assert.Equal(t, Origin{}, cloned(dir))
	write("HEAD", aaaa+"\n")
	assert.Equal(t, Origin{}, cloned(dir), "no branch")
}
