package safefs

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Only the expected link is removed; what has replaced it stays, and what a killed program has
// left is removed.
func TestUnlink(t *testing.T) {
	dir := t.TempDir()
	d, err := OpenDir(dir)
	require.NoError(t, err)
	defer d.Close()
	require.NoError(t, d.Mkdir("bin", 0o755))
	require.NoError(t, d.Symlink("/moss", "bin/fern"))
	assert.ErrorIs(t, d.Symlink("/moss", "bin/fern"), os.ErrExist)
	assert.ErrorIs(t, d.Unlink("bin/fern", "/stone"), ErrOther)
	target, err := d.Target("bin/fern")
	require.NoError(t, err)
	assert.Equal(t, "/moss", target)
	require.NoError(t, d.Unlink("bin/fern", "/moss"))
	require.NoError(t, d.Unlink("bin/fern", "/moss"), "it is gone already")

	require.NoError(t, os.WriteFile(filepath.Join(dir, "bin/fern"), nil, 0o644))
	assert.ErrorIs(t, d.Unlink("bin/fern", "/moss"), ErrOther)
	assert.FileExists(t, filepath.Join(dir, "bin/fern"))
	require.NoError(t, d.Symlink("/moss", "bin/.fernladder-leaf"))
	require.NoError(t, d.Unlink("bin/leaf", "/moss"))
	assert.NoFileExists(t, filepath.Join(dir, "bin/.fernladder-leaf"))

	// No link in the path is followed.
	require.NoError(t, d.Symlink("bin", "link"))
	assert.Error(t, d.Symlink("/moss", "link/x"))
	assert.Error(t, d.Mkdir("link/x", 0o755))
	assert.Error(t, d.Delete("link/fern"))
	assert.ErrorIs(t, d.Delete("link"), os.ErrNotExist, "it is not a file")
	require.NoError(t, d.Delete("bin/fern"))
	require.NoError(t, d.Rmdir("bin"))
}

func TestValidNames(t *testing.T) {
	for name, valid := range map[string]bool{"a": true, "a/b c/é": true, "\xff/\n": true, "..a/b..": true, "": false,
		".": false, "a/../b": false, "/a": false, "a/": false, "a//b": false, "a\x00b": false, "..": false} {
		assert.Equal(t, valid, ValidName(name), "%q", name)
	}
}
