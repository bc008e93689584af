package advisory

import (
	"archive/zip"
	"bytes"
	"context"
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
	"fernladder/core/problem"
	"fernladder/core/settings"
	"fernladder/core/source"
)

// entry is an advisory for a package that ends with a version.
func entry(id, name, fixed, more string) string {
	return fmt.Sprintf(`{"id":%q,"modified":"2026-11-0%dT00:00:00Z","affected":[{"package":{"ecosystem":"Debian","name":%q},`+
		`"ranges":[{"type":"ECOSYSTEM","events":[{"introduced":"0"},{"fixed":%q}]}]}]%s}`, id, len(id)%9+1, name, fixed, more)
}

func archive(t *testing.T, method uint16, entries ...string) []byte {
	var out bytes.Buffer
	z := zip.NewWriter(&out)
	for i, e := range entries {
		w, err := z.CreateHeader(&zip.FileHeader{Name: fmt.Sprintf("%d.json", i), Method: method})
		require.NoError(t, err)
		_, err = w.Write([]byte(e))
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
	return out.Bytes()
}

func write(t *testing.T, path string, data []byte) {
	require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
	require.NoError(t, os.WriteFile(path, data, 0o644))
}

func find(t *testing.T, dir string, versions ...string) ([]*Hole, *Databases, error) {
	d, err := Open(context.Background(), []Source{{"vale", dir, filepath.Join(t.TempDir(), "sub", "index"), true}})
	if err != nil {
		return nil, nil, err
	}
	defer d.Close()
	var subjects []*Subject
	for _, v := range versions {
		subjects = append(subjects, &Subject{Name: "fern", Version: v, Known: fern})
	}
	holes, err := d.Find(subjects, nil)
	return holes, d, err
}

func TestFindReadsFilesDirectoriesAndArchives(t *testing.T) {
	dir := t.TempDir()
	write(t, filepath.Join(dir, "a/VALE-2026-1.json"), []byte(entry("VALE-2026-1", "fern", "1.3", "")))
	write(t, filepath.Join(dir, "b/all.zip"), archive(t, zip.Deflate, entry("VALE-2026-22", "fern", "1.5", ""),
		entry("VALE-2026-333", "moss", "9", ""), `{"id":"broken"`, entry("VALE-2026-4444", "fern", "1.1", `,"withdrawn":"2026-01-01T00:00:00Z"`)))
	write(t, filepath.Join(dir, "c.zip"), archive(t, zip.Store, entry("VALE-2026-55555", "fern", "1.4", "")))
	write(t, filepath.Join(dir, "README"), []byte("fern"))
	holes, d, err := find(t, dir, "1.3", "1.6")
	require.NoError(t, err)
	var got []string
	for _, h := range holes {
		for _, c := range h.Concerns {
			if c.Verdict == Vulnerable {
				got = append(got, h.ID+" "+c.Subject.Version)
			}
		}
	}
	assert.Equal(t, []string{"VALE-2026-22 1.3", "VALE-2026-55555 1.3"}, got)
	assert.Equal(t, []Contents{{"vale", 6, 1, "2026-11-07T00:00:00Z"}}, d.Contents())
}

func TestAliasesAreOneHole(t *testing.T) {
	dir := t.TempDir()
	for i, e := range []string{
		entry("VALE-2026-1", "fern", "1.3", `,"aliases":["CVE-2026-1","OTHER-1"]`),
		entry("OTHER-1", "fern", "1.1", `,"aliases":["THIRD-1"]`), // contradicts
		entry("THIRD-1", "fern", "1.3", `,"aliases":["VALE-2026-1","THIRD-1"]`),
		`{"id":"CVE-2026-1","summary":"Overrun","severity":[{"score":"CVSS:3.1/AV:N/AC:L/PR:N/UI:N/S:U/C:H/I:H/A:H"}]}`,
		entry("FOURTH-1", "fern", "1.3", `,"upstream":["CVE-2026-1","CVE-2026-2"]`), // of several
	} {
		write(t, filepath.Join(dir, fmt.Sprintf("%d.json", i)), []byte(e))
	}
	holes, _, err := find(t, dir, "1.2")
	require.NoError(t, err)
	require.Len(t, holes, 2)
	h := holes[1]
	assert.Equal(t, "CVE-2026-1", h.ID)
	assert.Equal(t, []string{"OTHER-1", "THIRD-1", "VALE-2026-1"}, h.Aliases)
	assert.Equal(t, Score{Critical, 9.8, "CVSS:3.1/AV:N/AC:L/PR:N/UI:N/S:U/C:H/I:H/A:H"}, h.Severity, "that of its alias")
	assert.Equal(t, "Overrun", h.Summary)
	require.Len(t, h.Concerns, 1)
	assert.Equal(t, []string{"OTHER-1"}, h.Concerns[0].Against)
	assert.Equal(t, []string{"1.1", "1.3"}, h.Concerns[0].Fixed)
	assert.Equal(t, "FOURTH-1", holes[0].ID, "its severity is unknown: it comes first")
}

func TestDamagedDatabases(t *testing.T) {
	dir := t.TempDir()
	whole := archive(t, zip.Deflate, entry("VALE-2026-1", "fern", "1.3", ""), entry("VALE-2026-2", "fern", "1.3", ""))
	for name, data := range map[string][]byte{
		"truncated":             whole[:len(whole)-30],
		"without its directory": whole[:100],
		"directory elsewhere":   bytes.Replace(whole, []byte("PK\x01\x02"), []byte("PK\x09\x09"), 1),
		"offsets beyond":        append(append([]byte{}, whole[:len(whole)-6]...), 0xff, 0xff, 0xff, 0x7f, 0, 0),
	} {
		write(t, filepath.Join(dir, "all.zip"), data)
		_, _, err := find(t, dir, "1.2")
		assert.ErrorContains(t, err, "not a complete zip archive", name)
		assert.Equal(t, problem.Fetch, problem.KindOf(err), name)
	}
	flipped := bytes.Clone(whole)
	flipped[60] ^= 0x40
	write(t, filepath.Join(dir, "all.zip"), flipped)
	holes, d, err := find(t, dir, "1.2")
	require.NoError(t, err)
	assert.Len(t, holes, 1)
	assert.Equal(t, 1, d.Contents()[0].Broken, "its checksum is wrong, and that is told")

	write(t, filepath.Join(dir, "all.zip"), archive(t, zip.Deflate, strings.Replace(entry("VALE-2026-1", "fern", "1.3", ""),
		`"0"`, `0`, 1)))
	holes, d, err = find(t, dir, "1.2")
	require.NoError(t, err)
	assert.Empty(t, holes)
	assert.Equal(t, []string{"VALE-2026-1"}, d.Unreadable, "it may concern the package")
}

func TestRenew(t *testing.T) {
	contents := archive(t, zip.Deflate, entry("VALE-2026-333", "fern", "1.3", ""))
	modified, asked := time.Date(2026, 11, 1, 0, 0, 0, 0, time.UTC), 0
	site := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if asked++; strings.HasSuffix(r.URL.Path, ".asc") {
			fmt.Fprint(w, "no signature")
			return
		}
		http.ServeContent(w, r, "all.zip", modified, bytes.NewReader(contents))
	}))
	defer site.Close()
	network := source.NewNetwork(func(string) string { return "" })
	network.Events, network.Now, network.Hosts = event.Nowhere, time.Now, source.NewHosts(4, 4)
	network.Credentials = &source.Credentials{}
	k := &Keeper{Dir: t.TempDir(), Archives: &source.Archives{Network: network}, Waiting: func() {}}
	d := &settings.Advisories{URL: site.URL + "/all.zip"}
	renew := func(older bool) (bool, error) { return k.Renew(context.Background(), d, older) }

	fresh, err := renew(false)
	require.NoError(t, err)
	assert.True(t, fresh)
	fresh, err = renew(false)
	require.NoError(t, err)
	assert.False(t, fresh, "the server says that it has not changed")
	first, err := k.Source(d)
	require.NoError(t, err)

	contents, modified = archive(t, zip.Deflate, entry("VALE-2026-1", "fern", "1.3", "")), modified.Add(time.Hour)
	_, err = renew(false)
	assert.ErrorIs(t, err, Older)
	still, err := k.Source(d)
	require.NoError(t, err)
	assert.Equal(t, first, still, "the copy of before counts")
	fresh, err = renew(true)
	require.NoError(t, err)
	assert.True(t, fresh)

	contents, modified = []byte("<html>"), modified.Add(time.Hour)
	_, err = renew(true)
	require.NoError(t, err, "one file that is no entry")

	key := filepath.Join(t.TempDir(), "vale.asc")
	write(t, key, []byte("untrusted comment: minisign public key\nRWQf6LRCGA9i53mlYecO4IzT51TGPpvWucNSCh1CBM0QTaLn73Y7GFO3\n"))
	signed := &settings.Advisories{URL: site.URL + "/signed.zip", Signature: []string{site.URL + "/x.asc"}, Keys: []string{key}}
	_, err = k.Renew(context.Background(), signed, false)
	assert.ErrorContains(t, err, "is not used")
	_, err = k.Source(signed)
	assert.ErrorIs(t, err, os.ErrNotExist, "nothing of it stays")
}
