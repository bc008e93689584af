package source

import (
	"bufio"
	"bytes"
	"context"
	"crypto"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp/clearsign"

	"fernladder/core/durable"
	"fernladder/core/event"
	"fernladder/core/pattern"
	"fernladder/core/safefs"
	"fernladder/core/signature"
)

// Signed says where the signature of an archive is and whose it has to be. What is signed
// follows from the signature's file name:
//
//   - ARCHIVE.asc, .sig, .sign, .minisig …: the archive;
//   - the same for the archive's name without its compression, as in
//     pkg-1.0.tar.sign beside pkg-1.0.tar.xz: the tar file inside;
//   - a name like SHA256SUMS.asc: a list of digests with the archive's in it,
//     which is the file without the last suffix, or in the signature's own file.
//
// Any other name means a signature of the archive.
type Signed struct {
	URLs []string // tried in order
	Keys []safefs.File
}

const signedSuffix = ".signed"

// proof is the copy of a signature that is kept beside its archive, to verify it again without
// the network.
type proof struct {
	URL       string `json:"url"`
	Signature []byte `json:"signature"`
	List      []byte `json:"list,omitempty"` // of digests, if that is signed
}

// signed verifies the signature of a stored archive: with a valid one that was fetched before,
// if there is one, otherwise through the network. Its error is a *FetchError.
func (a *Archives) signed(ctx context.Context, w Wanted, known hashes) (*signature.Good, error) {
	keys, err := readKeys(w.Signed.Keys)
	if err != nil {
		return nil, &FetchError{Wanted: w, What: "the signature", Attempts: []Attempt{{"the recipe's keys", err}}}
	}
	file := a.Path(w.Digest) + signedSuffix
	if data, err := safefs.ReadFile(file, 4*signature.LargestFile); err == nil {
		var kept proof
		if json.Unmarshal(data, &kept) == nil {
			if good, err := a.proves(ctx, kept, w, keys, known); err == nil {
				return good, nil
			}
		}
	}
	var failed []Attempt
	for _, source := range w.Signed.URLs {
		p, fetched := w.proofs[source]
		var err error
		if !fetched {
			p, err = a.proof(ctx, source)
		}
		if err == nil {
			var good *signature.Good
			if good, err = a.proves(ctx, p, w, keys, known); err == nil {
				data, err := json.Marshal(p)
				if err == nil {
					err = durable.WriteFile(file, data, 0o644)
				}
				if err != nil {
					return nil, &StoreError{err}
				}
				a.Events.Event(event.Event{Kind: event.Signed, Package: w.Package, Version: w.Version, Text: good.String()})
				return good, nil
			}
		}
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		failed = append(failed, Attempt{Redacted(source), err})
	}
	return nil, &FetchError{Wanted: w, What: "the signature", Attempts: failed}
}

// largestKeys is more than any reviewed file of keys has.
const largestKeys = 16 << 20

func readKeys(files []safefs.File) (*signature.Keys, error) {
	keys := &signature.Keys{}
	for _, file := range files {
		data, err := file.ReadFile(largestKeys)
		if err == nil {
			err = keys.Add(filepath.Base(file.Name), data)
		}
		if err != nil {
			return nil, err
		}
	}
	return keys, nil
}

// hashesWanted fetches the first signature that is available and says which hashes of the
// archive it uses, so that they can be computed while the archive arrives.
func (a *Archives) hashesWanted(ctx context.Context, w *Wanted) []crypto.Hash {
	for _, source := range w.Signed.URLs {
		if p, err := a.proof(ctx, source); err == nil {
			w.proofs = map[string]proof{source: p}
			return signature.Hashes(p.Signature)
		}
	}
	return nil
}

// proof fetches a signature and, if it signs a list of digests, the list.
func (a *Archives) proof(ctx context.Context, source string) (proof, error) {
	p := proof{URL: Redacted(source)}
	var err error
	if p.Signature, err = a.small(ctx, source); err != nil {
		return p, err
	}
	stem := withoutSignature(source)
	if !isClearSigned(p.Signature) && isList(stem) {
		if p.List, err = a.small(ctx, stem); err != nil {
			err = fmt.Errorf("the list of digests %s: %w", Redacted(stem), err)
		}
	}
	return p, err
}

// FetchSmall fetches a file of at most a mebibyte into memory, for people or commands to look
// at. Nothing is built from it.
func (a *Archives) FetchSmall(ctx context.Context, source string) ([]byte, error) {
	if err := a.Credentials.Err(); err != nil {
		return nil, err
	}
	data, err := a.small(ctx, source)
	if err != nil && ctx.Err() == nil {
		err = &FetchError{Wanted: Wanted{Package: path.Base(source)}, Attempts: []Attempt{{Redacted(source), err}}}
	}
	return data, err
}

func (a *Archives) small(ctx context.Context, source string) ([]byte, error) {
	const patience = time.Minute
	ctx, cancel := context.WithTimeoutCause(ctx, patience, fmt.Errorf("it took longer than %s", patience))
	defer cancel()
	if a.Offline && !strings.HasPrefix(source, "file://") {
		return nil, errOffline
	}
	answer, err := a.open(ctx, source, 0, "")
	if err != nil {
		return nil, plain(ctx, err)
	}
	defer answer.body.Close()
	data, err := io.ReadAll(io.LimitReader(answer.body, signature.LargestFile+1))
	if err == nil && len(data) > signature.LargestFile {
		err = fmt.Errorf("it has over %d bytes", signature.LargestFile)
	}
	if err != nil {
		return nil, plain(ctx, err)
	}
	return data, nil
}

var (
	signatureSuffix = pattern.New(`\.(asc|sig|sign|minisig|gpg|pgp)$`)
	listName        = pattern.New(`(?i)(sums?|sha[0-9]+|checksums?|digests?|release)(\.txt)?$`)
	compression     = pattern.New(`\.(gz|bz2|xz|zst|lz|lzma|Z)$`)
)

func withoutSignature(name string) string { return signatureSuffix.ReplaceAllString(name, "") }

func isList(name string) bool { return listName.MatchString(path.Base(name)) }

func isClearSigned(data []byte) bool {
	return bytes.Contains(data, []byte("-----BEGIN PGP SIGNED MESSAGE-----"))
}

// proves verifies a proof for an archive.
func (a *Archives) proves(ctx context.Context, p proof, w Wanted, keys *signature.Keys,
	known hashes) (*signature.Good, error) {
	memory := func(data []byte) signature.File {
		return signature.File{Open: func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(data)), nil }}
	}
	stem := path.Base(withoutSignature(p.URL))
	inside := slices.ContainsFunc(w.URLs, func(url string) bool {
		base := path.Base(url)
		return stem != base && compression.ReplaceAllString(base, "") == stem
	})
	switch {
	case isClearSigned(p.Signature):
		block, _ := clearsign.Decode(p.Signature)
		if block == nil {
			return nil, &signature.Bad{Reasons: []string{"the signed list is damaged"}}
		}
		packets, err := io.ReadAll(block.ArmoredSignature.Body)
		if err != nil {
			return nil, &signature.Bad{Reasons: []string{"the signature of the list is damaged"}}
		}
		good, err := signature.Verify(memory(block.Bytes), packets, keys, a.Now())
		return listed(block.Plaintext, good, err, w)
	case p.List != nil:
		good, err := signature.Verify(memory(p.List), p.Signature, keys, a.Now())
		return listed(p.List, good, err, w)
	case inside:
		return signature.Verify(signature.File{Open: func() (io.ReadCloser, error) { return a.uncompressed(ctx, w) }},
			p.Signature, keys, a.Now())
	}
	return signature.Verify(signature.File{Open: func() (io.ReadCloser, error) {
		return safefs.Open(a.Path(w.Digest))
	}, Hashed: known}, p.Signature, keys, a.Now())
}

// listed looks for the archive in a list of digests with a verified signature.
func listed(list []byte, good *signature.Good, err error, w Wanted) (*signature.Good, error) {
	if err != nil {
		return nil, err
	}
	for line := range strings.Lines(string(list)) {
		if strings.Contains(strings.ToLower(line), w.Digest.Hex) {
			return good, nil
		}
	}
	return nil, &signature.Bad{Reasons: []string{fmt.Sprintf("the list is signed by %s, but the archive's %s is not in it",
		good, w.Digest.Algorithm)}}
}

// uncompressed opens the decompressed contents of an archive.
func (a *Archives) uncompressed(ctx context.Context, w Wanted) (io.ReadCloser, error) {
	f, err := safefs.Open(a.Path(w.Digest))
	if err != nil {
		return nil, err
	}
	buffered := bufio.NewReaderSize(f, 256<<10)
	head, err := buffered.Peek(6)
	if err != nil && err != io.EOF {
		f.Close()
		return nil, err
	}
	r, done, err := decompressed(buffered, head, false)
	if err != nil {
		f.Close()
		return nil, err
	}
	return &uncompressing{bound{ctx, r}, func() error { done(); return f.Close() }}, nil
}

type uncompressing struct {
	io.Reader
	close func() error
}

func (u *uncompressing) Close() error { return u.close() }

// bound is a reader that ends with its context, and for which damage is the archive's fault
// rather than the signature's.
type bound struct {
	ctx context.Context
	r   io.Reader
}

func (b bound) Read(p []byte) (int, error) {
	if err := b.ctx.Err(); err != nil {
		return 0, err
	}
	n, err := b.r.Read(p)
	if err != nil && !errors.Is(err, io.EOF) {
		err = fmt.Errorf("the archive is damaged: %w", err)
	}
	return n, err
}
