package draft

import (
	"context"
	"encoding/hex"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"

	"fernladder/core/machine"
	"fernladder/core/problem"
	"fernladder/core/recipe"
	"fernladder/core/safefs"
	"fernladder/core/signature"
	"fernladder/core/source"
)

// A Signer is the key that a person trusts for a source.
type Signer struct {
	signature.Good
	Key    []byte // contents of the key file
	Asked  bool   // it was fetched, so a person has to confirm its fingerprint
	Suffix string // of the file's name
}

// largestKey limits the size of a key file, in bytes.
const largestKey = 1 << 20

// Trust reads the key that an archive is signed with, and verifies the signature. from is a
// file, the URL of a file, or the URL of an OpenPGP key server without a path, which is asked
// for the key by its id (HKP, draft-gallagher-openpgp-hkp).
func Trust(ctx context.Context, m *machine.Machine, o Origin, from string) (*Signer, error) {
	if o.Signature == "" {
		return nil, problem.New(problem.Usage, "", "there is no signature beside the archive").Coded(BadSource)
	}
	s := &Signer{Suffix: ".asc", Asked: strings.Contains(from, "://")}
	var err error
	switch {
	case !s.Asked:
		s.Key, err = safefs.ReadFile(from, largestKey)
	case server(from):
		for _, signer := range o.Signers {
			if id, wrong := hex.DecodeString(signer); wrong == nil && err == nil {
				s.Key, err = m.Archives.FetchSmall(ctx,
					strings.TrimRight(from, "/")+fmt.Sprintf("/pks/lookup?op=get&options=mr&search=0x%X", id))
			}
		}
	default:
		s.Key, err = m.Archives.FetchSmall(ctx, from)
	}
	if err != nil {
		return nil, m.Stored(err)
	}
	keys := &signature.Keys{}
	if err := keys.Add(from, s.Key); err != nil {
		return nil, problem.New(problem.Usage, "", "%v", err).Coded(BadSource)
	}
	if all := keys.Fingerprints(); s.Asked && len(all) > 1 { // the recipe would trust all of them
		return nil, problem.New(problem.Usage, "", "%s gives several keys (%s); put the one that you trust into a file",
			source.Redacted(from), strings.Join(all, ", ")).Coded(BadSource)
	}
	dir, done, err := m.Store.Scratch("key")
	if err != nil {
		return nil, m.Store.Wrap(err)
	}
	defer done()
	const name = "key"
	if err := os.WriteFile(filepath.Join(dir, name), s.Key, 0o600); err != nil {
		return nil, m.Store.Wrap(err)
	}
	w := source.Wanted{Package: filepath.Base(o.URL), URLs: []string{o.URL},
		Digest: recipe.Digest{Algorithm: "sha256", Hex: o.SHA256},
		Signed: &source.Signed{URLs: []string{o.Signature}, Keys: []safefs.File{{Dir: dir, Name: name}}}}
	fetched, err := m.Archives.Fetch(ctx, w)
	if err != nil {
		return nil, m.Stored(err)
	}
	if s.Good = *fetched.Signed; s.Format != "openpgp" {
		s.Suffix = ".pub"
	}
	return s, nil
}

// server reports whether a URL has no path.
func server(from string) bool {
	u, err := url.Parse(from)
	return err == nil && (u.Path == "" || u.Path == "/")
}

// Is reports whether the key has this fingerprint, in the form in which people write it.
func (s *Signer) Is(fingerprint string) bool {
	plain := strings.NewReplacer(" ", "", ":", "").Replace(fingerprint)
	return s.Format == "openpgp" && strings.EqualFold(plain, s.Fingerprint) || fingerprint == s.Fingerprint
}

// File returns the key file's path below the recipe's folder.
func (s *Signer) File(name string) string { return "keys/" + name + s.Suffix }
