package source_test

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/pem"
	"fmt"
	"net/http"
	"net/http/httptest"
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

// The https sites of the tests have one certificate, which is trusted.
func TestMain(m *testing.M) {
	site := httptest.NewTLSServer(nil)
	file := filepath.Join(os.TempDir(), fmt.Sprintf("fernladder-test-%d.pem", os.Getpid()))
	err := os.WriteFile(file, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: site.Certificate().Raw}), 0o600)
	site.Close()
	if err != nil {
		panic(err)
	}
	os.Setenv("SSL_CERT_FILE", file)
	status := m.Run()
	os.Remove(file)
	os.Exit(status)
}

func digestOf(data []byte) recipe.Digest {
	sum := sha256.Sum256(data)
	return recipe.Digest{Algorithm: "sha256", Hex: hex.EncodeToString(sum[:])}
}

// garden starts a site that serves data as "a.tar", and an empty store.
func garden(t *testing.T, data []byte) (*upstream.Site, *source.Archives, source.Wanted) {
	site, err := upstream.Start(map[string][]byte{"a.tar": data})
	require.NoError(t, err)
	t.Cleanup(func() { site.Close() })
	network := source.NewNetwork(os.Getenv)
	network.Agent, network.Patience = "test", 500*time.Millisecond
	archives := &source.Archives{Dir: t.TempDir(), Network: network,
		Pause: func(ctx context.Context, d time.Duration) error { return ctx.Err() }}
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
	assert.Len(t, site.Asked(), asked+7, "what no longer has its digest is")
}

func TestFetchStoresNothingThatIsWrong(t *testing.T) {
	site, archives, w := garden(t, []byte("fern"))
	w.URLs = []string{site.URL + "/tampered/a.tar", site.URL + "/tampered/a.tar"}
	_, err := archives.Fetch(context.Background(), w)
	var failed *source.FetchError
	require.ErrorAs(t, err, &failed)
	assert.Len(t, failed.Attempts, 2)
	assert.Contains(t, err.Error(), "Every source serves a file that differs")
	assert.Contains(t, err.Error(), "recipe.toml:9")
	filepath.WalkDir(archives.Dir, func(path string, d os.DirEntry, _ error) error {
		assert.True(t, d.IsDir() || strings.HasSuffix(path, ".lock"), path)
		return nil
	})
	assert.False(t, archives.Has(w.Digest))
}

// Whatever a site does, the result is the right file or an error that names the fault; a working
// mirror heals it.
func TestFaultsOfSites(t *testing.T) {
	data := []byte(strings.Repeat("fern and moss\n", 10_000))
	for how, says := range map[string]string{
		"dl": "", "breaks": "", "changes": "", "liar": "", "busy": "", "hop": "",
		"tampered": "wrong sha256", "long": "wrong sha256", "packed": "wrong sha256", "page": "it is a web page",
		"empty": "it is empty",
		"cut1":  "cut off after 14000 of 140000 bytes", "cut2": "cut off after 28000", "cut3": "cut off after 42000",
		"cut4": "cut off after 56000", "cut5": "cut off after 70000",
		"cut6": "cut off after 84000", "cut7": "cut off after 98000", "cut8": "cut off after 112000",
		"cut9": "cut off after 126000", "cut0": "cut off after 0 of",
		"stall": "no data for 500ms", "drips": "bytes in 500ms", "forger": "cut off after 70000",
		"later": "429 Too Many Requests, and to try again in 1h0m0s", "loop": "redirected more than 10 times",
		"locked": "401 Unauthorized", "absent": "404 Not Found",
	} {
		t.Run(how, func(t *testing.T) {
			site, archives, w := garden(t, data)
			w.URLs = []string{site.URL + "/" + how + "/a.tar"}
			_, err := archives.Fetch(context.Background(), w)
			if says == "" {
				require.NoError(t, err)
				stored, err := os.ReadFile(archives.Path(w.Digest))
				require.NoError(t, err)
				assert.Equal(t, data, stored)
				return
			}
			require.ErrorContains(t, err, says)
			assert.False(t, archives.Has(w.Digest))
			w.URLs = append(w.URLs, site.URL+"/dl/a.tar")
			_, err = archives.Fetch(context.Background(), w)
			assert.NoError(t, err, "another mirror heals it")
		})
	}
}

func TestFetchGoesOnWhereItStopped(t *testing.T) {
	data := []byte(strings.Repeat("fern", 100_000))
	site, archives, w := garden(t, data)
	w.URLs = []string{site.URL + "/breaks/a.tar"}
	stop, cancel := context.WithCancel(context.Background())
	// The run ends when the connection breaks.
	archives.Pause = func(context.Context, time.Duration) error { cancel(); return stop.Err() }
	_, err := archives.Fetch(stop, w)
	require.Error(t, err)
	fresh := &source.Archives{Dir: archives.Dir, Network: source.NewNetwork(os.Getenv)}
	fresh.Events = event.Func(func(e event.Event) {
		if e.Kind == event.FetchProgress {
			assert.Greater(t, e.Done, int64(len(data)/2))
		}
	})
	_, err = fresh.Fetch(context.Background(), w)
	require.NoError(t, err)
	assert.Len(t, site.Asked(), 2)
	left, err := os.ReadDir(filepath.Join(archives.Dir, "partial"))
	require.NoError(t, err)
	for _, e := range left {
		assert.True(t, strings.HasSuffix(e.Name(), ".lock"), e.Name())
	}
}

func TestLimitsAndOffline(t *testing.T) {
	site, archives, w := garden(t, []byte(strings.Repeat("fern", 1000)))
	w.URLs = []string{site.URL + "/dl/a.tar"}
	archives.Largest = 1000
	_, err := archives.Fetch(context.Background(), w)
	assert.ErrorContains(t, err, "larger than 1000 bytes")
	archives.Largest, archives.Offline = 0, true
	_, err = archives.Fetch(context.Background(), w)
	assert.ErrorContains(t, err, "offline, the network is forbidden")
	archives.Offline = false
	_, err = archives.Fetch(context.Background(), w)
	require.NoError(t, err)
	archives.Offline = true
	_, err = archives.Fetch(context.Background(), w)
	assert.NoError(t, err, "what is here is here")
}

// Secrets are sent to their own host only.
func TestCredentials(t *testing.T) {
	_, archives, w := garden(t, []byte("fern"))
	dir := t.TempDir()
	write := func(name, text string, mode os.FileMode) string {
		file := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(file, []byte(text), mode))
		return file
	}
	secure := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Authorization") == "Bearer open-sesame" {
			w.Write([]byte("fern"))
			return
		}
		http.Error(w, "locked", http.StatusUnauthorized)
	}))
	defer secure.Close()
	host := strings.TrimPrefix(secure.URL, "https://")
	c, err := source.ReadCredentials(write("good", "[[host]]\nname = \""+host+"\"\ntoken = \"open-sesame\"\n", 0o600),
		"good")
	require.NoError(t, err)
	archives.Credentials = c
	w.URLs = []string{secure.URL + "/locked/a.tar?key=sesame"}
	got, err := archives.Fetch(context.Background(), w)
	require.NoError(t, err)
	assert.NotContains(t, got.URL, "sesame")
	_, err = source.ReadCredentials(write("open", "", 0o644), "open")
	assert.ErrorContains(t, err, "others can read these credentials (mode 0644)")
	_, err = source.ReadCredentials(write("bad", "[[host]]\nname = \"x\"\ntokn = \"secret\"\n", 0o600), "bad")
	require.ErrorContains(t, err, `did you mean "token"?`)
	assert.NotContains(t, err.Error(), "secret")

	// Another port of the same host, plain http, and the target of a redirection receive nothing,
	// not even the previous URL.
	var sent []string
	note := http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		sent = append(sent, r.Header.Get("Authorization")+r.Header.Get("Referer"))
	})
	other, plain := httptest.NewTLSServer(note), httptest.NewServer(note)
	defer other.Close()
	defer plain.Close()
	redirecting := httptest.NewTLSServer(http.RedirectHandler(other.URL+"/", http.StatusFound))
	defer redirecting.Close()
	named := func(server *httptest.Server) string { return server.URL[strings.LastIndex(server.URL, "/")+1:] }
	c.AddNetrc(write("netrc", "machine "+named(redirecting)+
		" login fern password moss\nmachine 127.0.0.1 login x password y\ndefault login x password y\n", 0o600))
	c.AddNetrc(write("more", "machine "+named(plain)+" login fern password moss\n", 0o600))
	for _, url := range []string{other.URL + "/", plain.URL + "/", redirecting.URL + "/?token=sesame"} {
		archives.FetchSmall(context.Background(), url)
	}
	assert.Equal(t, []string{"", "", ""}, sent)
	c.AddNetrc(write("again", "machine "+named(other)+" login fern password moss\n", 0o600))
	archives.FetchSmall(context.Background(), redirecting.URL+"/")
	assert.Equal(t, "Basic ZmVybjptb3Nz", sent[3], "it is what it is for")
}

func TestHostsThatFailedComeLast(t *testing.T) {
	data := []byte("fern")
	site, archives, w := garden(t, data)
	archives.Hosts = source.NewHosts(64, 2)
	dead := "http://127.0.0.1:1/a.tar"
	w.URLs = []string{dead, site.URL + "/dl/a.tar"}
	got, err := archives.Fetch(context.Background(), w)
	require.NoError(t, err)
	assert.Len(t, got.Failed, 1)
	require.NoError(t, os.RemoveAll(archives.Dir))
	got, err = archives.Fetch(context.Background(), w)
	require.NoError(t, err)
	assert.Empty(t, got.Failed, "it is not even asked")
}

func TestACertificateThatDoesNotFit(t *testing.T) {
	site := httptest.NewTLSServer(http.NotFoundHandler())
	defer site.Close()
	_, archives, w := garden(t, []byte("fern"))
	w.URLs = []string{strings.Replace(site.URL, "127.0.0.1", "localhost", 1) + "/a.tar"}
	_, err := archives.Fetch(context.Background(), w)
	assert.ErrorContains(t, err, "certificate")
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
