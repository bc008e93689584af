package settings

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fernladder/core/recipe"
)

// place is a working directory below a home, both empty.
func place(t *testing.T, env map[string]string) Place {
	home := t.TempDir()
	working := filepath.Join(home, "work", "deep")
	require.NoError(t, os.MkdirAll(working, 0o755))
	if env == nil {
		env = map[string]string{}
	}
	env["HOME"] = home
	return Place{Working: working, Getenv: func(name string) string { return env[name] }}
}

func write(t *testing.T, file, text string) string {
	require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
	require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
	return file
}

func TestTheNearestSettingsCount(t *testing.T) {
	p := place(t, nil)
	home := p.Getenv("HOME")
	user := write(t, filepath.Join(home, ".config/fernladder", FileName), "")
	assert.Equal(t, user, find(t, p))
	above := write(t, filepath.Join(home, "work", FileName), "")
	assert.Equal(t, above, find(t, p))
	here := write(t, filepath.Join(p.Working, FileName), "")
	assert.Equal(t, here, find(t, p))

	configured := t.TempDir()
	p = place(t, map[string]string{"XDG_CONFIG_HOME": configured})
	file := write(t, filepath.Join(configured, "fernladder", FileName), "")
	assert.Equal(t, file, find(t, p))
}

func TestPathsStartAtTheFile(t *testing.T) {
	p := place(t, nil)
	above := filepath.Dir(p.Working)
	file := write(t, filepath.Join(above, FileName),
		"root = \"../keep\"\nshelves = [\"deep/recipes\", \"/srv/recipes\"]\njobs = 3\npath = [\"/opt/cc/bin\"]\n")
	s, err := Read(file, p)
	require.NoError(t, err)
	want := defaults()
	want.File, want.Root, want.Jobs, want.Path = file, filepath.Join(p.Getenv("HOME"), "keep"), 3, []string{"/opt/cc/bin"}
	want.Shelves = []recipe.Shelf{{Dir: filepath.Join(p.Working, "recipes"), Shown: "recipes"},
		{Dir: "/srv/recipes", Shown: "/srv/recipes"}}
	assert.Equal(t, want, s)
}

func find(t *testing.T, p Place) string {
	file, err := Find(p)
	require.NoError(t, err)
	return file
}

// Settings above the working directory that another user can have written are ignored.
func TestSettingsOfOthersDoNotCount(t *testing.T) {
	refused := func(p Place, why string) {
		_, err := Find(p)
		require.ErrorIs(t, err, Foreign)
		assert.ErrorContains(t, err, why)
	}
	p := place(t, nil)
	above := filepath.Dir(p.Working)
	file := write(t, filepath.Join(above, FileName), "")
	assert.Equal(t, file, find(t, p))
	require.NoError(t, os.Chmod(file, 0o666))
	refused(p, "everyone can write to "+file)
	require.NoError(t, os.Chmod(file, 0o644))
	require.NoError(t, os.Chmod(above, 0o777|os.ModeSticky))
	refused(p, "everyone can write to "+above)

	// A link to good settings would change the base of their relative paths.
	good := write(t, filepath.Join(t.TempDir(), FileName), "")
	require.NoError(t, os.Remove(file))
	require.NoError(t, os.Symlink(good, file))
	refused(p, "everyone can write to "+above)
	require.NoError(t, os.Chmod(above, 0o755))
	assert.Equal(t, file, find(t, p))
	require.NoError(t, os.Chmod(filepath.Dir(good), 0o777))
	refused(p, "everyone can write to "+filepath.Dir(good))
	require.NoError(t, os.Chmod(filepath.Dir(good), 0o755))

	if os.Geteuid() != 0 {
		t.Skip("only root can give files away")
	}
	require.NoError(t, os.Chown(good, 1234567, -1))
	refused(p, good+" belongs to user 1234567")
	p.Super = true
	getenv := p.Getenv
	p.Getenv = func(name string) string {
		if name == "SUDO_UID" {
			return "1234567"
		}
		return getenv(name)
	}
	assert.Equal(t, file, find(t, p), "root by sudo takes the settings of who called it")
	p.Super = false
	refused(p, good+" belongs to user 1234567")
}

func TestWhatHoldsWithoutSettings(t *testing.T) {
	p := place(t, nil)
	s, err := Read("", p)
	require.NoError(t, err)
	want := defaults()
	want.Root, want.Path = filepath.Join(p.Getenv("HOME"), ".local/share/fernladder"), SystemPath
	assert.Equal(t, want, s)
	p.Super = true
	s, err = Read("", p)
	require.NoError(t, err)
	assert.Equal(t, "/opt/fernladder", s.Root)
}

func TestMistakesInSettings(t *testing.T) {
	p := place(t, nil)
	_, err := Read(write(t, filepath.Join(p.Working, FileName), "path = [\"bin\"]\nrot = \"x\"\n"), p)
	assert.ErrorContains(t, err, `fernladder.toml:1:9: "bin" must begin with /`)
	assert.ErrorContains(t, err, `fernladder.toml:2:1: "rot" is not a key of the file`)
	_, err = Read(filepath.Join(p.Working, "absent.toml"), p)
	assert.ErrorContains(t, err, "absent.toml: these settings cannot be read: no such file or directory")
}

// Any settings are read or rejected.
func FuzzSettings(f *testing.F) {
	f.Add("root = \"x\"\nbuild_users = \"1-2\"\nisolation = \"sealed\"\n[wanted.fern]\nversion = \"2.*\"\noptions = { " +
		"tall = true }\n")
	f.Add("build_users = \"none\"\n[[remote_shelf]]\ngit = \"https://vale.example/x.git\"\ncommit = \"00\"\n")
	f.Fuzz(func(t *testing.T, text string) {
		file := filepath.Join(t.TempDir(), FileName)
		require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
		Read(file, Place{Working: t.TempDir(), Getenv: func(string) string { return "" }})
	})
}

// The file is written whoever owns it, and if its name is a link; an edit that would make it
// unreadable is not written.
func TestWant(t *testing.T) {
	p := place(t, nil)
	file := write(t, filepath.Join(p.Working, "mine", FileName), "jobs = 2  # enough\n")
	require.NoError(t, os.Chmod(file, 0o640))
	link := filepath.Join(p.Working, FileName)
	require.NoError(t, os.Symlink(file, link))
	require.NoError(t, Want(link, p, "moss", []Choice{{"plots", "true"}, {"beds", "7"}}))
	require.NoError(t, Want(link, p, "moss", []Choice{{"plots", ""}}))
	data, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, "jobs = 2  # enough\n\n[wanted.moss]\noptions = { beds = 7 }\n", string(data))
	info, err := os.Lstat(file)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o640), info.Mode())
	info, err = os.Lstat(link)
	require.NoError(t, err)
	assert.NotZero(t, info.Mode()&os.ModeSymlink)

	broken := write(t, filepath.Join(p.Working, "broken", FileName), "wanted = 3\n")
	assert.Error(t, Want(broken, p, "moss", []Choice{{"plots", "true"}}))
	data, err = os.ReadFile(broken)
	require.NoError(t, err)
	assert.Equal(t, "wanted = 3\n", string(data))
	entries, err := os.ReadDir(filepath.Dir(file))
	require.NoError(t, err)
	assert.Len(t, entries, 1, "nothing is left beside it")
}
