package repository

import (
	"bytes"
	"crypto/sha256"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"github.com/klauspost/compress/gzip"
	"github.com/ulikunitz/xz"

	"fernladder/core/durable"
	"fernladder/core/ospackage"
	"fernladder/core/pattern"
	"fernladder/core/safefs"
	"fernladder/core/signature"
)

// publishApt writes the files for apt: for each suite the lists of packages, by architecture,
// plain and compressed, also under their digests, and the signed file.
func (r *Repository) publishApt(dir, old string, entries []Entry, key signature.Key) error {
	suites := map[string][]Entry{}
	for _, e := range entries {
		if e.Format == ospackage.Deb {
			suites[e.Suite] = append(suites[e.Suite], e)
		}
	}
	for suite, its := range suites {
		if err := r.suite(dir, old, suite, its, key); err != nil {
			return err
		}
	}
	return nil
}

func (r *Repository) suite(dir, old, suite string, entries []Entry, key signature.Key) error {
	if !nameForm.MatchString(suite) {
		return badName(suite)
	}
	base := filepath.Join(dir, "dists", suite)
	var sums strings.Builder
	arches := architectures(entries)
	for _, arch := range arches {
		var plain bytes.Buffer
		for _, e := range entries {
			// Packages for all machines are in the list of each kind of machine.
			if e.Arch == arch || e.Arch == "all" && arch != "all" {
				plain.WriteString(stanza(e) + "\n")
			}
		}
		below := "main/binary-" + arch
		var small, smaller []byte
		var packing sync.WaitGroup
		packing.Go(func() { small = gzipped(plain.Bytes()) })
		packing.Go(func() { smaller = xzed(plain.Bytes()) })
		packing.Wait()
		for _, packed := range []struct {
			name string
			data []byte
		}{{"Packages", plain.Bytes()}, {"Packages.gz", small}, {"Packages.xz", smaller}} {
			sum := fmt.Sprintf("%x", sha256.Sum256(packed.data))
			fmt.Fprintf(&sums, " %s %d %s/%s\n", sum, len(packed.data), below, packed.name)
			for _, name := range []string{packed.name, "by-hash/SHA256/" + sum} {
				file := filepath.Join(base, below, name)
				if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
					return err
				}
				if err := durable.WriteFile(file, packed.data, 0o644); err != nil {
					return err
				}
			}
		}
		if old != "" {
			was := filepath.Join(old, "dists", suite)
			err := listsBefore(filepath.Join(was, "Release"), digestLine, func(m []string) (from, to string) {
				if filepath.Dir(m[2]) != below {
					return "", ""
				}
				return filepath.Join(was, m[2]), filepath.Join(base, below, "by-hash/SHA256", m[1])
			})
			if err != nil {
				return err
			}
		}
	}
	release := r.release(suite, arches, sums.String())
	signature, err := key.Armored([]byte(release))
	if err != nil {
		return err
	}
	clear, err := key.Clear([]byte(release))
	if err != nil {
		return err
	}
	for name, data := range map[string][]byte{"Release": []byte(release), "Release.gpg": signature, "InRelease": clear} {
		if err := durable.WriteFile(filepath.Join(base, name), data, 0o644); err != nil {
			return err
		}
	}
	return nil
}

// listsBefore keeps the lists of the previous state, for readers of its signed file that come
// for them now. as says by what name each is kept; "" if it is not.
func listsBefore(signed string, naming *pattern.Pattern, as func(match []string) (from, to string)) error {
	text, err := safefs.ReadFile(signed, largestList)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	for _, m := range naming.FindAllStringSubmatch(string(text), -1) {
		from, to := as(m)
		if to == "" {
			continue
		}
		// A missing one has no readers, and one with the same name is identical.
		if err := os.Link(from, to); err != nil && !errors.Is(err, fs.ErrExist) && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}

// architectures are those of packages, sorted; all is among them.
func architectures(entries []Entry) []string {
	arches := []string{"all"}
	for _, e := range entries {
		if !slices.Contains(arches, e.Arch) {
			arches = append(arches, e.Arch)
		}
	}
	slices.Sort(arches)
	return arches
}

// stanza is a package's entry in a list: its control file, and its place.
func stanza(e Entry) string {
	return strings.TrimRight(e.Control, "\n") + fmt.Sprintf("\nFilename: %s\nSize: %d\nMD5sum: %s\nSHA256: %s\n", e.File,
		e.Size, e.MD5, e.SHA256)
}

// release is the signed file: the digests of all lists.
func (r *Repository) release(suite string, arches []string, sums string) string {
	now := r.Now().UTC()
	const form = "Mon, 02 Jan 2006 15:04:05 UTC"
	text := fmt.Sprintf("Origin: %s\nLabel: %s\nSuite: %s\nCodename: %s\nDate: %s\n", r.Name, r.Name, suite, suite,
		now.Format(form))
	if r.Valid > 0 {
		text += "Valid-Until: " + now.Add(r.Valid).Format(form) + "\n"
	}
	return text +
		fmt.Sprintf("Architectures: %s\nComponents: main\nNo-Support-for-Architecture-all: Packages\nAcquire-By-Hash: "+
			"yes\nSHA256:\n%s", strings.Join(arches, " "), sums)
}

func gzipped(data []byte) []byte {
	var out bytes.Buffer
	z, _ := gzip.NewWriterLevel(&out, gzip.BestCompression)
	z.Write(data)
	z.Close()
	return out.Bytes()
}

func xzed(data []byte) []byte {
	var out bytes.Buffer
	z, err := xz.NewWriter(&out)
	if err != nil {
		panic(err) // it has its own settings
	}
	z.Write(data)
	z.Close()
	return out.Bytes()
}
