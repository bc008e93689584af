package tinker

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A source's .gitattributes do not change its patches.
func TestAPatchHasTheBytesOfItsFiles(t *testing.T) {
	folder, source := t.TempDir(), t.TempDir()
	files := map[string]string{".gitattributes": "* text=auto ident\n*.c -diff\n", "grow.c": "grow\n",
		"leaf.txt": "$Id$\r\nleaf\r\n"}
	for _, dir := range []string{folder, source} {
		for name, text := range files {
			require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
		}
	}
	program, err := exec.LookPath("git")
	require.NoError(t, err)
	base, err := begin(t.Context(), program, folder, "As it came")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(folder, "grow.c"), []byte("grow\ntall\n"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(folder, "leaf.txt"), []byte("$Id$\r\nfrond\r\n"), 0o644))
	text, err := difference(t.Context(), program, folder, base)
	require.NoError(t, err)
	patch := exec.Command("patch", "-p1", "--batch", "--forward", "-d", source)
	patch.Stdin = strings.NewReader(text)
	out, err := patch.CombinedOutput()
	require.NoError(t, err, string(out))
	for _, name := range []string{"grow.c", "leaf.txt"} {
		want, err := os.ReadFile(filepath.Join(folder, name))
		require.NoError(t, err)
		got, err := os.ReadFile(filepath.Join(source, name))
		require.NoError(t, err)
		assert.Equal(t, string(want), string(got), name)
	}
}
