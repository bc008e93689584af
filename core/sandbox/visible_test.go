package sandbox_test

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fernladder/core/host"
)

// Declared things are visible, with what they require; nothing else except the base is.
func TestWhatIsSeen(t *testing.T) {
	s := thisSystem(t, t.TempDir())
	sight, err := s.Sight(t.Context(), declared())
	require.NoError(t, err)
	for _, seen := range []string{"/usr/bin/cc", "/usr/bin/make", "/usr/bin/awk", "/usr/bin/sed", "/usr/bin/env",
		"/usr/include/stdio.h", "/usr/bin/ld"} {
		assert.False(t, sight.Hides(seen), seen)
	}
	for _, hidden := range []string{"/usr/local/bin", "/usr/bin/git", "/usr/share/doc/gcc", "/usr/bin/apt-get"} {
		if _, err := os.Lstat(hidden); err == nil {
			assert.True(t, sight.Hides(hidden), hidden)
		}
	}
	assert.False(t, sight.Hides("/usr/local"), "it is there, and empty")
	git := host.Question{Kind: host.Program, Name: "git"}
	if s.Programs.Find("git") == "/usr/bin/git" {
		other, err := s.Sight(t.Context(), declared(git))
		require.NoError(t, err)
		assert.False(t, other.Hides("/usr/bin/git"))
		assert.False(t, other.Hides("/usr/lib/git-core/git"), "its other files come with it")
		assert.Subset(t, other.Packages, sight.Packages)
	}
	file := host.Question{Kind: host.File, Name: "/usr/local/bin"}
	other, err := s.Sight(t.Context(), declared(file))
	require.NoError(t, err)
	assert.False(t, other.Hides("/usr/local/bin/anything"), "what is declared by its path is seen with all that is in it")
	assert.True(t, other.Hides("/usr/local/share"))
}

// Findings are kept until the machine changes.
func TestWhatIsKept(t *testing.T) {
	dir := t.TempDir()
	first, err := thisSystem(t, dir).Sight(t.Context(), declared())
	require.NoError(t, err)
	again, err := thisSystem(t, dir).Sight(t.Context(), declared())
	require.NoError(t, err)
	assert.Equal(t, first.Packages, again.Packages)
	assert.Equal(t, first.Layer, again.Layer)
	a, err := first.Hidden()
	require.NoError(t, err)
	b, err := again.Hidden()
	require.NoError(t, err)
	assert.Equal(t, a, b)
	if first.Layer != "" {
		info, err := os.Lstat(filepath.Join(first.Layer, "/usr/local/bin"))
		require.NoError(t, err)
		assert.NotZero(t, info.Mode()&os.ModeCharDevice, "a mark")
	}
	kept, err := filepath.Glob(filepath.Join(dir, "*.json"))
	require.NoError(t, err)
	require.Len(t, kept, 1)
	for _, damage := range []string{"", "{",
		`{"state":"other","packages":["none"],"looked":[{"dir":"/usr"}],"digest":"x"}`} {
		require.NoError(t, os.WriteFile(kept[0], []byte(damage), 0o644))
		again, err := thisSystem(t, dir).Sight(t.Context(), declared())
		require.NoError(t, err)
		assert.Equal(t, first.Packages, again.Packages, damage)
	}
}

// Unused layers are removed when a new one is made, with what killed programs have left; layers
// in use stay.
func TestWhatIsSwept(t *testing.T) {
	dir := t.TempDir()
	first, err := thisSystem(t, dir).Sight(t.Context(), declared())
	require.NoError(t, err)
	if first.Layer == "" {
		t.Skip("this file system cannot have layers")
	}
	age := func() {
		entries, err := os.ReadDir(dir)
		require.NoError(t, err)
		old := time.Now().Add(-31 * 24 * time.Hour)
		for _, e := range entries {
			require.NoError(t, os.Chtimes(filepath.Join(dir, e.Name()), old, old))
		}
	}
	killed, running := filepath.Join(dir, ".layer-killed"), filepath.Join(dir, ".layer-running")
	require.NoError(t, os.MkdirAll(killed+"/usr", 0o755))
	age()
	require.NoError(t, os.Mkdir(running, 0o755))
	used, err := thisSystem(t, dir).Sight(t.Context(), declared())
	require.NoError(t, err)
	other := func(path string) {
		_, err := thisSystem(t, dir).Sight(t.Context(), declared(host.Question{Kind: host.File, Name: path}))
		require.NoError(t, err)
	}
	other("/usr/local/bin")
	assert.NoDirExists(t, killed)
	assert.DirExists(t, running)
	assert.DirExists(t, used.Layer, "it was asked for just before")
	hidden, err := used.Hidden()
	require.NoError(t, err, "and so was its list")
	age()
	other("/usr/local/share")
	assert.NoDirExists(t, used.Layer)
	again, err := thisSystem(t, dir).Sight(t.Context(), declared())
	require.NoError(t, err)
	assert.DirExists(t, again.Layer)
	now, err := again.Hidden()
	require.NoError(t, err)
	assert.Equal(t, hidden, now)
}
