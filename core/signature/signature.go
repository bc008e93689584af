// Package signature reports whether a file was signed by one of a few trusted keys. It reads
// OpenPGP (RFC 9580 and RFC 4880), minisign and SSH signatures (the SSHSIG format of OpenSSH).
//
// It promises that a good signature covers exactly the bytes it was given, and was made by a key
// in the files it was given. No other key counts, whoever has certified it; no keyring,
// configuration or server is consulted. A signature is judged at the time at which it was made:
//
//   - The signature of a key that has expired since is good, with a note. A signature dated
//     before its key or after its key's end is refused.
//   - The signature of a key that was revoked because it was compromised, or for no stated
//     reason, is never good. A key that was retired or replaced is good for earlier signatures.
//   - A subkey counts if key and subkey have signed each other, and it is meant for signing.
//   - MD5, SHA-1 and RIPEMD-160 are refused for the signature of a file. The signatures between
//     the parts of a key may use SHA-1, as old keys do.
//   - Of several signatures, one good one is enough.
package signature

import (
	"bytes"
	"crypto"
	"errors"
	"fmt"
	"hash"
	"io"
	"slices"
	"strings"
	"time"
)

// Keys are the trusted keys, read from files. No others count.
type Keys struct {
	openPGP  []*certificate
	minisign []minisignKey
	ssh      []sshKey
}

// Good is a good signature.
type Good struct {
	Format      string    `json:"format"`      // openpgp, minisign or ssh
	Fingerprint string    `json:"fingerprint"` // of the key; for a subkey, of the key it belongs to
	Owner       string    `json:"owner,omitempty"`
	KeyFile     string    `json:"key_file"`
	Made        time.Time `json:"made,omitzero"`
	Note        string    `json:"note,omitempty"` // remarks for a person
}

// String names the signer.
func (g Good) String() string {
	text := g.Fingerprint
	if g.Owner != "" {
		text = g.Owner + " (" + g.Fingerprint + ")"
	}
	if g.Note != "" {
		text += "; " + g.Note
	}
	return text
}

// Bad is the error if no signature is good.
type Bad struct{ Reasons []string }

func (e *Bad) Error() string { return "no good signature: " + strings.Join(e.Reasons, "; ") }

// Limits that no honest file comes near.
const (
	LargestFile       = 1 << 20 // of a signature, or of keys
	mostSignatures    = 64
	largestUnhashable = 32 << 20 // a file that has to be in memory to be verified
)

// A File is the signed file. Open may be called more than once. Hashed, if present, has the
// states of hashes over the whole file, which then need not be read again; Verify does not
// change them.
type File struct {
	Open   func() (io.ReadCloser, error)
	Hashed map[crypto.Hash]hash.Cloner
}

// Hashes returns the hashes that a signature uses.
func Hashes(signature []byte) []crypto.Hash {
	var all []crypto.Hash
	signatures, _ := readSignatures(signature)
	for _, sig := range signatures {
		if !slices.Contains(all, sig.Hash) {
			all = append(all, sig.Hash)
		}
	}
	return all
}

// Add reads a file of keys.
func (k *Keys) Add(name string, data []byte) error {
	var err error
	switch {
	case len(data) > LargestFile:
		err = fmt.Errorf("it has over %d bytes", LargestFile)
	case bytes.HasPrefix(data, []byte("untrusted comment:")) || isMinisignKey(data):
		err = k.addMinisign(name, data)
	case isSSHKey(data):
		err = k.addSSH(name, data)
	default:
		err = k.addOpenPGP(name, data)
	}
	if err != nil {
		return fmt.Errorf("%s holds no usable public key: %w", name, err)
	}
	return nil
}

// Fingerprints returns the fingerprints of all keys.
func (k *Keys) Fingerprints() (all []string) {
	for _, c := range k.openPGP {
		all = append(all, c.fingerprint())
	}
	for _, m := range k.minisign {
		all = append(all, m.good().Fingerprint)
	}
	for _, s := range k.ssh {
		all = append(all, s.good().Fingerprint)
	}
	return all
}

// The namespaces of SSH signatures, which are part of what is signed.
const (
	FileNamespace = "file" // as ssh-keygen -Y sign -n file makes them
	GitNamespace  = "git"
)

// Verify looks for a good signature of a file. The error is a *Bad, or the error of reading the
// file.
func Verify(file File, signature []byte, keys *Keys, now time.Time) (*Good, error) {
	return VerifyFor(FileNamespace, file, signature, keys, now)
}

// VerifyFor is Verify for another SSH namespace.
func VerifyFor(namespace string, file File, signature []byte, keys *Keys, now time.Time) (*Good, error) {
	switch {
	case len(signature) > LargestFile:
		return nil, &Bad{[]string{"it is larger than any signature"}}
	case bytes.HasPrefix(signature, []byte("untrusted comment:")):
		return keys.verifyMinisign(file, signature)
	case bytes.Contains(signature, []byte("-----BEGIN SSH SIGNATURE-----")):
		return keys.verifySSH(namespace, file, signature)
	}
	return keys.verifyOpenPGP(file, signature, now)
}

// SignersOf returns the keys that a signature claims to be by, as far as it names them.
func SignersOf(signature []byte) []string {
	switch {
	case bytes.HasPrefix(signature, []byte("untrusted comment:")):
		return minisignSigner(signature)
	case bytes.Contains(signature, []byte("-----BEGIN SSH SIGNATURE-----")):
		return sshSigner(signature)
	}
	return openPGPSigners(signature)
}

// whole reads a file into memory.
func whole(file File) ([]byte, error) {
	r, err := file.Open()
	if err != nil {
		return nil, err
	}
	defer r.Close()
	data, err := io.ReadAll(io.LimitReader(r, largestUnhashable+1))
	if err == nil && len(data) > largestUnhashable {
		err = errors.New("this kind of signature covers the file itself, which is too large")
	}
	return data, err
}
