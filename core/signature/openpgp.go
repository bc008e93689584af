package signature

import (
	"bytes"
	"cmp"
	"crypto"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp"
	"github.com/ProtonMail/go-crypto/openpgp/armor"
	"github.com/ProtonMail/go-crypto/openpgp/packet"
)

// certificate is an OpenPGP key with its subkeys and user ids. It contains only what its primary
// key has signed.
type certificate struct {
	file    string
	primary *packet.PublicKey
	self    *packet.Signature // the latest that states the usage of the primary key
	ids     []string
	revoked []*packet.Signature
	subkeys []*subkey
}

type subkey struct {
	key     *packet.PublicKey
	binding *packet.Signature // the latest
	revoked []*packet.Signature
}

func (c *certificate) fingerprint() string {
	return strings.ToUpper(hex.EncodeToString(c.primary.Fingerprint))
}

func (c *certificate) owner() string {
	if len(c.ids) == 0 {
		return ""
	}
	return c.ids[0]
}

// addOpenPGP reads all keys of a file: any number of armoured blocks, with text around them, or
// binary packets.
func (k *Keys) addOpenPGP(name string, data []byte) error {
	blocks, err := unarmoured(data)
	if err != nil {
		return err
	}
	found := 0
	for _, block := range blocks {
		certificates, err := readCertificates(block)
		if err != nil {
			return err
		}
		for _, c := range certificates {
			c.file = name
			k.merge(c)
			found++
		}
	}
	if found == 0 {
		return errors.New("it is neither an OpenPGP, nor a minisign, nor an SSH public key")
	}
	return nil
}

// merge adds a certificate to the keys. Copies of a key are merged, with everything that any of
// them says: a revocation in one counts for all.
func (k *Keys) merge(c *certificate) {
	i := slices.IndexFunc(k.openPGP, func(known *certificate) bool { return known.fingerprint() == c.fingerprint() })
	if i < 0 {
		k.openPGP = append(k.openPGP, c)
		return
	}
	known := k.openPGP[i]
	known.self = latest(known.self, c.self)
	known.revoked = append(known.revoked, c.revoked...)
	for _, id := range c.ids {
		if !slices.Contains(known.ids, id) {
			known.ids = append(known.ids, id)
		}
	}
	for _, s := range c.subkeys {
		j := slices.IndexFunc(known.subkeys, func(other *subkey) bool {
			return bytes.Equal(other.key.Fingerprint, s.key.Fingerprint)
		})
		if j < 0 {
			known.subkeys = append(known.subkeys, s)
			continue
		}
		known.subkeys[j].binding = latest(known.subkeys[j].binding, s.binding)
		known.subkeys[j].revoked = append(known.subkeys[j].revoked, s.revoked...)
	}
}

// latest is the later of two signatures; either can be missing.
func latest(a, b *packet.Signature) *packet.Signature {
	if a == nil || b != nil && b.CreationTime.After(a.CreationTime) {
		return b
	}
	return a
}

// unarmoured returns the contents of every armoured block, or the data itself
// if it has none.
func unarmoured(data []byte) ([][]byte, error) {
	const begin = "-----BEGIN PGP "
	if !bytes.Contains(data, []byte(begin)) {
		return [][]byte{data}, nil
	}
	var blocks [][]byte
	for rest := data; ; {
		i := bytes.Index(rest, []byte(begin))
		if i < 0 || len(blocks) > mostSignatures {
			return blocks, nil
		}
		block, err := armor.Decode(bytes.NewReader(rest[i:]))
		if err == nil {
			var contents []byte
			if contents, err = io.ReadAll(block.Body); err == nil {
				blocks = append(blocks, contents)
			}
		}
		if err != nil {
			return nil, fmt.Errorf("the armour is damaged: %w", err)
		}
		rest = rest[i+len(begin):]
	}
}

// readCertificates reads public keys with their user ids and subkeys, without those that the
// primary key has not signed.
func readCertificates(data []byte) ([]*certificate, error) {
	var all []*certificate
	var c *certificate
	var sub *subkey
	id := ""
	packets := packet.NewReader(bytes.NewReader(data))
	for {
		p, err := packets.Next()
		if err == io.EOF {
			return all, nil
		}
		if err != nil {
			return nil, fmt.Errorf("it is damaged: %w", err)
		}
		switch p := p.(type) {
		case *packet.PublicKey:
			id, sub = "", nil
			if !p.IsSubkey {
				c = &certificate{primary: p}
				all = append(all, c)
			} else if c != nil {
				sub = &subkey{key: p}
				c.subkeys = append(c.subkeys, sub)
			}
		case *packet.PrivateKey:
			return nil, errors.New("it holds a private key, which must not be beside a recipe")
		case *packet.UserId:
			id, sub = p.Id, nil
		case *packet.Signature:
			if c != nil {
				c.attach(p, id, sub)
			}
		}
	}
}

// attach applies a valid signature to a certificate.
func (c *certificate) attach(sig *packet.Signature, id string, sub *subkey) {
	switch sig.SigType {
	case packet.SigTypeGenericCert, packet.SigTypePersonaCert, packet.SigTypeCasualCert, packet.SigTypePositiveCert:
		if id != "" && sig.CheckKeyIdOrFingerprint(c.primary) && c.primary.VerifyUserIdSignature(id, c.primary, sig) == nil {
			if !slices.Contains(c.ids, id) {
				c.ids = append(c.ids, id)
			}
			c.self = latest(c.self, sig)
		}
	case packet.SigTypeDirectSignature:
		if c.primary.VerifyDirectKeySignature(sig) == nil {
			c.self = latest(c.self, sig)
		}
	case packet.SigTypeKeyRevocation:
		if c.primary.VerifyRevocationSignature(sig) == nil {
			c.revoked = append(c.revoked, sig)
		}
	case packet.SigTypeSubkeyBinding:
		// This also verifies that a signing subkey has signed its primary key.
		if sub != nil && c.primary.VerifyKeySignature(sub.key, sig) == nil {
			sub.binding = latest(sub.binding, sig)
		}
	case packet.SigTypeSubkeyRevocation:
		if sub != nil && c.primary.VerifySubkeyRevocationSignature(sig, sub.key) == nil {
			sub.revoked = append(sub.revoked, sig)
		}
	}
}

// readSignatures returns the signatures of a file, armoured or not. It ignores everything else
// in it.
func readSignatures(data []byte) ([]*packet.Signature, error) {
	blocks, err := unarmoured(data)
	if err != nil {
		return nil, err
	}
	var all []*packet.Signature
	for _, block := range blocks {
		packets := packet.NewReader(bytes.NewReader(block))
		for len(all) < mostSignatures {
			p, err := packets.Next()
			if err == io.EOF {
				break
			}
			if err != nil {
				return all, errors.New("it is not a signature, or damaged")
			}
			if sig, ok := p.(*packet.Signature); ok {
				all = append(all, sig)
			}
		}
	}
	return all, nil
}

func openPGPSigners(data []byte) []string {
	signatures, _ := readSignatures(data)
	var signers []string
	for _, sig := range signatures {
		signers = append(signers, signerOf(sig))
	}
	return signers
}

// signerOf describes the key that a signature claims to be by.
func signerOf(sig *packet.Signature) string {
	switch {
	case len(sig.IssuerFingerprint) > 0:
		return strings.ToUpper(hex.EncodeToString(sig.IssuerFingerprint))
	case sig.IssuerKeyId != nil:
		return fmt.Sprintf("%016X", *sig.IssuerKeyId)
	}
	return "a key that it does not name"
}

func (k *Keys) verifyOpenPGP(file File, data []byte, now time.Time) (*Good, error) {
	signatures, err := readSignatures(data)
	bad := &Bad{}
	if err != nil {
		bad.Reasons = append(bad.Reasons, err.Error())
	}
	if len(signatures) == 0 {
		bad.Reasons = append(bad.Reasons, "there is no signature in it")
	}
	for _, sig := range signatures {
		good, reason, err := k.verifyOne(file, sig, now)
		if err != nil {
			return nil, err
		}
		if good != nil {
			return good, nil
		}
		if !slices.Contains(bad.Reasons, reason) {
			bad.Reasons = append(bad.Reasons, reason)
		}
	}
	return nil, bad
}

// verifyOne verifies one signature: first that the bytes are signed, then that the key was
// allowed to sign at that time. So messages about keys are about the key that really signed.
func (k *Keys) verifyOne(file File, sig *packet.Signature, now time.Time) (good *Good, reason string, err error) {
	if sig.SigType != packet.SigTypeBinary && sig.SigType != packet.SigTypeText {
		return nil, "it is not the signature of a file", nil
	}
	switch sig.Hash {
	case crypto.MD5, crypto.SHA1, crypto.RIPEMD160:
		return nil, fmt.Sprintf("it uses %v, which can be forged", sig.Hash), nil
	}
	reason = fmt.Sprintf("it is by %s, which is not among the trusted keys", signerOf(sig))
	for _, c := range k.openPGP {
		for _, candidate := range c.candidates() {
			if !sig.CheckKeyIdOrFingerprint(candidate.key) {
				continue
			}
			h, err := digest(file, sig)
			if err != nil {
				return nil, "", err
			}
			if h == nil {
				return nil, fmt.Sprintf("it uses %v, which is unknown", sig.Hash), nil
			}
			if candidate.key.VerifySignature(h, sig) != nil {
				return nil, fmt.Sprintf("it claims to be by %s, but does not match the file",
					Good{Fingerprint: c.fingerprint(), Owner: c.owner()}), nil
			}
			if reason = c.refuses(candidate, sig, now); reason != "" {
				continue
			}
			return &Good{
				Format: "openpgp", Fingerprint: c.fingerprint(), Owner: c.owner(), KeyFile: c.file,
				Made: sig.CreationTime.UTC(), Note: c.note(candidate, now),
			}, "", nil
		}
	}
	return nil, reason, nil
}

// candidates are the keys of a certificate that could have signed.
func (c *certificate) candidates() []*subkey {
	all := []*subkey{{key: c.primary}}
	for _, s := range c.subkeys {
		if s.binding != nil && s.key.PubKeyAlgo.CanSign() {
			all = append(all, s)
		}
	}
	return all
}

// refuses returns why a key cannot have made a valid signature, or "".
func (c *certificate) refuses(s *subkey, sig *packet.Signature, now time.Time) string {
	name := Good{Fingerprint: c.fingerprint(), Owner: c.owner()}.String()
	made := sig.CreationTime
	const clockSkew = 24 * time.Hour
	switch {
	case c.self == nil:
		return fmt.Sprintf("the key %s is not signed by itself", name)
	case s.key == c.primary && c.self.FlagsValid && !c.self.FlagSign:
		return fmt.Sprintf("the key %s is not meant for signing", name)
	case s.binding != nil && (!s.binding.FlagsValid || !s.binding.FlagSign):
		return fmt.Sprintf("the subkey of %s is not meant for signing", name)
	case made.Before(s.key.CreationTime):
		return fmt.Sprintf("it says it was made on %s, before its key", day(made))
	case made.After(now.Add(clockSkew)):
		return fmt.Sprintf("it says it was made on %s, which is still to come", day(made))
	case sig.SigLifetimeSecs != nil && *sig.SigLifetimeSecs > 0 &&
		now.After(made.Add(time.Duration(*sig.SigLifetimeSecs)*time.Second)):
		return "the signature itself has expired"
	}
	if end := c.end(s); !end.IsZero() && made.After(end) {
		return fmt.Sprintf("it was made on %s, after the end of the key %s on %s", day(made), name, day(end))
	}
	for _, revocation := range slices.Concat(c.revoked, s.revoked) {
		if hard(revocation) {
			return fmt.Sprintf("the key %s was revoked on %s as compromised, so any of its signatures may be forged", name,
				day(revocation.CreationTime))
		}
		if !made.Before(revocation.CreationTime) {
			return fmt.Sprintf("it was made on %s, after the key %s was revoked on %s", day(made), name,
				day(revocation.CreationTime))
		}
	}
	return ""
}

// hard reports whether a revocation also invalidates earlier signatures.
func hard(revocation *packet.Signature) bool {
	reason := revocation.RevocationReason
	return reason == nil || *reason != packet.KeySuperseded && *reason != packet.KeyRetired
}

// end is the time at which a key or its primary key expires, whichever is first; zero: never.
func (c *certificate) end(s *subkey) time.Time {
	end := expiry(c.primary, c.self)
	if s.binding != nil {
		if own := expiry(s.key, s.binding); !own.IsZero() && (end.IsZero() || own.Before(end)) {
			end = own
		}
	}
	return end
}

func expiry(key *packet.PublicKey, says *packet.Signature) time.Time {
	if says == nil || says.KeyLifetimeSecs == nil || *says.KeyLifetimeSecs == 0 {
		return time.Time{}
	}
	return key.CreationTime.Add(time.Duration(*says.KeyLifetimeSecs) * time.Second)
}

// note describes what has happened to the key since.
func (c *certificate) note(s *subkey, now time.Time) string {
	revoked := slices.Concat(c.revoked, s.revoked)
	if len(revoked) > 0 {
		first := slices.MinFunc(revoked, func(a, b *packet.Signature) int {
			return cmp.Compare(a.CreationTime.Unix(), b.CreationTime.Unix())
		})
		return fmt.Sprintf("the key was retired on %s, after it signed", day(first.CreationTime))
	}
	if end := c.end(s); !end.IsZero() && now.After(end) {
		return fmt.Sprintf("the key expired on %s, after it signed", day(end))
	}
	return ""
}

func day(t time.Time) string { return t.UTC().Format("2006-01-02") }

// digest hashes the file as a signature requires; nil: the algorithm is unknown.
func digest(file File, sig *packet.Signature) (hash.Hash, error) {
	// Signatures of version 4 hash the file and then themselves.
	if state := file.Hashed[sig.Hash]; state != nil && sig.Version == 4 && sig.SigType == packet.SigTypeBinary {
		return state.Clone()
	}
	h, err := sig.PrepareVerify()
	if err != nil {
		return nil, nil
	}
	r, err := file.Open()
	if err != nil {
		return nil, err
	}
	defer r.Close()
	into := io.Writer(h)
	if sig.SigType == packet.SigTypeText {
		into = openpgp.NewCanonicalTextHash(h)
	}
	_, err = io.CopyBuffer(into, r, make([]byte, 256<<10))
	return h, err
}
