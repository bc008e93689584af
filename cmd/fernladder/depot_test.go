package main_test

import (
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/bcrypt"

	"fernladder/demo/garden"
	"fernladder/demo/registry"
)

// A sharing world has the package fern in a registry and in a directory, and an empty root.
type sharing struct {
	*world
	site *registry.Site
	tag  string
}

const baseSettings = "root = \"root\"\nshelves = [\"recipes\"]\n"

func newSharing(t *testing.T) *sharing {
	w := newWorld(t)
	s := &sharing{world: w, site: registry.Start()}
	t.Cleanup(s.site.Close)
	require.NoError(t, garden.WriteSiteKey(w.path("site")))
	require.NoError(t, os.Mkdir(w.path("stick"), 0o755))
	w.pkg("fern", script("place", place("fern")))
	w.pkg("moss", script("place", place("moss")))
	w.write("fernladder.toml", baseSettings+s.registry("site")+s.stick())
	w.must("build", "fern", "moss")
	w.must("share", "fern", "moss")
	s.tag = s.site.Tags("fern-")[0]
	require.NoError(t, os.RemoveAll(w.root))
	return s
}

func (s *sharing) registry(key string) string {
	return fmt.Sprintf("[[depot]]\nname = \"site\"\nurl = \"%s/vale/builds\"\nkeys = [%q]\nsign = %q\n", s.site.URL,
		key+".pub", key)
}

func (s *sharing) stick() string {
	return "[[depot]]\nname = \"stick\"\npath = \"stick\"\nkeys = [\"site.pub\"]\nsign = \"site\"\n"
}

// layer is the digest of the only layer of fern.
func (s *sharing) layer() string {
	var m struct{ Layers []struct{ Digest string } }
	require.NoError(s.t, json.Unmarshal(s.site.Blob(s.tag), &m))
	return m.Layers[0].Digest
}

// answers makes requests whose URL matches be answered by a function.
func answers(pattern string, answer func(w http.ResponseWriter, r *http.Request)) func(http.ResponseWriter, *http.Request,
	*registry.Site) bool {
	matches := regexp.MustCompile(pattern)
	return func(w http.ResponseWriter, r *http.Request, _ *registry.Site) bool {
		if !matches.MatchString(r.URL.Path) {
			return false
		}
		answer(w, r)
		return true
	}
}

func says(status int, body string) func(http.ResponseWriter, *http.Request) {
	return func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/vnd.oci.image.manifest.v1+json")
		w.Header().Set("Content-Length", fmt.Sprint(len(body)))
		w.WriteHeader(status)
		fmt.Fprint(w, body)
	}
}

// No fault of a registry brings another tree than the one that was signed. Each is named, and a
// second depot, or a build, takes its place.
func TestFaultsOfDepots(t *testing.T) {
	t.Parallel()
	s := newSharing(t)
	manifest := string(s.site.Blob(s.tag))
	changed := func(old, new string) string {
		require.Contains(t, manifest, old)
		return strings.Replace(manifest, old, new, 1)
	}
	mossTag := s.site.Tags("moss-")[0]
	mossReferrers := func(w http.ResponseWriter, r *http.Request) {
		r.URL.Path = "/v2/vale/builds/referrers/" + registry.Digest(s.site.Blob(mossTag))
		fault := s.site.Fault
		s.site.Fault = nil
		defer func() { s.site.Fault = fault }()
		s.site.Config.Handler.ServeHTTP(w, r)
	}
	index := func(more string) string {
		return `{"schemaVersion":2,"mediaType":"application/vnd.oci.image.index.v1+json","manifests":[` + more + `]}`
	}
	lie := `{"mediaType":"application/vnd.oci.image.manifest.v1+json","artifactType":"application/vnd.dsse.envelope.v1+json",` +
		`"digest":"` + registry.Digest([]byte(manifest)) + `","size":10}`
	asIndex := func(body string) func(http.ResponseWriter, *http.Request) {
		return func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Type", "application/vnd.oci.image.index.v1+json")
			fmt.Fprint(w, body)
		}
	}
	layer := s.layer()
	at := "/manifests/" + s.tag + "$"
	for name, c := range map[string]struct {
		fault func(http.ResponseWriter, *http.Request, *registry.Site) bool
		says  string
	}{
		"a login is wanted":   {answers(".", says(401, "")), "the registry says 401 Unauthorized; for a login"},
		"a login is refused":  {answers(".", says(403, "")), "the registry says 403 Forbidden"},
		"too many requests":   {answers(".", says(429, "")), "the registry says 429 Too Many Requests"},
		"an error of its own": {answers(".", says(502, "")), "the registry says 502 Bad Gateway"},
		"no registry at all":  {answers(".", says(200, "<html>")), "its manifest is damaged"},
		"a damaged manifest":  {answers(at, says(200, manifest[:200])), "its manifest is damaged"},
		"a huge manifest":     {answers(at, says(200, strings.Repeat(" ", 5<<20))), "its manifest is damaged"},
		"an image":            {answers(at, says(200, changed("vnd.fernladder.build", "vnd.other"))), "another kind of thing"},
		"no layers":           {answers(at, says(200, regexp.MustCompile(`"layers":\[.*?\]`).ReplaceAllString(manifest, `"layers":[]`))), "0 layers"},
		"a strange digest":    {answers(at, says(200, changed(layer, "sha256:../../etc"))), "a layer of another kind"},
		"another layer":       {answers(at, says(200, changed(layer, registry.Digest(nil)))), "it is not signed"},
		"another build":       {answers(at, says(200, string(s.site.Blob(mossTag)))), "it is signed as moss 1.0"},
		"another's signature": {answers("/referrers/", mossReferrers), "its signature belongs to another build"},
		"no signature":        {answers("/referrers/", asIndex(index(""))), "it is not signed"},
		"a list that lies":    {answers("/referrers/", asIndex(index(lie))), "its signature belongs to another build"},
		"a damaged list":      {answers("/referrers/", asIndex("{")), "unexpected EOF"},
		"a list without an end": {answers("/referrers/", func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Link", "<"+r.URL.Path+"?n=1>; rel=\"next\"")
			asIndex(index(""))(w, r)
		}), "pages"},
		"a blob cut off": {answers("/blobs/"+layer, func(w http.ResponseWriter, _ *http.Request) {
			data := s.site.Blob(layer)
			w.Header().Set("Content-Length", fmt.Sprint(len(data)))
			w.Write(data[:len(data)/2])
		}), "cut off after"},
		"another blob":  {answers("/blobs/"+layer, says(200, string(slices.Sorted(slices.Values(s.site.Blob(layer)))))), "digest"},
		"a longer blob": {answers("/blobs/"+layer, says(200, string(s.site.Blob(layer))+"x")), "a blob has more than"},
		"a blob gone":   {answers("/blobs/"+layer, says(404, "")), "404"},
	} {
		t.Run(name, func(t *testing.T) {
			s.t, s.site.Fault = t, c.fault
			defer func() { s.site.Fault = nil }()
			s.write("fernladder.toml", "depots = \"only\"\n"+baseSettings+s.registry("site"))
			s.fails(5, []string{"install", "fern"}, c.says)
			trees, err := filepath.Glob(s.root + "/trees/*/*")
			require.NoError(t, err)
			assert.Empty(t, trees)

			s.write("fernladder.toml", baseSettings+s.registry("site")+s.stick())
			assert.Contains(t, s.must("install", "fern").stderr, "taken from stick")
			require.NoError(t, os.RemoveAll(s.root))

			if name != "no signature" && name != "a blob cut off" { // known before, and only when it is fetched
				return
			}
			s.write("fernladder.toml", baseSettings+s.registry("site"))
			assert.Contains(t, s.must("install", "fern").stderr, "built")
			require.NoError(t, os.RemoveAll(s.root))
		})
	}
}

// A tag that is moved after it was read changes nothing: all else is fetched by digest.
func TestTagsThatMove(t *testing.T) {
	t.Parallel()
	s := newSharing(t)
	moss := string(s.site.Blob(s.site.Tags("moss-")[0]))
	asked := 0
	s.site.Fault = func(w http.ResponseWriter, r *http.Request, _ *registry.Site) bool {
		if !strings.HasSuffix(r.URL.Path, "/manifests/"+s.tag) {
			return false
		}
		if asked++; asked > 1 {
			says(200, moss)(w, r)
		}
		return asked > 1
	}
	s.write("fernladder.toml", baseSettings+s.registry("site"))
	assert.Contains(t, s.must("install", "fern").stderr, "taken from site")
	assert.Equal(t, 1, asked)
}

// A real registry, with TLS and a password, does what the stand-in does. It has no list of
// referrers, takes blobs from its other repositories, and is only told the password by TLS.
func TestRealRegistry(t *testing.T) {
	program, err := exec.LookPath("docker-registry")
	if err != nil {
		t.Skip("this machine has no registry")
	}
	t.Parallel()
	w := newWorld(t)
	require.NoError(t, garden.WriteSiteKey(w.path("site")))
	site := httptest.NewTLSServer(nil) // for its certificate
	pair := site.TLS.Certificates[0]
	address := site.Listener.Addr().String()
	site.Close()
	key, err := x509.MarshalPKCS8PrivateKey(pair.PrivateKey)
	require.NoError(t, err)
	hash, err := bcrypt.GenerateFromPassword([]byte("dew"), bcrypt.MinCost)
	require.NoError(t, err)
	w.write("tls.crt", string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: pair.Certificate[0]})))
	w.write("tls.key", string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: key})))
	w.write("htpasswd", "vale:"+string(hash)+"\n")
	w.write("registry.yml", fmt.Sprintf("version: 0.1\nstorage: {filesystem: {rootdirectory: %s}, delete: {enabled: true}}\n"+
		"http: {addr: %q, tls: {certificate: %s, key: %s}}\nauth: {htpasswd: {realm: vale, path: %s}}\nlog: {level: error}\n",
		w.path("registry"), address, w.path("tls.crt"), w.path("tls.key"), w.path("htpasswd")))
	serving := exec.Command(program, "serve", w.path("registry.yml"))
	require.NoError(t, serving.Start())
	t.Cleanup(func() { serving.Process.Kill(); serving.Wait() })
	require.Eventually(t, func() bool {
		c, err := net.Dial("tcp", address)
		if err == nil {
			c.Close()
		}
		return err == nil
	}, 20*time.Second, 50*time.Millisecond)

	w.env = append(w.env, "SSL_CERT_FILE="+w.path("tls.crt"))
	w.pkg("fern", script("place", place("fern")))
	depot := func(name string) string {
		return fmt.Sprintf("[[depot]]\nname = %q\nurl = \"https://%s/vale/%s\"\nkeys = [\"site.pub\"]\nsign = \"site\"\n", name,
			address, name)
	}
	w.write("fernladder.toml", "credentials = \"logins.toml\"\n"+baseSettings+depot("builds")+depot("copies"))
	login := func(password string) {
		w.write("logins.toml", fmt.Sprintf("[[host]]\nname = %q\nuser = \"vale\"\npassword = %q\n", address, password))
		require.NoError(t, os.Chmod(w.path("logins.toml"), 0o600))
	}
	login("wrong")
	w.must("build", "fern")
	assert.NotContains(t, w.fails(5, []string{"share", "fern"}, "401 Unauthorized").stderr, "wrong")
	login("dew")
	assert.Regexp(t, `fern .* 0 B sent +copies`, w.must("share", "fern").stdout)
	assert.Contains(t, w.must("share", "fern").stdout, "already there")
	require.NoError(t, os.RemoveAll(w.root))
	w.write("fernladder.toml", "credentials = \"logins.toml\"\n"+baseSettings+depot("copies"))
	assert.Contains(t, w.must("install", "fern").stderr, "taken from copies")

	// Registry clients keep logins, too.
	require.NoError(t, os.RemoveAll(w.root))
	w.write("fernladder.toml", baseSettings+depot("copies"))
	assert.Contains(t, w.must("plan", "fern").stderr, "the registry wants a login")
	w.write(".docker/config.json", fmt.Sprintf(`{"auths":{%q:{"auth":%q}}}`, address,
		base64.StdEncoding.EncodeToString([]byte("vale:dew"))))
	assert.Contains(t, w.must("install", "fern").stderr, "taken from copies")
	w.write("none.lock", "format = 1\n")
	w.must("clean", "--depot", "copies", "--keep", "none.lock", "--yes")
	assert.Contains(t, w.must("clean", "--depot", "copies", "--keep", "none.lock").stdout, "Nothing to delete")
}
