package safefs

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// hostile is a directory with every kind of misleading entry, beside a secret that must not be
// reached.
func hostile(t *testing.T) (dir, secret string) {
	outside := t.TempDir()
	secret = filepath.Join(outside, "secret")
	require.NoError(t, os.WriteFile(secret, []byte("seed"), 0o600))
	dir = t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "bed", "row"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "bed", "row", "leaf"), []byte("green"), 0o644))
	require.NoError(t, os.Symlink(secret, filepath.Join(dir, "bed", "link")))
	require.NoError(t, os.Symlink(outside, filepath.Join(dir, "out")))
	require.NoError(t, os.Symlink("bed", filepath.Join(dir, "in")))
	require.NoError(t, unix.Mkfifo(filepath.Join(dir, "pipe"), 0o644))
	return dir, secret
}

func TestOnlyRegularFilesBelowAreOpened(t *testing.T) {
	path, _ := hostile(t)
	d, err := OpenDir(path)
	require.NoError(t, err)
	defer d.Close()
	data, err := d.ReadFile("bed/row/leaf", 5)
	require.NoError(t, err)
	assert.Equal(t, "green", string(data))
	for _, name := range []string{"bed/link", "out/secret", "in/row/leaf", "pipe", "bed", "../x", "bed/../bed/row/leaf",
		"/etc/passwd", "", ".", "bed//row/leaf", "absent"} {
		within(t, func() {
			_, err := d.ReadFile(name, 100)
			assert.Error(t, err, name)
		})
	}
	_, err = d.ReadFile("bed/row/leaf", 4)
	assert.ErrorContains(t, err, "over 4 bytes")
	_, err = OpenDir(filepath.Join(path, "in"))
	assert.Error(t, err)
	within(t, func() {
		_, err = ReadFile(filepath.Join(path, "pipe"), 100)
		assert.ErrorIs(t, err, ErrNotRegular)
	})
	data, err = ReadFile(filepath.Join(path, "in", "row", "leaf"), 100)
	require.NoError(t, err, "what a person names may be a link")
	assert.Equal(t, "green", string(data))
}

// within fails instead of hanging.
func within(t *testing.T, do func()) {
	done := make(chan struct{})
	go func() { defer close(done); do() }()
	select {
	case <-done:
	case <-time.After(10 * time.Second):
		t.Fatal("it waits for ever")
	}
}

func TestAWalkFollowsNoLink(t *testing.T) {
	path, secret := hostile(t)
	d, err := OpenDir(path)
	require.NoError(t, err)
	defer d.Close()
	var names []string
	require.NoError(t, d.Walk(false, func(e Entry) error {
		names = append(names, e.Name)
		if e.Name == "bed/link" {
			target, err := e.Target()
			require.NoError(t, err)
			assert.Equal(t, secret, target)
			_, err = e.Open()
			assert.Error(t, err)
		}
		return nil
	}))
	assert.Equal(t, []string{"bed", "bed/link", "bed/row", "bed/row/leaf", "in", "out", "pipe"}, names)
	assert.EqualValues(t, 5, Size(path))

	deep := t.TempDir()
	nest(t, deep, DeepestPath+10)
	d, err = OpenDir(deep)
	require.NoError(t, err)
	defer d.Close()
	assert.ErrorAs(t, d.Walk(true, func(Entry) error { return nil }), new(*Tangled))
}

// nest makes nested directories, deeper than a path can be long.
func nest(t *testing.T, dir string, depth int) {
	fd, err := unix.Open(dir, unix.O_PATH|unix.O_DIRECTORY, 0)
	require.NoError(t, err)
	for range depth {
		require.NoError(t, unix.Mkdirat(fd, "d", 0o755))
		next, err := unix.Openat(fd, "d", unix.O_PATH|unix.O_DIRECTORY, 0)
		require.NoError(t, err)
		unix.Close(fd)
		fd = next
	}
	file, err := unix.Openat(fd, "leaf", unix.O_CREAT|unix.O_WRONLY, 0o644)
	require.NoError(t, err)
	unix.Close(file)
	unix.Close(fd)
}

func TestRemovingTakesEverythingAndNothingElse(t *testing.T) {
	path, secret := hostile(t)
	nest(t, path, 6000)
	require.NoError(t, os.Chmod(filepath.Join(path, "bed", "row"), 0))
	var files syscall.Rlimit
	require.NoError(t, syscall.Getrlimit(syscall.RLIMIT_NOFILE, &files))
	low := files
	low.Cur = 200
	require.NoError(t, syscall.Setrlimit(syscall.RLIMIT_NOFILE, &low))
	defer syscall.Setrlimit(syscall.RLIMIT_NOFILE, &files)
	require.NoError(t, Remove(path))
	assert.NoDirExists(t, path)
	assert.FileExists(t, secret)
	assert.NoError(t, Remove(path), "what is gone is no error")

	// The attack: the directory itself is a link to another user's.
	link := filepath.Join(t.TempDir(), "link")
	require.NoError(t, os.Symlink(filepath.Dir(secret), link))
	assert.Error(t, Empty(link))
	assert.NoError(t, Remove(link))
	assert.FileExists(t, secret)
}

// A file that is recreated each time it is removed does not make a process wait forever.
func TestWhatComesBackIsGivenUp(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "fern")
	d, err := OpenDir(dir)
	require.NoError(t, err)
	defer d.Close()
	require.NoError(t, os.WriteFile(file, nil, 0o600))
	assert.ErrorIs(t, d.drain(func(string) error { return nil }), unix.ENOTEMPTY)
	assert.NoError(t, d.drain(func(string) error { return os.Remove(file) }))
}

func TestEmptyKeepsTheDirectory(t *testing.T) {
	path, secret := hostile(t)
	require.NoError(t, Empty(path))
	entries, err := os.ReadDir(path)
	require.NoError(t, err)
	assert.Empty(t, entries)
	assert.FileExists(t, secret)
}

func TestOnlyWhatWasTheirsIsGiven(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("only root gives files away")
	}
	path, secret := hostile(t)
	const from, to = 1900000200, 1900000201
	require.NoError(t, Give(path, Ours, from, from))
	require.NoError(t, os.Link(secret, filepath.Join(path, "bed", "row", "hard")))
	require.NoError(t, Give(path, func(uid int) bool { return uid == from }, to, to))
	info, err := os.Stat(secret)
	require.NoError(t, err)
	assert.EqualValues(t, 0, info.Sys().(*syscall.Stat_t).Uid, "neither through the link nor through the hard link")
	info, err = os.Lstat(filepath.Join(path, "bed", "link"))
	require.NoError(t, err)
	assert.EqualValues(t, to, info.Sys().(*syscall.Stat_t).Uid)
}

func FuzzNamesStayBelow(f *testing.F) {
	for _, name := range []string{"bed/row/leaf", "../secret", "/etc/passwd", "bed/../../x", "out/secret", "a\x00b",
		strings.Repeat("x/", 3000)} {
		f.Add(name)
	}
	f.Fuzz(func(t *testing.T, name string) {
		path, _ := hostile(t)
		d, err := OpenDir(path)
		require.NoError(t, err)
		defer d.Close()
		data, err := d.ReadFile(name, 100)
		if err == nil {
			assert.Equal(t, "green", string(data))
		} else {
			var at *os.PathError
			assert.True(t, errors.As(err, &at), "%v", err)
		}
	})
}
