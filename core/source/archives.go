// Package source fetches, verifies and unpacks sources.
//
// It promises that a file in its store has the digest it is stored under, and that unpacking
// never writes outside the given directory. How sources are built does not concern it.
package source

import (
	"context"
	"crypto"
	_ "crypto/sha256" // for hashOf
	_ "crypto/sha512"
	"encoding/hex"
	"hash"
	"io"
	"os"
	"path/filepath"
	"sync"
	"time"

	"fernladder/core/recipe"
	"fernladder/core/safefs"
)

const originSuffix = ".url"

// Archives is the store of verified archives, ALGORITHM/HEX below Dir. During a download, a file
// is partial/HEX until its digest has been verified; its writer locks it, and the next one
// continues it or starts again. Beside each archive, a file with originSuffix has the URL that
// it came from.
type Archives struct {
	Dir      string
	*Network // nil if nothing is fetched

	Largest int64                                            // bytes of one file; 0: 32 GiB
	Longest time.Duration                                    // how long one file may take in all; 0: twelve hours
	Pause   func(ctx context.Context, d time.Duration) error // before another attempt; nil: waits
}

// Path returns the path of the archive with a digest, which need not exist.
func (a *Archives) Path(d recipe.Digest) string {
	return filepath.Join(a.Dir, d.Algorithm, d.Hex)
}

// Has reports whether the store has the archive.
func (a *Archives) Has(d recipe.Digest) bool {
	info, err := os.Stat(a.Path(d))
	return err == nil && info.Mode().IsRegular()
}

// intact returns the hashes of a stored archive if it still has its digest, because disks fail;
// nil if it is missing or has changed.
func (a *Archives) intact(d recipe.Digest) hashes {
	f, err := safefs.Open(a.Path(d))
	if err != nil {
		return nil
	}
	defer f.Close()
	h := newHashes(d.Algorithm)
	if _, err := io.CopyBuffer(h, f, make([]byte, 256<<10)); err != nil || h.digest(d.Algorithm) != d {
		return nil
	}
	return h
}

// hashes are hashes over one file that are computed together.
type hashes map[crypto.Hash]hash.Cloner

var hashOf = map[string]crypto.Hash{"sha256": crypto.SHA256, "sha512": crypto.SHA512}

func newHashes(algorithm string) hashes {
	h := hashes{}
	h.add([]crypto.Hash{hashOf[algorithm]})
	return h
}

// add adds the hashes that are known here and whose state can be copied.
func (h hashes) add(more []crypto.Hash) {
	for _, kind := range more {
		if kind != crypto.SHA256 && kind != crypto.SHA512 && kind != crypto.SHA384 && kind != crypto.SHA224 {
			continue
		}
		if state, ok := kind.New().(hash.Cloner); ok && h[kind] == nil {
			h[kind] = state
		}
	}
}

func (h hashes) reset() {
	for _, state := range h {
		state.Reset()
	}
}

// Write writes to all of them, in parallel if there are several.
func (h hashes) Write(p []byte) (int, error) {
	if len(h) == 1 {
		for _, state := range h {
			state.Write(p)
		}
		return len(p), nil
	}
	var wait sync.WaitGroup
	for _, state := range h {
		wait.Go(func() { state.Write(p) })
	}
	wait.Wait()
	return len(p), nil
}

func (h hashes) digest(algorithm string) recipe.Digest {
	return recipe.Digest{Algorithm: algorithm, Hex: hex.EncodeToString(h[hashOf[algorithm]].Sum(nil))}
}

func newHash(algorithm string) hash.Hash { return hashOf[algorithm].New() }
