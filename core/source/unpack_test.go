package source

import (
	"archive/tar"
	"archive/zip"
	"bufio"
	"bytes"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var noon = time.Date(2026, 3, 20, 12, 0, 0, 0, time.UTC)

func file(name, text string) *tar.Header {
	return &tar.Header{Name: name, Mode: 0o644, Size: int64(len(text)), ModTime: noon, Linkname: text}
}

func directory(name string) *tar.Header {
	return &tar.Header{Typeflag: tar.TypeDir, Name: name, Mode: 0o755, ModTime: noon.Add(-time.Hour)}
}

func link(kind byte, name, target string) *tar.Header {
	return &tar.Header{Typeflag: kind, Name: name, Linkname: target, ModTime: noon}
}

// tarball packs entries; a file's contents are in its Linkname.
func tarball(t require.TestingT, entries ...*tar.Header) []byte {
	var out bytes.Buffer
	w := tar.NewWriter(&out)
	for _, h := range entries {
		text := ""
		if h.Typeflag == 0 {
			text, h.Linkname = h.Linkname, ""
		}
		require.NoError(t, w.WriteHeader(h))
		_, err := w.Write([]byte(text))
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	return out.Bytes()
}

func unpack(t *testing.T, data []byte, limits Limits) (string, Unpacked, error) {
	archive := filepath.Join(t.TempDir(), "archive")
	dir := filepath.Join(t.TempDir(), "inside")
	require.NoError(t, os.WriteFile(archive, data, 0o644))
	require.NoError(t, os.Mkdir(dir, 0o755))
	got, err := Unpack(context.Background(), archive, dir, limits)
	return dir, got, err
}

func TestUnpackKeepsWhatCounts(t *testing.T) {
	run := file("pkg/bin/run", "#!/bin/sh\n")
	run.Mode = 0o4775 // setuid is dropped
	data := tarball(t, directory("pkg/"), run, file("pkg/a", "one"), link(tar.TypeLink, "pkg/same", "pkg/a"),
		link(tar.TypeSymlink, "pkg/bin/up", "../a"), file("./pkg/a", "two"), file("pkg/deep/er/b", "x"))
	dir, got, err := unpack(t, data, Usual)
	require.NoError(t, err)
	assert.Equal(t, noon, got.Newest.UTC())
	for name, mode := range map[string]fs.FileMode{"pkg/bin/run": 0o755, "pkg/a": 0o644, "pkg/deep/er/b": 0o644,
		"pkg/same": 0o644} {
		info, err := os.Lstat(filepath.Join(dir, name))
		require.NoError(t, err)
		assert.Equal(t, mode, info.Mode(), name)
		assert.Equal(t, noon, info.ModTime().UTC(), name)
	}
	info, err := os.Stat(filepath.Join(dir, "pkg"))
	require.NoError(t, err)
	assert.Equal(t, noon.Add(-time.Hour), info.ModTime().UTC(), "directories keep their time too")
	text, err := os.ReadFile(filepath.Join(dir, "pkg/bin/up"))
	require.NoError(t, err)
	assert.Equal(t, "two", string(text), "the later of two entries counts")
	text, _ = os.ReadFile(filepath.Join(dir, "pkg/same"))
	assert.Equal(t, "one", string(text), "what the earlier one was linked to stays")
}

// Whatever the archive contains, nothing is written outside the directory.
func TestUnpackStaysInside(t *testing.T) {
	for name, c := range map[string]struct {
		entries []*tar.Header
		reason  string
	}{
		"dots":               {[]*tar.Header{file("../out", "x")}, "outside the directory"},
		"dots in the middle": {[]*tar.Header{file("a/../../out", "x")}, "outside the directory"},
		"absolute":           {[]*tar.Header{file("/tmp/out", "x")}, "outside the directory"},
		"link out": {[]*tar.Header{link(tar.TypeSymlink, "a", "../out")},
			"leads out of the directory"},
		"absolute link": {[]*tar.Header{link(tar.TypeSymlink, "a", "/etc/passwd")},
			"leads out of the directory"},
		"empty link": {[]*tar.Header{link(tar.TypeSymlink, "a", "")}, "leads out of the directory"},
		"climbing behind a link": {[]*tar.Header{link(tar.TypeSymlink, "a/b", "../c"),
			link(tar.TypeSymlink, "d", "a/b/../x")}, "leads out of the directory"},
		"through a link": {[]*tar.Header{directory("real"), link(tar.TypeSymlink, "a", "real"),
			file("a/out", "x")}, "goes through"},
		"hard link out":        {[]*tar.Header{link(tar.TypeLink, "a", "../out")}, "outside the directory"},
		"hard link to nothing": {[]*tar.Header{link(tar.TypeLink, "a", "b")}, "not a file in the archive"},
		"hard link to a link": {[]*tar.Header{file("x", "x"), link(tar.TypeSymlink, "b", "x"),
			link(tar.TypeLink, "a", "b")}, "not a file in the archive"},
		"device":                    {[]*tar.Header{{Typeflag: tar.TypeBlock, Name: "a"}}, "is a device"},
		"file where a directory is": {[]*tar.Header{directory("a"), file("a", "x")}, "is a directory elsewhere"},
		"directory where a file is": {[]*tar.Header{file("a", "x"), directory("a")}, "not a directory"},
		"dots at the end":           {[]*tar.Header{file("a/..", "x")}, "outside the directory"},
		"nothing but dots":          {[]*tar.Header{file(".", "x")}, "outside the directory"},
		"no name":                   {[]*tar.Header{file("", "x")}, "outside the directory"},
		"absolute with dots":        {[]*tar.Header{file("//../out", "x")}, "outside the directory"},
		"a line end in the name":    {[]*tar.Header{file("a\nb", "x")}, "control character"},
		"an escape in the name":     {[]*tar.Header{file("a\x1b[2J", "x")}, "control character"},
		"link to itself": {[]*tar.Header{link(tar.TypeSymlink, "a", "a"), file("a/b", "x")},
			"goes through"},
		"link to the parent": {[]*tar.Header{link(tar.TypeSymlink, "a", ".."), file("a/b", "x")},
			"leads out of the directory"},
		"links that lead out only together": {[]*tar.Header{directory("d"), link(tar.TypeSymlink, "d/a", ".."),
			link(tar.TypeSymlink, "b", "d/a/../../out")}, "leads out of the directory"},
		"a directory turned into a link": {[]*tar.Header{directory("d"), link(tar.TypeSymlink, "d", "elsewhere")},
			"is a directory elsewhere"},
		"a link turned into a directory": {[]*tar.Header{directory("real"), link(tar.TypeSymlink, "d", "real"),
			directory("d")}, "not a directory"},
		"hard link absolute": {[]*tar.Header{link(tar.TypeLink, "a", "/etc/passwd")}, "outside the directory"},
		"hard link through a link": {[]*tar.Header{directory("real"), link(tar.TypeSymlink, "d", "real"),
			link(tar.TypeLink, "a", "d/x")}, "not a file in the archive"},
		"hard link to a directory": {[]*tar.Header{directory("d"), link(tar.TypeLink, "a", "d")},
			"not a file in the archive"},
		"character device": {[]*tar.Header{{Typeflag: tar.TypeChar, Name: "a"}}, "is a device"},
		"pipe":             {[]*tar.Header{{Typeflag: tar.TypeFifo, Name: "a"}}, "is a device"},
		"too many entries": {[]*tar.Header{file("a", ""), file("b", ""), file("c", ""), file("d", "")},
			"exceeds the limit of"},
		"too many bytes": {[]*tar.Header{file("a", strings.Repeat("x", 2000))}, "makes the source too large"},
	} {
		t.Run(name, func(t *testing.T) {
			dir, _, err := unpack(t, tarball(t, c.entries...), Limits{Entries: 3, Bytes: 1000, Ratio: 200})
			var bad *UnpackError
			require.ErrorAs(t, err, &bad)
			assert.ErrorContains(t, err, c.reason)
			around, err := os.ReadDir(filepath.Dir(dir))
			require.NoError(t, err)
			assert.Len(t, around, 1, "only the directory itself is there")
		})
	}
}

func TestUnpackFormats(t *testing.T) {
	plain := tarball(t, file("pkg/a", "contents"))
	var gz, zst, zipped bytes.Buffer
	g := gzip.NewWriter(&gz)
	g.Write(plain)
	require.NoError(t, g.Close())
	z, _ := zstd.NewWriter(&zst)
	z.Write(plain)
	require.NoError(t, z.Close())
	p := zip.NewWriter(&zipped)
	w, _ := p.Create("pkg/a")
	w.Write([]byte("contents"))
	h := &zip.FileHeader{Name: "pkg/l"}
	h.SetMode(fs.ModeSymlink | 0o777)
	w, _ = p.CreateHeader(h)
	w.Write([]byte("a"))
	require.NoError(t, p.Close())
	bz2, err := os.ReadFile("testdata/pkg.tar.bz2")
	require.NoError(t, err)
	xz, err := os.ReadFile("testdata/pkg.tar.xz")
	require.NoError(t, err)
	for name, data := range map[string][]byte{"tar": plain, "gz": gz.Bytes(), "zst": zst.Bytes(), "zip": zipped.Bytes(),
		"bz2": bz2, "xz": xz} {
		dir, _, err := unpack(t, data, Usual)
		require.NoError(t, err, name)
		text, err := os.ReadFile(filepath.Join(dir, "pkg/a"))
		require.NoError(t, err, name)
		assert.Equal(t, "contents", string(text), name)
		if name == "tar" {
			continue // which has nothing at its end to miss
		}
		for _, cut := range []int{len(data) / 2, len(data) / 3} {
			_, _, err = unpack(t, data[:cut], Usual)
			assert.ErrorAs(t, err, new(*UnpackError), "%s cut at %d", name, cut)
		}
	}
	_, _, err = unpack(t, []byte("this is a page that says: not found, in many more words than that"), Usual)
	assert.ErrorContains(t, err, "neither tar (plain, gz, bz2, xz, zst, lz) nor zip")
	_, _, err = unpack(t, nil, Usual)
	assert.ErrorAs(t, err, new(*UnpackError))
}

func FuzzUnpack(f *testing.F) {
	f.Add(tarball(f, directory("d"), file("d/a", "x"), link(tar.TypeSymlink, "l", "d"), link(tar.TypeLink, "h", "d/a")))
	for _, name := range []string{"pkg.tar.bz2", "pkg.tar.xz"} {
		data, err := os.ReadFile("testdata/" + name)
		require.NoError(f, err)
		f.Add(data)
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		outer := t.TempDir()
		archive, dir := filepath.Join(outer, "archive"), filepath.Join(outer, "inside")
		require.NoError(t, os.WriteFile(archive, data, 0o644))
		require.NoError(t, os.Mkdir(dir, 0o755))
		Unpack(context.Background(), archive, dir, Limits{Entries: 100, Bytes: 1 << 20, Ratio: 200})
		around, err := os.ReadDir(outer)
		require.NoError(t, err)
		require.Len(t, around, 2)
		filepath.WalkDir(dir, func(path string, d fs.DirEntry, _ error) error {
			if d.Type()&fs.ModeSymlink != 0 {
				if end, err := filepath.EvalSymlinks(path); err == nil {
					require.True(t, strings.HasPrefix(end, dir), "%s leads to %s", path, end)
				}
			}
			return nil
		})
	})
}

// A large archive may not expand to much more than its size suggests.
func TestBombs(t *testing.T) {
	var archive bytes.Buffer
	w := gzip.NewWriter(&archive)
	w.Write(tarball(t, file("pkg/zeros", strings.Repeat("0", 300_000))))
	require.NoError(t, w.Close())
	zeros, packed := archive.Bytes(), int64(archive.Len())
	for name, c := range map[string]struct {
		limits Limits
		bomb   bool
	}{
		"small enough for any ratio": {Limits{Entries: 10, Bytes: 1 << 20, Ratio: 2, Free: 300_000}, false},
		"in proportion":              {Limits{Entries: 10, Bytes: 1 << 20, Ratio: 300_000/packed + 1, Free: 1000}, false},
		"out of proportion":          {Limits{Entries: 10, Bytes: 1 << 20, Ratio: 300_000 / packed / 2, Free: 1000}, true},
		"too large":                  {Limits{Entries: 10, Bytes: 299_999, Ratio: 1 << 30}, true},
	} {
		_, _, err := unpack(t, zeros, c.limits)
		assert.Equal(t, c.bomb, err != nil, "%s: %v", name, err)
	}
}

// An archive may expand to exactly the limit; a file's hard link to itself adds nothing.
func TestLimitsAreExact(t *testing.T) {
	archive := tarball(t, file("pkg/a", strings.Repeat("0", 1000)))
	for bytes, fits := range map[int64]bool{1000: true, 999: false} {
		_, _, err := unpack(t, archive, Limits{Entries: 2, Bytes: bytes})
		assert.Equal(t, fits, err == nil, "%d: %v", bytes, err)
	}
	for entries, fits := range map[int]bool{1: true, 0: false} {
		_, _, err := unpack(t, archive, Limits{Entries: entries, Bytes: 1000})
		assert.Equal(t, fits, err == nil, "%d: %v", entries, err)
	}
	name := string([]byte{'p', 'k', 'g', '/', 'a', ' ', 'b'})
	_, _, err := unpack(t, tarball(t, file(name, "x")), Usual)
	assert.NoError(t, err, "a blank is no control character")
}

// Headers without a file count, too.
func TestGlobalHeadersCount(t *testing.T) {
	var archive bytes.Buffer
	packed := gzip.NewWriter(&archive)
	w := tar.NewWriter(packed)
	for range 50 {
		require.NoError(t,
			w.WriteHeader(&tar.Header{Typeflag: tar.TypeXGlobalHeader, Name: "x",
				PAXRecords: map[string]string{"comment": strings.Repeat("0", 100_000)}}))
	}
	require.NoError(t, w.WriteHeader(&tar.Header{Name: "pkg/a", Mode: 0o644}))
	require.NoError(t, errors.Join(w.Close(), packed.Close()))
	for says, limits := range map[string]Limits{
		"exceeds the limit of":       {Entries: 20, Bytes: 1 << 30},
		"makes the source too large": {Entries: 100, Bytes: 1 << 30, Ratio: 50, Free: 1 << 20},
	} {
		_, _, err := unpack(t, archive.Bytes(), limits)
		assert.ErrorContains(t, err, says)
	}
	_, _, err := unpack(t, archive.Bytes(), Usual)
	assert.NoError(t, err)
}

func TestRedirectsDoNotLeaveHTTPS(t *testing.T) {
	request := func(url string) *http.Request {
		r, err := http.NewRequest(http.MethodGet, url, nil)
		require.NoError(t, err)
		return r
	}
	client := testNetwork(0).Client()
	secure, plain := request("https://a.example/x"), request("http://a.example/x")
	assert.NoError(t, client.CheckRedirect(secure, []*http.Request{secure}))
	assert.NoError(t, client.CheckRedirect(secure, []*http.Request{plain}))
	assert.ErrorContains(t, client.CheckRedirect(plain, []*http.Request{secure}), "which is refused")
	assert.ErrorContains(t, client.CheckRedirect(plain, []*http.Request{plain, secure}), "which is refused")
	assert.Error(t, client.CheckRedirect(plain, make([]*http.Request, 10)))
}

// Damage, attacks and valid archives are told apart.
func TestDamagedArchives(t *testing.T) {
	good := tarball(t, file("pkg/a", strings.Repeat("leaf\n", 5000)), file("pkg/A", "case"))
	compress := func(program string, args ...string) []byte {
		command := exec.Command(program, append(args, "-c")...)
		command.Stdin = bytes.NewReader(good)
		out, err := command.Output()
		require.NoError(t, err, program)
		return out
	}
	var zipped bytes.Buffer
	z := zip.NewWriter(&zipped)
	w, err := z.Create("pkg/a")
	require.NoError(t, err)
	w.Write([]byte("leaf"))
	require.NoError(t, z.Close())
	bomb := func() []byte {
		var out bytes.Buffer
		g := gzip.NewWriter(&out)
		tw := tar.NewWriter(g)
		tw.WriteHeader(&tar.Header{Name: "zeros", Mode: 0o644, Size: 64 << 20})
		tw.Write(make([]byte, 64<<20))
		tw.Close()
		g.Close()
		return out.Bytes()
	}()
	var wordy bytes.Buffer
	z = zip.NewWriter(&wordy)
	for i := range 520 {
		_, err := z.CreateHeader(&zip.FileHeader{Name: fmt.Sprint("pkg/", i), Comment: strings.Repeat("c", 1<<16-1)})
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
	var empty bytes.Buffer
	require.NoError(t, gzip.NewWriter(&empty).Close())
	gz, bz, xz, zst, lz := compress("gzip"), compress("bzip2"), compress("xz"), compress("zstd", "-q"), compress("lzip")
	for name, c := range map[string]struct {
		data []byte
		says string
	}{
		"gz": {gz, ""}, "bz2": {bz, ""}, "xz": {xz, ""}, "zst": {zst, ""}, "lz": {lz, ""},
		"lz in two members":         {append(append([]byte{}, lz...), lz...), ""},
		"gz with something behind":  {append(append([]byte{}, gz...), "garbage"...), ""},
		"lz with something behind":  {append(append([]byte{}, lz...), "garbage"...), ""},
		"tar with something behind": {append(append([]byte{}, good...), "garbage"...), ""},
		"gz cut off":                {gz[:len(gz)/2], "cut off"},
		"gz cut off at its end":     {gz[:len(gz)-3], "damaged after its last entry"},
		"gz without its end":        {gz[:len(gz)-8], "damaged after its last entry"},
		"gz with a wrong sum":       {flip(gz, len(gz)-6), "damaged after its last entry"},
		"gz of another length":      {flip(gz, len(gz)-2), "damaged after its last entry"},
		"bz2 with a wrong sum":      {flip(bz, len(bz)-2), "damaged"},
		"zst with a wrong sum":      {flip(zst, len(zst)-2), "CRC check failed"},
		"xz with a wrong sum":       {flip(xz, len(xz)-20), "damaged"},
		"bz2 cut off":               {bz[:len(bz)/2], "cut off"},
		"xz cut off":                {xz[:len(xz)/2], "truncated or corrupt"},
		"zst cut off":               {zst[:len(zst)/2], "cut off"},
		"lz cut off":                {lz[:len(lz)/2], "cut off"},
		"gz that is damaged":        {flip(gz, len(gz)/2), ""},
		"tar cut off in a file":     {good[:2000], "cut off"},
		"tar cut off in a header":   {good[:600], "cut off"},
		"a header that is damaged":  {flip(good, 148), "neither tar"},
		"zip cut off":               {zipped.Bytes()[:zipped.Len()/2], "zip archive is damaged"},
		"zip of two minds": {bytes.Replace(zipped.Bytes(), []byte("pkg/a"), []byte("../ab"), 1),
			"is another file by its own header"},
		"zip that climbs": {bytes.ReplaceAll(zipped.Bytes(), []byte("pkg/a"), []byte("../ab")),
			"outside the directory"},
		"a bomb":                   {bomb, "makes the source too large"},
		"nothing":                  {nil, "there is nothing in it"},
		"empty tar":                {make([]byte, 1024), "there is nothing in it"},
		"a web page":               {[]byte("<!DOCTYPE html><title>x</title>" + strings.Repeat(" ", 600)), "neither tar"},
		"gz, then a broken member": {slices.Concat(gz, []byte("\x1f\x8b\x07rubbish")), "damaged"},
		"gz members, then rubbish": {slices.Concat(gz, empty.Bytes(), []byte("rubbish")), ""},
		"zip of long comments":     {wordy.Bytes(), "directory of the zip archive is larger than 32 MiB"},
	} {
		t.Run(name, func(t *testing.T) {
			dir, _, err := unpack(t, c.data, Limits{Entries: 10, Bytes: 1 << 20, Ratio: 200})
			if name == "gz that is damaged" {
				require.Error(t, err)
				return
			}
			if c.says != "" {
				require.ErrorContains(t, err, c.says)
				return
			}
			require.NoError(t, err)
			text, err := os.ReadFile(filepath.Join(dir, "pkg/A"))
			require.NoError(t, err)
			assert.Equal(t, "case", string(text), "names that differ in case are different names")
		})
	}
}

func TestLzipTrailers(t *testing.T) {
	command := exec.Command("lzip", "-c")
	command.Stdin = strings.NewReader("leaf\n")
	good, err := command.Output()
	require.NoError(t, err)
	for _, c := range []struct {
		data []byte
		says string
	}{{good, ""}, {good[:len(good)-1], "unexpected EOF"}, {flip(good, len(good)-20), "damaged"},
		{flip(good, len(good)-12), "damaged"}, {flip(good, len(good)-8), "damaged"},
		{flip(good, 4), "version 254"}, {good[:3], "unexpected EOF"}} {
		text, err := io.ReadAll(&lzipReader{r: bufio.NewReader(bytes.NewReader(c.data))})
		if c.says != "" {
			assert.ErrorContains(t, err, c.says)
			continue
		}
		require.NoError(t, err)
		assert.Equal(t, "leaf\n", string(text))
	}
}

func flip(data []byte, at int) []byte {
	other := bytes.Clone(data)
	other[at] ^= 0xff
	return other
}
