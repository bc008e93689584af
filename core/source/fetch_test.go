package source_test

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fernladder/core/event"
	"fernladder/core/recipe"
	"fernladder/core/source"
	"fernladder/demo/upstream"
)

func digestOf(data []byte) recipe.Digest {
	sum := sha256.Sum256(data)
	return recipe.Digest{Algorithm: "sha256", Hex: hex.EncodeToString(sum[:])}
}

// garden starts a site that serves data as "a.tar", and an empty store.
func garden(t *testing.T, data []byte) (*upstream.Site, *source.Archives, source.Wanted) {
	site, err := upstream.Start(map[string][]byte{"a.tar": data})
	require.NoError(t, err)
	t.Cleanup(func() { site.Close() })
	archives := &source.Archives{Dir: t.TempDir(), Agent: "test", Events: event.Nowhere}
	return site, archives, source.Wanted{Package: "a", Version: "1", Digest: digestOf(data), At: "recipe.toml:9"}
}

func TestFetchGoesThroughMirrors(t *testing.T) {
	data := []byte(strings.Repeat("fern", 100_000))
	site, archives, w := garden(t, data)
	for _, how := range []string{"tampered", "cut", "absent", "dl"} {
		w.URLs = append(w.URLs, site.URL+"/"+how+"/a.tar")
	}
	w.URLs = append([]string{"http://127.0.0.1:1/a.tar", "file:///nowhere/a.tar", "file:///"}, w.URLs...)
	got, err := archives.Fetch(context.Background(), w)
	require.NoError(t, err)
	assert.Equal(t, site.URL+"/dl/a.tar", got.URL)
	var reasons []string
	for _, failed := range got.Failed {
		reasons = append(reasons, failed.Err.Error())
	}
	assert.Equal(t, []string{
		"the connection was refused", "no such file or directory", "it is not a file",
		"wrong sha256: " + strings.TrimPrefix(reasons[3], "wrong sha256: "),
		"cut off after 200000 of 400000 bytes", "the server says 404 Not Found",
	}, reasons)
	stored, err := os.ReadFile(got.Path)
	require.NoError(t, err)
	assert.Equal(t, data, stored)

	asked := len(site.Asked())
	_, err = archives.Fetch(context.Background(), w)
	require.NoError(t, err)
	assert.Len(t, site.Asked(), asked, "what is stored is not fetched again")

	require.NoError(t, os.Chmod(got.Path, 0o644))
	require.NoError(t, os.WriteFile(got.Path, []byte("rot"), 0o644))
	_, err = archives.Fetch(context.Background(), w)
	require.NoError(t, err)
	assert.Len(t, site.Asked(), asked+4, "what no longer has its digest is")
}

func TestFetchStoresNothingThatIsWrong(t *testing.T) {
	site, archives, w := garden(t, []byte("fern"))
	w.URLs = []string{site.URL + "/tampered/a.tar", site.URL + "/tampered/a.tar"}
	_, err := archives.Fetch(context.Background(), w)
	var failed *source.FetchError
	require.ErrorAs(t, err, &failed)
	assert.Len(t, failed.Attempts, 2)
	assert.Contains(t, err.Error(), "Every source serves another file")
	assert.Contains(t, err.Error(), "recipe.toml:9")
	filepath.WalkDir(archives.Dir, func(path string, d os.DirEntry, _ error) error {
		assert.True(t, d.IsDir() || strings.HasSuffix(path, ".lock"), path)
		return nil
	})
	assert.False(t, archives.Has(w.Digest))
}

func TestFetchEndsWithItsContext(t *testing.T) {
	site, archives, w := garden(t, []byte(strings.Repeat("fern", 1000)))
	w.URLs = []string{site.URL + "/slow/a.tar", site.URL + "/dl/a.tar"}
	ctx, cancel := context.WithTimeout(context.Background(), 150*time.Millisecond)
	defer cancel()
	_, err := archives.Fetch(ctx, w)
	assert.ErrorIs(t, err, context.DeadlineExceeded, "and does not go on to the next mirror")
}

func TestPasswordsAreNotShown(t *testing.T) {
	site, archives, w := garden(t, []byte("fern"))
	w.URLs = []string{strings.Replace(site.URL, "http://", "http://name:secret@", 1) + "/absent/a.tar"}
	_, err := archives.Fetch(context.Background(), w)
	require.Error(t, err)
	assert.NotContains(t, err.Error(), "secret")
}
