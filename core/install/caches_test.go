package install

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A tree cannot make the copy that a tool reads larger than the tree, nor have files read from
// elsewhere.
func TestCopyEnds(t *testing.T) {
	base := t.TempDir()
	in := func(name string) string {
		path := filepath.Join(base, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		return path
	}
	require.NoError(t, os.WriteFile(in("trees/fern/loop/a.xml"), []byte("a"), 0o644))
	for i := range 10 {
		require.NoError(t, os.Symlink(".", in(fmt.Sprintf("trees/fern/loop/l%d", i))))
	}
	require.NoError(t, os.Symlink("loop/a.xml", in("trees/fern/b.xml")))
	require.NoError(t, os.Symlink("/etc/passwd", in("trees/fern/c.xml")))
	require.NoError(t, os.WriteFile(in("trees/fern/large.xml"), make([]byte, largest+1), 0o644))
	require.NoError(t, os.Symlink("../../trees/fern", in("landing/schemas/fern")))
	require.NoError(t, os.Symlink("../../trees/fern/b.xml", in("landing/schemas/d.xml")))
	copied := func(ctx context.Context) ([]string, error) {
		c := &copying{cacheKind: kinds[3], ctx: ctx, trees: filepath.Join(base, "trees") + "/", to: t.TempDir()}
		err := c.directory(filepath.Join(base, "landing/schemas"), "", 0)
		return c.files, err
	}
	files, err := copied(t.Context())
	require.NoError(t, err)
	assert.Equal(t, []string{"d.xml", "fern/b.xml", "fern/loop/a.xml"}, files)
	ended, cancel := context.WithCancel(t.Context())
	cancel()
	_, err = copied(ended)
	assert.ErrorIs(t, err, context.Canceled)
}
