package depot

import (
	"archive/tar"
	"bytes"
	"context"
	"crypto/ed25519"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"math/rand/v2"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp"
	"github.com/ProtonMail/go-crypto/openpgp/packet"
	"github.com/klauspost/compress/zstd"
	"github.com/opencontainers/image-spec/specs-go"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"fernladder/core/settings"
	"fernladder/core/signature"
	"fernladder/core/source"
	"fernladder/core/store"
	standin "fernladder/demo/registry"
)

// cutAll returns the chunks of data, written in pieces of any size.
func cutAll(t *testing.T, data []byte, pieces *rand.Rand) (chunks []string) {
	c := newCutter(int64(len(data)), func(chunk []byte) error {
		chunks = append(chunks, string(chunk))
		return nil
	})
	for len(data) > 0 {
		n := min(len(data), 1+pieces.IntN(1<<20))
		_, err := c.Write(data[:n])
		require.NoError(t, err)
		data = data[n:]
	}
	require.NoError(t, c.end())
	return chunks
}

// Chunks are the data, have sizes within limits, do not depend on how the data is written, and only
// those beside a change differ.
func TestChunks(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	data := make([]byte, 32<<20)
	for i := range data {
		data[i] = byte(random.Uint32())
	}
	before := cutAll(t, data, random)
	assert.Equal(t, before, cutAll(t, data, random))
	assert.Equal(t, string(data), strings.Join(before, ""))
	known := map[string]bool{}
	for i, c := range before {
		known[c] = true
		assert.LessOrEqual(t, len(c), 4*usualChunk)
		if i < len(before)-1 {
			assert.GreaterOrEqual(t, len(c), usualChunk/4)
		}
	}
	average := len(data) / len(before)
	assert.Greater(t, average, usualChunk/2)
	assert.Less(t, average, 2*usualChunk)

	changed := append(append(append([]byte{}, data[:10<<20]...), "a few more bytes"...), data[10<<20:]...)
	other := 0
	for _, c := range cutAll(t, changed, random) {
		if !known[c] {
			other++
		}
	}
	assert.LessOrEqual(t, other, 2)
}

// A ward is a depot in a directory, with a key that it trusts.
type ward struct {
	*Depot
	t  *testing.T
	by signature.Signer
}

func newWard(t *testing.T) *ward {
	dir := t.TempDir()
	public, private, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	block, err := ssh.MarshalPrivateKey(private, "")
	require.NoError(t, err)
	key, err := ssh.NewPublicKey(public)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(dir+"/key", pem.EncodeToMemory(block), 0o600))
	require.NoError(t, os.WriteFile(dir+"/key.pub", ssh.MarshalAuthorizedKey(key), 0o600))
	require.NoError(t, os.Mkdir(dir+"/depot", 0o755))
	by, err := signature.Signing{Namespace: Namespace, Now: time.Now}.Open(dir + "/key")
	require.NoError(t, err)
	archives := &source.Archives{Dir: dir + "/archives", Network: source.NewNetwork(os.Getenv)}
	d := Open([]*settings.Depot{{Name: "ward", Path: dir + "/depot", Keys: []string{dir + "/key.pub"}}}, archives)[0]
	return &ward{d, t, by}
}

// put signs a build with a tar file as its tree.
func (w *ward) put(r *store.Receipt, change func(*statement), headers ...*tar.Header) {
	var plain bytes.Buffer
	archive := tar.NewWriter(&plain)
	for _, h := range headers {
		require.NoError(w.t, archive.WriteHeader(h))
		_, err := archive.Write(make([]byte, h.Size))
		require.NoError(w.t, err)
	}
	require.NoError(w.t, archive.Close())
	packer, err := zstd.NewWriter(nil)
	require.NoError(w.t, err)
	blob := packer.EncodeAll(plain.Bytes(), nil)
	receipt, err := json.Marshal(r)
	require.NoError(w.t, err)
	ctx := w.t.Context()
	m := ocispec.Manifest{Versioned: specs.Versioned{SchemaVersion: 2}, MediaType: ocispec.MediaTypeImageManifest,
		ArtifactType: buildType, Config: descriptor(receiptType, receipt), Layers: []ocispec.Descriptor{descriptor(treeType, blob)},
		Annotations: annotations(r)}
	_, err = w.place.pushBlob(ctx, m.Config, receipt)
	require.NoError(w.t, err)
	_, err = w.place.pushBlob(ctx, m.Layers[0], blob)
	require.NoError(w.t, err)
	data, self := written(m.MediaType, m)
	require.NoError(w.t, w.place.pushManifest(ctx, self, data))
	s := stateOf(r, self.Digest, nil, "test")
	change(s)
	signed, err := seal(s, w.by)
	require.NoError(w.t, err)
	require.NoError(w.t, w.attach(ctx, self, signed))
	require.NoError(w.t, w.place.tag(ctx, self, data, refTag(r.Ref)))
}

func fern() *store.Receipt {
	return &store.Receipt{Ref: store.Ref{Name: "fern", Version: "1.0+2~rc", ID: "0123456789ab"}, Tree: "/root/trees/fern/1.0"}
}

func same(*statement) {}

// What a trusted key signed is unpacked through the gate for archives nevertheless.
func TestTreesThatLeadElsewhere(t *testing.T) {
	file := &tar.Header{Name: "bin/fern", Typeflag: tar.TypeReg, Mode: 0o6777, Size: 3}
	for name, c := range map[string]struct {
		entry *tar.Header
		bad   string
	}{
		"above":            {&tar.Header{Name: "../x", Typeflag: tar.TypeReg}, "outside the directory"},
		"absolute":         {&tar.Header{Name: "/tmp/x", Typeflag: tar.TypeReg}, "outside the directory"},
		"device":           {&tar.Header{Name: "dev", Typeflag: tar.TypeChar}, "a device or the like"},
		"pipe":             {&tar.Header{Name: "pipe", Typeflag: tar.TypeFifo}, "a device or the like"},
		"link to anywhere": {&tar.Header{Name: "x", Typeflag: tar.TypeSymlink, Linkname: "/home/fern"}, "neither in the tree"},
		"link above":       {&tar.Header{Name: "x", Typeflag: tar.TypeSymlink, Linkname: "../../../../../home"}, "neither in the tree"},
		"hard link out":    {&tar.Header{Name: "x", Typeflag: tar.TypeLink, Linkname: "../y"}, "outside the directory"},
		"through a file":   {&tar.Header{Name: "bin/fern/x", Typeflag: tar.TypeReg}, "not a directory"},
		"nothing else":     {nil, ""},
	} {
		t.Run(name, func(t *testing.T) {
			w, r := newWard(t), fern()
			headers := []*tar.Header{file}
			if c.entry != nil {
				headers = append(headers, c.entry)
			}
			w.put(r, same, headers...)
			o, err := w.Find(t.Context(), r.Ref, r.Tree)
			require.NoError(t, err)
			require.NotNil(t, o)
			require.NoError(t, o.Fetch(t.Context()))
			dir := t.TempDir()
			s := &store.Store{Root: "/root"}
			err = o.Unpack(t.Context(), dir, source.UpTo(1), func(name, target string) error {
				if why := Leads(s, r.Tree, nil, name, target); why != "" {
					return errors.New(why)
				}
				return nil
			})
			if c.bad != "" {
				assert.ErrorContains(t, err, c.bad)
				assert.ErrorAs(t, err, new(*Fault))
				return
			}
			require.NoError(t, err)
			info, err := os.Lstat(dir + "/bin/fern")
			require.NoError(t, err)
			assert.Equal(t, os.FileMode(0o755), info.Mode(), "without setuid, or write permission for others")
		})
	}
}

// A signature vouches for one manifest, one build id and one path.
func TestStatements(t *testing.T) {
	for name, c := range map[string]struct {
		change func(*statement)
		tree   string
		bad    string
	}{
		"good":             {same, "", ""},
		"another id":       {func(s *statement) { s.Predicate.Definition.External.ID = "ffff" }, "", "it is signed as fern"},
		"another version":  {func(s *statement) { s.Predicate.Definition.External.Version = "2" }, "", "it is signed as fern 2"},
		"another manifest": {func(s *statement) { s.Subject[0].Digest["sha256"] = "00" }, "", "about another build"},
		"no subject":       {func(s *statement) { s.Subject = nil }, "", "about another build"},
		"another type":     {func(s *statement) { s.PredicateType = "x" }, "", "not a statement of provenance"},
		"another builder":  {func(s *statement) { s.Predicate.Definition.BuildType = "x" }, "", "another kind of build"},
		"another root":     {same, "/srv/trees/fern/1.0", "it was built for /root/trees/fern/1.0"},
	} {
		t.Run(name, func(t *testing.T) {
			w, r := newWard(t), fern()
			w.put(r, c.change, &tar.Header{Name: "x", Typeflag: tar.TypeReg})
			tree := r.Tree
			if c.tree != "" {
				tree = c.tree
			}
			o, err := w.Find(t.Context(), r.Ref, tree)
			if c.bad == "" {
				require.NoError(t, err)
				assert.Contains(t, o.Signed.Fingerprint, "SHA256:")
				got, err := o.Receipt(t.Context())
				require.NoError(t, err)
				assert.Equal(t, r.Ref, got.Ref)
				o.receipt = nil
				blob := filepath.Join(w.Path, blobPath(o.config.Digest))
				require.NoError(t, os.WriteFile(blob, []byte(strings.Repeat(" ", int(o.config.Size))), 0o644))
				_, err = o.Receipt(t.Context())
				assert.ErrorContains(t, err, "a blob has the digest")
				return
			}
			assert.ErrorContains(t, err, c.bad)
			assert.Nil(t, o)
		})
	}
}

// Builds that are put into a directory at the same time are all there, and another's links in it are
// not followed.
func TestManyInOneDirectory(t *testing.T) {
	w := newWard(t)
	var all sync.WaitGroup
	for i := range 8 {
		all.Go(func() {
			r := fern()
			r.ID = fmt.Sprintf("%012d", i)
			w.put(r, same, &tar.Header{Name: r.ID, Typeflag: tar.TypeReg})
		})
	}
	all.Wait()
	held, err := w.List(t.Context())
	require.NoError(t, err)
	assert.Len(t, held, 8)
	for i := range 8 {
		r := fern()
		r.ID = fmt.Sprintf("%012d", i)
		o, err := w.Find(t.Context(), r.Ref, r.Tree)
		require.NoError(t, err)
		require.NotNil(t, o)
	}
	index := filepath.Join(w.Path, ocispec.ImageIndexFile)
	require.NoError(t, os.Rename(index, index+".real"))
	require.NoError(t, os.Symlink(index+".real", index))
	_, err = w.Find(t.Context(), fern().Ref, fern().Tree)
	assert.Error(t, err)
}

// A key that has expired since counts for what it signed before, with a note. What it signs later is
// refused by core/signature, and by what signs.
func TestExpiredKey(t *testing.T) {
	w, r := newWard(t), fern()
	dir := t.TempDir()
	made := time.Now().Add(-2 * time.Hour)
	e, err := openpgp.NewEntity("Vale Growers", "", "growers@vale.example",
		&packet.Config{KeyLifetimeSecs: 3600, Algorithm: packet.PubKeyAlgoEdDSA, Time: func() time.Time { return made }})
	require.NoError(t, err)
	var secret, public bytes.Buffer
	require.NoError(t, e.SerializePrivate(&secret, nil))
	require.NoError(t, e.Serialize(&public))
	require.NoError(t, os.WriteFile(dir+"/key", secret.Bytes(), 0o600))
	require.NoError(t, os.WriteFile(dir+"/key.pub", public.Bytes(), 0o600))
	clock := made.Add(time.Minute)
	w.by, err = signature.Signing{Now: func() time.Time { return clock }}.Open(dir + "/key")
	require.NoError(t, err)
	w.keys, err = signature.ReadKeys([]string{dir + "/key.pub"})
	require.NoError(t, err)
	w.once.Do(func() {})
	w.put(r, same, &tar.Header{Name: "x", Typeflag: tar.TypeReg})
	o, err := w.Find(t.Context(), r.Ref, r.Tree)
	require.NoError(t, err, "it was valid then")
	assert.Contains(t, o.Signed.Note, "expired")
	_, err = signature.Signing{Now: time.Now}.Open(dir + "/key")
	assert.ErrorContains(t, err, "expired")
}

// A registry that drips is given up.
func TestSlowRegistry(t *testing.T) {
	w, r := newWard(t), fern()
	site := standin.Start()
	defer site.Close()
	network := source.NewNetwork(os.Getenv)
	network.Patience = 100 * time.Millisecond
	archives := &source.Archives{Dir: t.TempDir(), Network: network,
		Pause: func(ctx context.Context, _ time.Duration) error { return ctx.Err() }}
	d := Open([]*settings.Depot{{Name: "site", URL: site.URL + "/vale/builds", Keys: w.Keys}}, archives)[0]
	w.Depot = d
	w.put(r, same, &tar.Header{Name: "x", Typeflag: tar.TypeReg})
	o, err := d.Find(t.Context(), r.Ref, r.Tree)
	require.NoError(t, err)
	site.Fault = func(rw http.ResponseWriter, r *http.Request, _ *standin.Site) bool {
		if !strings.HasSuffix(r.URL.Path, o.Layers[0].Digest.String()) {
			return false
		}
		rw.Header().Set("Content-Length", fmt.Sprint(o.Layers[0].Size))
		for range o.Layers[0].Size {
			rw.Write([]byte{0})
			rw.(http.Flusher).Flush()
			select {
			case <-time.After(30 * time.Millisecond):
			case <-r.Context().Done():
				return true
			}
		}
		return true
	}
	assert.ErrorContains(t, o.Fetch(t.Context()), "bytes in 100ms")
}

func TestTagsAreValid(t *testing.T) {
	assert.Equal(t, "fern-1.0_2_rc-0123456789ab", refTag(fern().Ref))
	long := store.Ref{Name: strings.Repeat("f", 200), Version: "1", ID: "0123456789ab"}
	assert.Len(t, refTag(long), 128)
}

// No envelope makes the reader fail in another way than with an error.
func FuzzEnvelope(f *testing.F) {
	f.Add([]byte(`{"payloadType":"application/vnd.in-toto+json","payload":"e30=","signatures":[{"sig":"eA=="}]}`))
	f.Fuzz(func(t *testing.T, data []byte) {
		s, good, err := open(data, "sha256:00", &signature.Keys{}, time.Now())
		if err == nil || s != nil || good != nil {
			t.Fatal("accepted without a key")
		}
	})
}
