package main_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A release is the same bytes from two directories, its arm64 program starts, and the recipe in
// it builds the same program again, from its source, in a sealed room without network.
func TestRelease(t *testing.T) {
	long(t)
	needs(t, "sealed")
	t.Parallel()
	w := newWorld(t)
	sh := func(dir, line string) string {
		command := exec.Command("sh", "-ec", line)
		command.Dir = dir
		out, err := command.CombinedOutput()
		require.NoError(t, err, "%s\n%s", line, out)
		return string(out)
	}
	repository, err := filepath.Abs("../..")
	require.NoError(t, err)
	sh(repository, "make -s dist DIST="+w.path("dist"))
	sh(w.dir, "git clone -q --no-hardlinks "+repository+" clone && cd clone && make -s dist DIST="+w.path("again"))
	assert.Equal(t, w.read("dist/SHA256SUMS"), w.read("again/SHA256SUMS"))
	sh(w.path("dist"), "sha256sum -c --quiet SHA256SUMS")

	sh(w.path("dist"), "for name in *-linux-*.tar.gz; do tar -xzf $name; done")
	of := func(arch string) string {
		found, err := filepath.Glob(w.path("dist/fernladder-*-linux-" + arch + "/bin/fernladder"))
		require.NoError(t, err)
		require.Len(t, found, 1, arch)
		return found[0]
	}
	emulator, err := exec.LookPath("qemu-aarch64-static")
	require.NoError(t, err, "make setup installs it")
	started, err := exec.Command(emulator, of("arm64"), "--version").CombinedOutput()
	require.NoError(t, err, string(started))
	assert.Contains(t, string(started), "Fern Ladder ")
	assert.FileExists(t, filepath.Join(filepath.Dir(of("arm64")), "../share/man/man1/fernladder-install.1"))

	recipe := strings.ReplaceAll(w.read("dist/recipes/fernladder/recipe.toml"), "https://fern-ladder.example/dl",
		"file://"+w.path("dist"))
	w.write("recipes/fernladder/recipe.toml", recipe)
	w.must("install", "fernladder")
	theirs, err := os.ReadFile(of("amd64"))
	require.NoError(t, err)
	ours, err := os.ReadFile(filepath.Join(w.root, "landing/bin/fernladder"))
	require.NoError(t, err)
	assert.True(t, string(ours) == string(theirs), "the program that it has built is another")
}
