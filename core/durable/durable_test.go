package durable

import (
	"io"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// A file is in its old or new state, and nothing else is left, whatever goes wrong.
func TestWriteFile(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "fern")
	require.NoError(t, WriteFile(file, []byte("one"), 0o640))
	require.NoError(t, os.WriteFile(Aside(file), []byte("half"), 0o400)) // by a program that was killed
	require.NoError(t, WriteFile(file, []byte("two"), 0o604))
	data, err := os.ReadFile(file)
	require.NoError(t, err)
	info, err := os.Stat(file)
	require.NoError(t, err)
	assert.Equal(t, []any{"two", os.FileMode(0o604)}, []any{string(data), info.Mode()})

	require.NoError(t, os.Mkdir(filepath.Join(dir, "taken"), 0o755))
	require.NoError(t, os.Mkdir(filepath.Join(dir, "taken", "x"), 0o755))
	require.Error(t, WriteFile(filepath.Join(dir, "taken"), []byte("three"), 0o644))
	require.Error(t, WriteFile(filepath.Join(dir, "none", "fern"), []byte("three"), 0o644))
	assert.Equal(t, []string{"fern", "taken"}, names(t, dir))
}

// What a killed program has left is removed; the files of running writers stay.
func TestSweep(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "fern")
	left := filepath.Join(dir, ".moss.1.new")
	require.NoError(t, os.WriteFile(left, nil, 0o600))
	require.NoError(t, Stream(file, 0o604, func(w io.Writer) error {
		require.NoError(t, Sweep(dir))
		require.NoFileExists(t, left)
		return Stream(file, 0o644, func(io.Writer) error { return nil })
	}))
	info, err := os.Stat(file)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o604), info.Mode(), "the last to end wins")
	assert.Equal(t, []string{"fern"}, names(t, dir))
}

func TestAFullDisk(t *testing.T) {
	dir := t.TempDir()
	if err := unix.Mount("tmpfs", dir, "tmpfs", 0, "size=64k"); err != nil {
		t.Skip("only root can make a small disk:", err)
	}
	defer unix.Unmount(dir, unix.MNT_DETACH)
	file := filepath.Join(dir, "fern")
	require.NoError(t, WriteFile(file, []byte("one"), 0o644))
	require.ErrorIs(t, WriteFile(file, make([]byte, 1<<20), 0o644), unix.ENOSPC)
	data, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, "one", string(data))
	assert.Equal(t, []string{"fern"}, names(t, dir))
}

func names(t *testing.T, dir string) (all []string) {
	entries, err := os.ReadDir(dir)
	require.NoError(t, err)
	for _, e := range entries {
		all = append(all, e.Name())
	}
	return all
}
