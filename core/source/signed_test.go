package source

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/ProtonMail/go-crypto/openpgp"
	"github.com/ProtonMail/go-crypto/openpgp/clearsign"
	"github.com/klauspost/compress/gzip"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fernladder/core/recipe"
	"fernladder/core/safefs"
)

// The name of a signature decides what is signed: the archive, the tar file in it, or a list of
// digests.
func TestWhatIsSigned(t *testing.T) {
	key, err := openpgp.NewEntity("grower", "", "grower@vale.example", nil)
	require.NoError(t, err)
	var public bytes.Buffer
	require.NoError(t, key.Serialize(&public))
	keyFile := filepath.Join(t.TempDir(), "key")
	require.NoError(t, os.WriteFile(keyFile, public.Bytes(), 0o644))
	sign := func(data []byte) []byte {
		var out bytes.Buffer
		require.NoError(t, openpgp.ArmoredDetachSign(&out, key, bytes.NewReader(data), nil))
		return out.Bytes()
	}
	tar := tarball(t, file("fern/a", "x"))
	var packed bytes.Buffer
	z := gzip.NewWriter(&packed)
	z.Write(tar)
	require.NoError(t, z.Close())
	sum := sha256.Sum256(packed.Bytes())
	digest := recipe.Digest{Algorithm: "sha256", Hex: hex.EncodeToString(sum[:])}
	list := digest.Hex + "  fern-1.tar.gz\n"
	otherList := strings.Repeat("0", 64) + "  fern-1.tar.gz\n"
	clear := func(text string) []byte {
		var out bytes.Buffer
		w, err := clearsign.Encode(&out, key.PrivateKey, nil)
		require.NoError(t, err)
		w.Write([]byte(text))
		require.NoError(t, w.Close())
		return out.Bytes()
	}
	files := map[string][]byte{
		"/fern-1.tar.gz": packed.Bytes(), "/fern-1.tar.gz.asc": sign(packed.Bytes()), "/fern-1.tar.sign": sign(tar),
		"/SHA256SUMS": []byte(list), "/SHA256SUMS.asc": sign([]byte(list)), "/sums.txt.asc": clear(list),
		"/bad/sums.txt.asc": clear(otherList), "/bad/SHA256SUMS": []byte(otherList),
		"/bad/SHA256SUMS.asc":  sign([]byte(list)),
		"/bad/fern-1.tar.sign": sign(packed.Bytes()), "/bad/fern-1.tar.gz.asc": sign(tar), "/bad/page.asc": []byte("<html>"),
		"/bad/huge.asc": bytes.Repeat([]byte("x"), 2<<20),
	}
	site := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if data, there := files[r.URL.Path]; there {
			w.Write(data)
		} else {
			http.NotFound(w, r)
		}
	}))
	defer site.Close()
	for name, says := range map[string]string{
		"fern-1.tar.gz.asc": "", "fern-1.tar.sign": "", "SHA256SUMS.asc": "", "sums.txt.asc": "",
		"bad/sums.txt.asc": "but the archive's sha256 is not in it", "bad/SHA256SUMS.asc": "does not match the file",
		"bad/fern-1.tar.sign":   "does not match the file",
		"bad/fern-1.tar.gz.asc": "does not match the file", "bad/page.asc": "there is no signature in it",
		"absent.asc": "404", "bad/huge.asc": "over 1048576 bytes",
	} {
		t.Run(name, func(t *testing.T) {
			a := &Archives{Dir: t.TempDir(), Network: NewNetwork(os.Getenv)}
			w := Wanted{Package: "fern", URLs: []string{site.URL + "/fern-1.tar.gz"}, Digest: digest,
				Signed: &Signed{URLs: []string{site.URL + "/" + name},
					Keys: []safefs.File{{Dir: filepath.Dir(keyFile), Name: filepath.Base(keyFile)}}}}
			got, err := a.Fetch(context.Background(), w)
			if says != "" {
				assert.ErrorContains(t, err, says)
				return
			}
			require.NoError(t, err)
			assert.Contains(t, got.Signed.Owner, "grower")
			w.Signed.URLs = nil // without the network, what was kept counts
			_, err = a.Fetch(context.Background(), w)
			assert.NoError(t, err)
		})
	}
}

func TestVersionsOfTags(t *testing.T) {
	for tag, want := range map[string]string{
		"v1.2": "1.2", "release-1.2.3": "1.2.3", "fern_1_2": "1.2", "fern-v2.0-rc1": "2.0-rc1", "2024a": "2024a",
		"growers/v3": "3", "latest": "", "v1.2+3": "1.2+3",
	} {
		got, ok := taggedVersion(tag)
		assert.Equal(t, want, got.String(), tag)
		assert.Equal(t, want != "", ok, tag)
	}
	assert.Equal(t, "1.2+3.g0123456789", describedVersion("v1.2", 3, "0123456789abcdef").String())
	assert.Equal(t, "0+7.g0123456789", describedVersion("", 7, "0123456789abcdef").String())
}
