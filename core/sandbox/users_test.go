package sandbox

import (
	"errors"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Leftovers of a build are closed to the next build of the same user, even if the program was
// killed in between.
func TestDoors(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root's builds run as others")
	}
	users := Users{First: 1_900_000_200, Number: 2, Locks: t.TempDir(), Common: t.TempDir()}
	const first = 1_900_000_200
	doorOf := func(group int) string {
		dir := t.TempDir()
		require.NoError(t, errors.Join(os.Chown(dir, -1, group), os.Chmod(dir, 0o710)))
		return dir
	}
	door := func() string { return doorOf(first) }
	open := func(dir string) bool {
		info, err := os.Stat(dir)
		require.NoError(t, err)
		return info.Mode().Perm() == 0o710
	}
	over, killed, next := door(), door(), door()
	_, done, err := users.Lend(t.Context(), User{}, over)
	require.NoError(t, err)
	assert.True(t, open(over))
	done()
	assert.False(t, open(over))

	require.NoError(t, os.WriteFile(filepath.Join(users.Locks, "1900000200"), []byte(killed), 0o600))
	user, done, err := users.Lend(t.Context(), User{}, next)
	require.NoError(t, err)
	assert.False(t, open(killed))
	assert.True(t, open(next))
	// A door that another program has since opened to another user stays open.
	elses := doorOf(first + 1)
	file := filepath.Join(t.TempDir(), "user")
	require.NoError(t, os.WriteFile(file, []byte(elses), 0o600))
	require.NoError(t, changeDoor(file, next, first))
	assert.True(t, open(elses))
	named, err := os.ReadFile(filepath.Join(users.Locks, "1900000200"))
	require.NoError(t, err)
	assert.Equal(t, next, string(named), "the next knows what to shut when this program is killed")

	// A user lent by another machine that shares the locks is left to it.
	elsewhere := users
	elsewhere.Locks = t.TempDir()
	other, doneElsewhere, err := elsewhere.Lend(t.Context(), user, door())
	require.NoError(t, err)
	assert.NotEqual(t, user, other)
	doneElsewhere()
	done()
	same, doneElsewhere, err := elsewhere.Lend(t.Context(), user, "")
	require.NoError(t, err)
	assert.Equal(t, user, same, "what it could not have, it has let go")
	doneElsewhere()

	// What has since replaced a door is left alone.
	for name, make := range map[string]func(path string) error{
		"a link":  func(path string) error { return os.Symlink(next, path) },
		"a file":  func(path string) error { return os.WriteFile(path, nil, 0o640) },
		"missing": func(string) error { return nil },
	} {
		require.NoError(t, os.Chmod(next, 0o710))
		path := filepath.Join(t.TempDir(), "door")
		require.NoError(t, make(path))
		require.NoError(t, os.WriteFile(filepath.Join(users.Locks, "1900000200"), []byte(path), 0o600))
		_, done, err := users.Lend(t.Context(), User{}, "")
		require.NoError(t, err, name)
		done()
		assert.True(t, open(next), name)
		if info, err := os.Lstat(path); err == nil && info.Mode().IsRegular() {
			assert.Equal(t, os.FileMode(0o640), info.Mode().Perm())
		}
	}
	users.Common = filepath.Join(t.TempDir(), "none")
	_, _, err = users.Lend(t.Context(), User{}, "")
	assert.ErrorIs(t, err, noUsers)
}
