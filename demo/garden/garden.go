// Package garden contains the packages of the demonstration: small programs written for an
// invented botanical garden, their recipes, and the archives of their releases, which are
// generated.
package garden

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"crypto/sha256"
	"embed"
	"encoding/hex"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
)

//go:embed src recipes
var files embed.FS

// releases are the releases of the garden's programmers.
var releases = []struct{ name, version, suffix string }{
	{"dewcalc", "1.4.3", ".tar.gz"}, // which the recipe does not have yet
	{"dewcalc", "1.4.2", ".tar.gz"},
	{"dewcalc", "1.3.0", ".tar.gz"},
	{"loamdb", "0.9.1", ".tar.zst"},
	{"sporegen", "2.0", ".zip"},
	{"frondplot", "1.2.0", ".tar.gz"},
	{"mistplan", "2.2.0-rc1", ".tar.gz"},
	{"mistplan", "2.1.0", ".tar.gz"},
	{"mistplan", "1.9.4", ".tar.gz"},
	{"glasshouse", "1.0.0", ".tar.gz"},
	{"curves", "7", ".zip"},
}

// Archives returns the files of the garden's upstream site by file name: the archives of all
// releases, always the same byte for byte; their signatures with a key, which are new each time;
// and the files of a git repository.
func Archives() (map[string][]byte, error) {
	archives := map[string][]byte{}
	for _, r := range releases {
		entries, err := sources(r.name, r.version)
		if err != nil {
			return nil, err
		}
		name := r.name + "-" + r.version + r.suffix
		if archives[name], err = pack(entries, r.suffix); err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
	}
	var err error
	if archives[AdvisoriesFile], err = advisories(); err != nil {
		return nil, err
	}
	if err := sign(archives); err != nil {
		return nil, err
	}
	return archives, repository(archives)
}

// Calibration is the file that no site has: the gardener supplies it.
const Calibration = "0.7\n"

// Write fills a folder with the garden: settings, a shelf with its recipes and, for when the
// site is down, the archives. The archives' URLs in the recipes are below upstream.
func Write(dir, upstream string, archives map[string][]byte) error {
	for name, data := range archives {
		if err := write(filepath.Join(dir, "upstream", name), data); err != nil {
			return err
		}
	}
	const settings = "# The demonstration keeps everything in its own folder.\nroot    = \"root\"\nshelves = " +
		"[\"recipes\"]\n\n# Of the growers, as their site publishes them.\nadvisories = [{ path = \"upstream/" +
		AdvisoriesFile + "\" }]\n"
	if err := write(filepath.Join(dir, "fernladder.toml"), []byte(settings)); err != nil {
		return err
	}
	calibration := sha256.Sum256([]byte(Calibration))
	places := strings.NewReplacer("@UPSTREAM@", upstream, "@FILES@", "file://"+filepath.Join(dir, "upstream"),
		"@CALIBRATION@", hex.EncodeToString(calibration[:]))
	return writeRecipes(filepath.Join(dir, "recipes"), places, archives)
}

func write(file string, data []byte) error {
	if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
		return err
	}
	return os.WriteFile(file, data, 0o644)
}

func writeRecipes(shelf string, places *strings.Replacer, archives map[string][]byte) error {
	recipes, err := fs.Sub(files, "recipes")
	if err != nil {
		return err
	}
	digest := regexp.MustCompile(`sha256( *)= "@SHA256 (.*)@"`)
	return fs.WalkDir(recipes, ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if d.IsDir() {
			return writeKey(filepath.Join(shelf, name), name, archives)
		}
		data, err := fs.ReadFile(recipes, name)
		if err != nil {
			return err
		}
		text := places.Replace(string(data))
		text = digest.ReplaceAllStringFunc(text, func(match string) string {
			archive := archives[digest.FindStringSubmatch(match)[2]]
			sum := sha256.Sum256(archive)
			return fmt.Sprintf("sha256%s= %q\nsize  %s= %d", digest.FindStringSubmatch(match)[1], hex.EncodeToString(sum[:]),
				digest.FindStringSubmatch(match)[1], len(archive))
		})
		return write(filepath.Join(shelf, name), []byte(text))
	})
}

// writeKey writes the growers' key beside the recipes whose archives they sign.
func writeKey(dir, name string, archives map[string][]byte) error {
	if !slices.Contains(signed, name) {
		return nil
	}
	return write(filepath.Join(dir, "keys", KeyFile), archives[KeyFile])
}

// entry is a file of an archive.
type entry struct {
	name string
	mode fs.FileMode
	data []byte
}

// released is the time of everything, so that archives do not change.
var released = time.Date(2026, time.March, 20, 12, 0, 0, 0, time.UTC)

// sources returns the files of a release, below one directory.
func sources(name, version string) ([]entry, error) {
	var entries []entry
	err := fs.WalkDir(files, path.Join("src", name), func(file string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		data, err := files.ReadFile(file)
		e := entry{name: path.Join(name+"-"+version, strings.TrimPrefix(file, "src/"+name)), mode: 0o644}
		if path.Base(file) == "configure" {
			e.mode = 0o755
		}
		e.data = bytes.ReplaceAll(data, []byte("@VERSION@"), []byte(version))
		entries = append(entries, e)
		return err
	})
	return entries, err
}

func pack(entries []entry, suffix string) ([]byte, error) {
	var out bytes.Buffer
	var err error
	switch suffix {
	case ".zip":
		err = packZip(&out, entries)
	case ".tar.gz":
		z := gzip.NewWriter(&out)
		if err = packTar(z, entries); err == nil {
			err = z.Close()
		}
	case ".tar.zst":
		var z *zstd.Encoder
		if z, err = zstd.NewWriter(&out, zstd.WithEncoderConcurrency(1)); err == nil {
			if err = packTar(z, entries); err == nil {
				err = z.Close()
			}
		}
	}
	return out.Bytes(), err
}

func packTar(w io.Writer, entries []entry) error {
	t := tar.NewWriter(w)
	for _, e := range entries {
		header := &tar.Header{Name: e.name, Mode: int64(e.mode), Size: int64(len(e.data)), ModTime: released,
			Format: tar.FormatUSTAR}
		if err := t.WriteHeader(header); err != nil {
			return err
		}
		if _, err := t.Write(e.data); err != nil {
			return err
		}
	}
	return t.Close()
}

func packZip(w io.Writer, entries []entry) error {
	z := zip.NewWriter(w)
	for _, e := range entries {
		header := &zip.FileHeader{Name: e.name, Method: zip.Deflate, Modified: released}
		header.SetMode(e.mode)
		f, err := z.CreateHeader(header)
		if err != nil {
			return err
		}
		if _, err := f.Write(e.data); err != nil {
			return err
		}
	}
	return z.Close()
}
