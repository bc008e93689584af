package settings

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fernladder/core/recipe"
)

// place is a working directory below a home, with nothing in either.
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
	assert.Equal(t, user, Find(p))
	above := write(t, filepath.Join(home, "work", FileName), "")
	assert.Equal(t, above, Find(p))
	here := write(t, filepath.Join(p.Working, FileName), "")
	assert.Equal(t, here, Find(p))

	configured := t.TempDir()
	p = place(t, map[string]string{"XDG_CONFIG_HOME": configured})
	file := write(t, filepath.Join(configured, "fernladder", FileName), "")
	assert.Equal(t, file, Find(p))
}

func TestPathsStartAtTheFile(t *testing.T) {
	p := place(t, nil)
	above := filepath.Dir(p.Working)
	file := write(t, filepath.Join(above, FileName), "root = \"../keep\"\nshelves = [\"deep/recipes\", \"/srv/recipes\"]\njobs = 3\npath = [\"/opt/cc/bin\"]\n")
	s, err := Read(file, p)
	require.NoError(t, err)
	want := defaults()
	want.File, want.Root, want.Jobs, want.Path = file, filepath.Join(p.Getenv("HOME"), "keep"), 3, []string{"/opt/cc/bin"}
	want.Shelves = []recipe.Shelf{{Dir: filepath.Join(p.Working, "recipes"), Shown: "recipes"}, {Dir: "/srv/recipes", Shown: "/srv/recipes"}}
	assert.Equal(t, want, s)
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

// Whatever settings are, they are read or refused.
func FuzzSettings(f *testing.F) {
	f.Add("root = \"x\"\nbuild_users = \"1-2\"\nisolation = \"sealed\"\n[wanted.fern]\nversion = \"2.*\"\noptions = { tall = true }\n")
	f.Add("build_users = \"none\"\n[[remote_shelf]]\ngit = \"https://vale.example/x.git\"\ncommit = \"00\"\n")
	f.Fuzz(func(t *testing.T, text string) {
		file := filepath.Join(t.TempDir(), FileName)
		require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
		Read(file, Place{Working: t.TempDir(), Getenv: func(string) string { return "" }})
	})
}
