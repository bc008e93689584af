package draft

import (
	"context"
	"encoding/hex"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"

	"fernladder/core/ground"
	"fernladder/core/machine"
	"fernladder/core/recipe"
	"fernladder/core/signature"
	"fernladder/core/source"
)

// A Signer is the key that a person trusts a source by.
type Signer struct {
	signature.Good
	Key    []byte // the file that has it
	Asked  bool   // it is from a server, and nobody has said that it is the right one
	Suffix string // of the file's name
}

// largestKey is more than the keys of a project have.
const largestKey = 1 << 20

// Trust looks for the key that an archive is signed by, and verifies the signature with it. from
// is a file, the URL of one, or a server of OpenPGP keys, as https://keys.vale.example, which is
// asked for the key by its id (HKP, draft-gallagher-openpgp-hkp).
func Trust(ctx context.Context, m *machine.Machine, o Origin, from string) (*Signer, error) {
	if o.Signature == "" {
		return nil, &BadSource{"there is no signature beside the archive, so no key can be compared with one"}
	}
	s := &Signer{Suffix: ".asc", Asked: strings.Contains(from, "://")}
	var err error
	switch {
	case !s.Asked:
		s.Key, err = ground.ReadFile(from, largestKey)
	case server(from):
		for _, signer := range o.Signers {
			if id, wrong := hex.DecodeString(signer); wrong == nil && err == nil {
				s.Key, err = m.Archives.FetchSmall(ctx, strings.TrimRight(from, "/")+fmt.Sprintf("/pks/lookup?op=get&options=mr&search=0x%X", id))
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
		return nil, &BadSource{err.Error()}
	}
	if all := keys.Fingerprints(); s.Asked && len(all) > 1 { // all of them would be trusted
		return nil, &BadSource{fmt.Sprintf("%s gives several keys (%s); put the one that you trust into a file", source.Redacted(from), strings.Join(all, ", "))}
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
	w := source.Wanted{Package: filepath.Base(o.URL), URLs: []string{o.URL}, Digest: recipe.Digest{Algorithm: "sha256", Hex: o.SHA256},
		Signed: &source.Signed{URLs: []string{o.Signature}, Keys: []ground.File{{Dir: dir, Name: name}}}}
	fetched, err := m.Archives.Fetch(ctx, w)
	if err != nil {
		return nil, m.Stored(err)
	}
	if s.Good = *fetched.Signed; s.Format != "openpgp" {
		s.Suffix = ".pub"
	}
	return s, nil
}

// server tells whether a URL names nothing but a server.
func server(from string) bool {
	u, err := url.Parse(from)
	return err == nil && (u.Path == "" || u.Path == "/")
}

// Is tells whether a fingerprint that a person has written is that of the key.
func (s *Signer) Is(fingerprint string) bool {
	plain := strings.NewReplacer(" ", "", ":", "").Replace(fingerprint)
	return s.Format == "openpgp" && strings.EqualFold(plain, s.Fingerprint) || fingerprint == s.Fingerprint
}

// File is what the key is called beside a recipe.
func (s *Signer) File(name string) string { return "keys/" + name + s.Suffix }
