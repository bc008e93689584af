package repository

import (
	"bytes"
	"crypto/sha256"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/ProtonMail/go-crypto/openpgp"
	"github.com/ProtonMail/go-crypto/openpgp/clearsign"

	"fernladder/core/pattern"
	"fernladder/core/safefs"
)

// largestList is more than any published file has, except for packages.
const largestList = 1 << 30

var digestLine = pattern.New(`(?m)^ ([0-9a-f]{64}) \d+ (\S+)$`)

// keyFile is the public key with which others verify what is published.
func (r *Repository) keyFile() string { return filepath.Join(r.Dir, r.Name+".asc") }

func (r *Repository) public() (openpgp.EntityList, error) {
	data, err := safefs.ReadFile(r.keyFile(), largestList)
	if err != nil {
		return nil, err
	}
	ring, err := openpgp.ReadArmoredKeyRing(bytes.NewReader(data))
	if err == nil && len(ring) == 0 {
		err = errors.New("there is no key in it")
	}
	return ring, err
}

// SignedBy is the fingerprint of that key.
func (r *Repository) SignedBy() (string, error) {
	ring, err := r.public()
	if err != nil {
		return "", err
	}
	return fingerprint(ring[0]), nil
}

func fingerprint(e *openpgp.Entity) string { return fmt.Sprintf("%X", e.PrimaryKey.Fingerprint) }

// published returns what is wrong with a state's published files: digests, and signatures by the
// key beside them.
func (r *Repository) published(number int, entries []Entry) (wrong []Wrong) {
	add := func(file, what string, args ...any) {
		shown, err := filepath.Rel(r.Dir, file)
		if err != nil {
			shown = file
		}
		wrong = append(wrong, Wrong{shown, fmt.Sprintf(what, args...)})
	}
	ring, err := r.public()
	if err != nil {
		add(r.keyFile(), "this key cannot be read")
		return wrong
	}
	for _, name := range r.served(entries) {
		link := filepath.Join(r.Dir, name)
		if target, err := os.Readlink(link); err != nil || target != filepath.Join(own, "current", name) {
			add(link, "it does not lead to what is published, although readers use it")
		}
	}
	suites, _ := filepath.Glob(filepath.Join(r.state(number), "dists", "*"))
	for _, suite := range suites {
		release := filepath.Join(suite, "Release")
		text, err := safefs.ReadFile(release, largestList)
		if err != nil {
			add(release, "it is gone")
			continue
		}
		signature, _ := safefs.ReadFile(release+".gpg", largestList)
		if _, err := openpgp.CheckArmoredDetachedSignature(ring, bytes.NewReader(text), bytes.NewReader(signature),
			nil); err != nil {
			add(release, "its signature is wrong")
		}
		in := filepath.Join(suite, "InRelease")
		clear, _ := safefs.ReadFile(in, largestList)
		block, _ := clearsign.Decode(clear)
		switch {
		case block == nil:
			add(in, "it is not signed")
		case strings.TrimSpace(string(block.Plaintext)) != strings.TrimSpace(string(text)):
			add(in, "it differs from Release")
		default:
			if _, err := block.VerifySignature(ring, nil); err != nil {
				add(in, "its signature is wrong")
			}
		}
		for _, m := range digestLine.FindAllStringSubmatch(string(text), -1) {
			list, err := safefs.ReadFile(filepath.Join(suite, m[2]), largestList)
			if err != nil || fmt.Sprintf("%x", sha256.Sum256(list)) != m[1] {
				add(filepath.Join(suite, m[2]), "it differs from what Release says")
			}
		}
	}
	root := filepath.Join(r.state(number), "repodata", "repomd.xml")
	if text, err := safefs.ReadFile(root, largestList); err == nil {
		signature, _ := safefs.ReadFile(root+".asc", largestList)
		if _, err := openpgp.CheckArmoredDetachedSignature(ring, bytes.NewReader(text), bytes.NewReader(signature),
			nil); err != nil {
			add(root, "its signature is wrong")
		}
		for _, m := range listLink.FindAllStringSubmatch(string(text), -1) {
			list, err := safefs.ReadFile(filepath.Join(filepath.Dir(root), m[1]), largestList)
			if err != nil || fmt.Sprintf("%x", sha256.Sum256(list)) != m[2] {
				add(filepath.Join(filepath.Dir(root), m[1]), "it differs from what repomd.xml says")
			}
		}
	}
	return wrong
}
