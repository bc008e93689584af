package source

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The digest of a directory changes with its contents and with nothing else.
func TestDigestTree(t *testing.T) {
	make := func(change func(dir string)) string {
		dir := t.TempDir()
		require.NoError(t, os.MkdirAll(filepath.Join(dir, "d"), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, "d", "a"), []byte("x"), 0o644))
		require.NoError(t, os.Symlink("d/a", filepath.Join(dir, "l")))
		change(dir)
		digest, err := DigestTree(dir)
		require.NoError(t, err)
		return digest.Hex
	}
	same := make(func(string) {})
	assert.Equal(t, same, make(func(dir string) { os.Chtimes(filepath.Join(dir, "d/a"), noon, noon) }))
	for name, change := range map[string]func(dir string){
		"contents":   func(dir string) { os.WriteFile(filepath.Join(dir, "d/a"), []byte("y"), 0o644) },
		"name":       func(dir string) { os.Rename(filepath.Join(dir, "d/a"), filepath.Join(dir, "d/b")) },
		"executable": func(dir string) { os.Chmod(filepath.Join(dir, "d/a"), 0o755) },
		"link":       func(dir string) { os.Remove(filepath.Join(dir, "l")); os.Symlink("d", filepath.Join(dir, "l")) },
		"more":       func(dir string) { os.WriteFile(filepath.Join(dir, "z"), nil, 0o644) },
	} {
		assert.NotEqual(t, same, make(change), name)
	}
}
