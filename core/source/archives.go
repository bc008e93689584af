// Package source brings source archives to this machine, verifies them and
// unpacks them.
//
// It promises that a file in its store has the digest it is stored under, and
// that unpacking never writes outside the directory it is given. What is built
// from the sources does not concern it.
package source

import (
	"context"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/hex"
	"hash"
	"io"
	"os"
	"path/filepath"
	"time"

	"fernladder/core/event"
	"fernladder/core/recipe"
)

const originSuffix = ".url"

// Archives is the store of verified archives, ALGORITHM/HEX below Dir. A file
// being downloaded is partial/HEX until its digest is known to be right; it is
// locked as long as someone writes it, and overwritten by the next one.
// Beside each archive, a file with originSuffix has the URL that served it.
type Archives struct {
	Dir    string
	Agent  string // how the program names itself to servers
	Events event.Sink

	Hosts       *Hosts                                           // shared by all that fetch in a run; nil: no limits
	Credentials *Credentials                                     // nil: none
	Offline     bool                                             // what is not here is not fetched
	Largest     int64                                            // bytes of one file; 0: 32 GiB
	Patience    time.Duration                                    // how long a transfer may stand still; 0: a minute
	Pause       func(ctx context.Context, d time.Duration) error // before another attempt; nil: waits
}

// Path returns where the archive with a digest is, or would be.
func (a *Archives) Path(d recipe.Digest) string {
	return filepath.Join(a.Dir, d.Algorithm, d.Hex)
}

// Has tells whether the store has the archive.
func (a *Archives) Has(d recipe.Digest) bool {
	info, err := os.Stat(a.Path(d))
	return err == nil && info.Mode().IsRegular()
}

// intact tells whether the stored archive still has its digest: disks fail,
// and people edit.
func (a *Archives) intact(d recipe.Digest) bool {
	f, err := os.Open(a.Path(d))
	if err != nil {
		return false
	}
	defer f.Close()
	h := newHash(d.Algorithm)
	_, err = io.Copy(h, f)
	return err == nil && hex.EncodeToString(h.Sum(nil)) == d.Hex
}

func newHash(algorithm string) hash.Hash {
	if algorithm == "sha512" {
		return sha512.New()
	}
	return sha256.New()
}
