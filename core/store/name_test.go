package store

import (
	"encoding/json"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// Any file name survives JSON.
func TestNamesComeBackFromJSON(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		name := Name(rapid.OneOf(rapid.StringN(0, 20, -1), rapid.Just("hex:6d"),
			rapid.Map(rapid.SliceOf(rapid.Byte()), func(b []byte) string { return string(b) })).Draw(t, "name"))
		data, err := json.Marshal([]Name{name})
		require.NoError(t, err)
		var back []Name
		require.NoError(t, json.Unmarshal(data, &back))
		require.Equal(t, []Name{name}, back)
	})
}

// The owner of a file is found through links from anywhere.
func TestOwners(t *testing.T) {
	s := &Store{Root: filepath.Join(t.TempDir(), "root")}
	require.NoError(t, s.Prepare())
	fern := Ref{Name: "fern", Version: "1.0", ID: "0123456789ab"}
	stage := filepath.Join(t.TempDir(), "stage")
	require.NoError(t, os.MkdirAll(filepath.Join(stage, "share/a b"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(stage, "share/a b/é"), nil, 0o644))
	require.NoError(t, os.Symlink("a b", filepath.Join(stage, "share/link")))
	_, _, err := s.Place(stage, fern, nil)
	require.NoError(t, err)
	require.NoError(t, s.Commit(&Receipt{Ref: fern}))
	dir := t.TempDir()
	link := func(name, target string) string {
		require.NoError(t, os.Symlink(target, filepath.Join(dir, name)))
		return filepath.Join(dir, name)
	}
	file := filepath.Join(s.Tree(fern), "share/a b/é")
	require.NoError(t, os.WriteFile(filepath.Join(s.Tree(fern), "share/later"), nil, 0o644))
	for path, want := range map[string]owner{
		file:               {Build: fern, Name: "fern", File: "share/a b/é", Listed: true},
		link("one", file):  {Build: fern, Name: "fern", File: "share/a b/é", Listed: true, Links: 1},
		link("two", "one"): {Build: fern, Name: "fern", File: "share/a b/é", Listed: true, Links: 2},
		link("folder", s.Tree(fern)) + "/share/link": {Build: fern, Name: "fern", File: "share/link", Listed: true},
		filepath.Join(s.Tree(fern), "share/later"):   {Build: fern, Name: "fern", File: "share/later"},
	} {
		o, ours, err := s.OwnerOf(path)
		require.NoError(t, err, path)
		assert.True(t, ours, path)
		assert.Equal(t, want, o, path)
	}
	for _, path := range []string{link("round", "round"), "/", s.Root, link("out", "/etc")} {
		_, ours, err := s.OwnerOf(path)
		assert.NoError(t, err, path)
		assert.False(t, ours, path)
	}
	_, _, err = s.OwnerOf(filepath.Join(dir, "absent"))
	assert.ErrorIs(t, err, os.ErrNotExist)
	found, err := s.Named("é")
	require.NoError(t, err)
	assert.Equal(t, []owner{{Build: fern, Name: "fern", File: "share/a b/é", Listed: true}}, found)
}
