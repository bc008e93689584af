package signature

import (
	"bytes"
	"crypto"
	"crypto/ed25519"
	"crypto/rand"
	"errors"
	"hash"
	"io"
	"os"
	"testing"
	"time"

	"aead.dev/minisign"
	"github.com/ProtonMail/go-crypto/openpgp"
	"github.com/ProtonMail/go-crypto/openpgp/armor"
	"github.com/ProtonMail/go-crypto/openpgp/packet"
	"github.com/hiddeco/sshsig"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"
)

var (
	spring = time.Date(2020, 4, 1, 12, 0, 0, 0, time.UTC)
	summer = spring.AddDate(0, 3, 0)
	autumn = spring.AddDate(0, 6, 0)
	today  = spring.AddDate(6, 0, 0)
)

const text = "the archive\nof a fern\n"

func file(contents string) File {
	return File{Open: func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader([]byte(contents))), nil }}
}

// hashed is a file with known hashes that must not be read again.
func hashed(t *testing.T, contents string) File {
	f := File{Hashed: map[crypto.Hash]hash.Cloner{}, Open: func() (io.ReadCloser, error) {
		t.Error("read again")
		return nil, io.EOF
	}}
	for _, h := range []crypto.Hash{crypto.SHA256, crypto.SHA512} {
		state := h.New().(hash.Cloner)
		state.Write([]byte(contents))
		f.Hashed[h] = state
	}
	return f
}

func at(t time.Time, change ...func(*packet.Config)) *packet.Config {
	c := &packet.Config{Algorithm: packet.PubKeyAlgoEdDSA, Time: func() time.Time { return t }}
	for _, f := range change {
		f(c)
	}
	return c
}

func lasting(d time.Duration) func(*packet.Config) {
	return func(c *packet.Config) { c.KeyLifetimeSecs = uint32(d / time.Second) }
}

func rsa(c *packet.Config) { c.Algorithm, c.RSABits = packet.PubKeyAlgoRSA, 2048 }

func newKey(t *testing.T, name string, c *packet.Config) *openpgp.Entity {
	e, err := openpgp.NewEntity(name, "", name+"@vale.example", c)
	require.NoError(t, err)
	return e
}

func public(t *testing.T, armoured bool, all ...*openpgp.Entity) []byte {
	var out bytes.Buffer
	for _, e := range all {
		if !armoured {
			require.NoError(t, e.Serialize(&out))
			continue
		}
		out.WriteString("some text before\n")
		w, err := armor.Encode(&out, openpgp.PublicKeyType, nil)
		require.NoError(t, err)
		require.NoError(t, e.Serialize(w))
		require.NoError(t, w.Close())
		out.WriteString("\n")
	}
	return out.Bytes()
}

func sign(t *testing.T, e *openpgp.Entity, c *packet.Config) []byte {
	var out bytes.Buffer
	require.NoError(t, openpgp.DetachSign(&out, e, bytes.NewReader([]byte(text)), c))
	return out.Bytes()
}

// When a key may sign, and how that is reported. A signature is judged at the time it was made.
func TestOpenPGP(t *testing.T) {
	grower := newKey(t, "grower", at(spring))
	other := newKey(t, "other", at(spring))
	expiring := newKey(t, "expiring", at(spring, lasting(120*24*time.Hour)))
	withSubkey := newKey(t, "subkey", at(spring))
	require.NoError(t, withSubkey.AddSigningSubkey(at(spring)))
	armoured := func(sig []byte) []byte {
		var out bytes.Buffer
		w, err := armor.Encode(&out, openpgp.SignatureType, nil)
		require.NoError(t, err)
		w.Write(sig)
		require.NoError(t, w.Close())
		return out.Bytes()
	}
	revoked := func(reason packet.ReasonForRevocation) *openpgp.Entity {
		e := newKey(t, "revoked", at(spring))
		require.NoError(t, e.RevokeKey(reason, "", at(summer.AddDate(0, 0, 1))))
		return e
	}
	// The library does not sign with a revoked key, so its signature is older.
	beforeRevocation := func(reason packet.ReasonForRevocation) (*openpgp.Entity, []byte) {
		e := newKey(t, "revoked", at(spring))
		sig := sign(t, e, at(summer))
		require.NoError(t, e.RevokeKey(reason, "", at(autumn)))
		return e, sig
	}
	retired, retiredSig := beforeRevocation(packet.KeyRetired)
	stolen, stolenSig := beforeRevocation(packet.KeyCompromised)
	unexplained, unexplainedSig := beforeRevocation(packet.NoReason)
	late := newKey(t, "late", at(spring))
	lateSig := sign(t, late, at(autumn))
	require.NoError(t, late.RevokeKey(packet.KeyRetired, "", at(summer)))
	tooLate := newKey(t, "tooLate", at(spring))
	tooLateSig := sign(t, tooLate, at(autumn))
	for _, id := range tooLate.Identities { // the key's end is moved before the signature
		seconds := uint32(90 * 24 * 3600)
		id.SelfSignature.KeyLifetimeSecs = &seconds
		require.NoError(t, id.SelfSignature.SignUserId(id.Name, tooLate.PrimaryKey, tooLate.PrivateKey, at(spring)))
	}
	rsaKey := newKey(t, "rsa", at(spring, rsa))
	weak := func() []byte {
		sig := &packet.Signature{SigType: packet.SigTypeBinary, PubKeyAlgo: rsaKey.PrimaryKey.PubKeyAlgo, Hash: crypto.SHA1,
			CreationTime: summer,
			IssuerKeyId:  &rsaKey.PrimaryKey.KeyId, IssuerFingerprint: rsaKey.PrimaryKey.Fingerprint}
		h := crypto.SHA1.New()
		h.Write([]byte(text))
		plain := false
		require.NoError(t, sig.Sign(h, rsaKey.PrivateKey, &packet.Config{NonDeterministicSignaturesViaNotation: &plain}))
		var out bytes.Buffer
		require.NoError(t, sig.Serialize(&out))
		return out.Bytes()
	}()
	var asText bytes.Buffer
	require.NoError(t, openpgp.DetachSignText(&asText, grower, bytes.NewReader([]byte(text)), at(summer)))

	good := sign(t, grower, at(summer))
	for name, c := range map[string]struct {
		sig  []byte
		keys []byte
		note string // "" and
		bad  string // "" for a good signature without a word
	}{
		"good":                     {sig: good, keys: public(t, false, grower)},
		"armoured":                 {sig: armoured(good), keys: public(t, true, grower)},
		"RSA":                      {sig: sign(t, rsaKey, at(summer)), keys: public(t, false, rsaKey)},
		"of a text":                {sig: asText.Bytes(), keys: public(t, false, grower)},
		"by a subkey":              {sig: sign(t, withSubkey, at(summer)), keys: public(t, false, withSubkey)},
		"key in the second block":  {sig: good, keys: public(t, true, other, grower)},
		"two, of which one counts": {sig: append(sign(t, other, at(summer)), good...), keys: public(t, false, grower)},
		"two armoured blocks": {sig: append(armoured(sign(t, other, at(summer))), armoured(good)...),
			keys: public(t, false, grower)},
		"key expired since": {sig: sign(t, expiring, at(summer)), keys: public(t, false, expiring),
			note: "the key expired on 2020-07-30, after it signed"},
		"key retired since": {sig: retiredSig, keys: public(t, false, retired),
			note: "the key was retired on 2020-10-01, after it signed"},
		"another key":                {sig: good, keys: public(t, false, other), bad: "not among the trusted keys"},
		"after the key's end":        {sig: tooLateSig, keys: public(t, false, tooLate), bad: "after the end of the key"},
		"after the key was retired":  {sig: lateSig, keys: public(t, false, late), bad: "after the key late"},
		"key stolen later":           {sig: stolenSig, keys: public(t, false, stolen), bad: "may be forged"},
		"key revoked without reason": {sig: unexplainedSig, keys: public(t, false, unexplained), bad: "may be forged"},
		"before its key": {sig: sign(t, newKey(t, "x", at(spring)), at(summer)),
			keys: public(t, false, revoked(packet.KeyRetired)), bad: "not among"},
		"still to come": {sig: sign(t, grower, at(today.AddDate(1, 0, 0))), keys: public(t, false, grower),
			bad: "still to come"},
		"SHA-1":   {sig: weak, keys: public(t, false, rsaKey), bad: "SHA-1, which can be forged"},
		"cut off": {sig: good[:len(good)-5], keys: public(t, false, grower), bad: "damaged"},
		"a web page": {sig: []byte("<html>not found</html>"), keys: public(t, false, grower),
			bad: "no signature in it"},
		"empty": {sig: nil, keys: public(t, false, grower), bad: "no signature in it"},
		"damaged armour": {sig: []byte("-----BEGIN PGP SIGNATURE-----\n\nxx"), keys: public(t, false, grower),
			bad: "armour is damaged"},
		"a key instead of a signature": {sig: public(t, true, grower), keys: public(t, false, grower),
			bad: "not the signature of a file"},
	} {
		t.Run(name, func(t *testing.T) {
			keys := &Keys{}
			require.NoError(t, keys.Add("growers.asc", c.keys))
			got, err := Verify(file(text), c.sig, keys, today)
			if c.bad != "" {
				var bad *Bad
				require.ErrorAs(t, err, &bad)
				assert.ErrorContains(t, err, c.bad)
				return
			}
			require.NoError(t, err)
			assert.Equal(t, c.note, got.Note)
			assert.Equal(t, "growers.asc", got.KeyFile)
			assert.NotEmpty(t, got.Fingerprint)
			_, err = Verify(file(text+"!"), c.sig, keys, today)
			assert.ErrorContains(t, err, "does not match the file")
			if name != "of a text" {
				again, err := Verify(hashed(t, text), c.sig, keys, today)
				require.NoError(t, err)
				assert.Equal(t, got, again)
				_, err = Verify(hashed(t, text+"!"), c.sig, keys, today)
				assert.ErrorContains(t, err, "does not match the file")
			}
		})
	}
}

// A subkey that the primary key has not signed, or that belongs to another key, may not sign.
func TestStolenSubkeys(t *testing.T) {
	victim, thief := newKey(t, "victim", at(spring)), newKey(t, "thief", at(spring))
	require.NoError(t, thief.AddSigningSubkey(at(spring)))
	sig := sign(t, thief, at(summer))
	var ring bytes.Buffer
	require.NoError(t, victim.Serialize(&ring))
	for _, s := range thief.Subkeys {
		require.NoError(t, s.PublicKey.Serialize(&ring))
		require.NoError(t, s.Sig.Serialize(&ring))
	}
	keys := &Keys{}
	require.NoError(t, keys.Add("k", ring.Bytes()))
	_, err := Verify(file(text), sig, keys, today)
	assert.ErrorContains(t, err, "not among the trusted keys")
}

func TestMinisignAndSSH(t *testing.T) {
	pub, private, err := minisign.GenerateKey(rand.Reader)
	require.NoError(t, err)
	line, err := pub.MarshalText()
	require.NoError(t, err)
	hashed := minisign.NewReader(bytes.NewReader([]byte(text)))
	_, err = io.Copy(io.Discard, hashed)
	require.NoError(t, err)

	_, seed, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	signer, err := ssh.NewSignerFromKey(seed)
	require.NoError(t, err)
	sshSign := func(namespace string) []byte {
		sig, err := sshsig.Sign(bytes.NewReader([]byte(text)), signer, sshsig.HashSHA512, namespace)
		require.NoError(t, err)
		return sshsig.Armor(sig)
	}
	sshLine := ssh.MarshalAuthorizedKey(signer.PublicKey())
	otherSSH, _, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	otherKey, err := ssh.NewPublicKey(otherSSH)
	require.NoError(t, err)
	otherLine := ssh.MarshalAuthorizedKey(otherKey)
	otherPub, _, err := minisign.GenerateKey(rand.Reader)
	require.NoError(t, err)
	other, err := otherPub.MarshalText()
	require.NoError(t, err)

	for name, c := range map[string]struct{ keys, sig, bad string }{
		"minisign":               {string(line), string(hashed.Sign(private)), ""},
		"minisign, the old kind": {string(line), string(minisign.Sign(private, []byte(text))), ""},
		"minisign by another":    {string(other), string(hashed.Sign(private)), "not among the trusted keys"},
		"minisign, damaged":      {string(line), "untrusted comment: x\nAAAA\n", "damaged"},
		"ssh":                    {string(sshLine), string(sshSign("file")), ""},
		"ssh, with allowed signer": {"# growers\ngrower@vale.example namespaces=\"file\" " + string(sshLine),
			string(sshSign("file")), ""},
		"ssh, several": {string(sshLine), string(sshSign("git")) + string(sshSign("file")), ""},
		"ssh, for others": {"grower@vale.example namespaces=\"git,mail\" " + string(sshLine), string(sshSign("file")),
			"is only for git, mail"},
		"ssh for something else": {string(sshLine), string(sshSign("git")), `it was made for "git", not for "file"`},
		"ssh by another":         {string(otherLine), string(sshSign("file")), "not among the trusted keys"},
		"ssh, damaged": {string(sshLine), "-----BEGIN SSH SIGNATURE-----\nAAAA\n-----END SSH SIGNATURE-----\n",
			"damaged"},
	} {
		t.Run(name, func(t *testing.T) {
			keys := &Keys{}
			require.NoError(t, keys.Add("k", []byte(c.keys)))
			got, err := Verify(file(text), []byte(c.sig), keys, today)
			if c.bad != "" {
				assert.ErrorContains(t, err, c.bad)
				return
			}
			require.NoError(t, err)
			if name == "ssh, with allowed signer" {
				assert.Equal(t, "grower@vale.example", got.Owner)
			}
			if name != "ssh, several" {
				assert.Contains(t, SignersOf([]byte(c.sig)), got.Fingerprint)
			}
			unreadable := errors.New("unreadable")
			_, err = Verify(File{Open: func() (io.ReadCloser, error) { return nil, unreadable }}, []byte(c.sig), keys, today)
			assert.ErrorIs(t, err, unreadable)
			_, err = Verify(file("other"), []byte(c.sig), keys, today)
			assert.ErrorContains(t, err, "does not match the file")
		})
	}
}

// Restrictions of a key are obeyed, or the key is rejected.
func TestRestrictedKeys(t *testing.T) {
	_, seed, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	signer, err := ssh.NewSignerFromKey(seed)
	require.NoError(t, err)
	line := string(ssh.MarshalAuthorizedKey(signer.PublicKey()))
	for _, before := range []string{`g@vale.example valid-before="20200101"`, `g@vale.example cert-authority`,
		`cert-authority`, `g@vale.example namespaces="file",valid-after="20200101"`, `restrict`, `from="vale.example"`} {
		assert.ErrorContains(t, (&Keys{}).Add("k", []byte(before+" "+line)), "restrictions, which would be ignored", before)
	}
	for _, before := range []string{"", "g@vale.example ", "a@vale.example,*@b.example ", "# a comment\n"} {
		assert.NoError(t, (&Keys{}).Add("k", []byte(before+line)), before)
	}
}

// Copies of a key are one key: a revocation in one of them cannot be undone by another.
func TestCopiesOfAKey(t *testing.T) {
	key := newKey(t, "grower", at(spring))
	before := public(t, true, key)
	sig := sign(t, key, at(summer))
	require.NoError(t, key.RevokeKey(packet.KeyCompromised, "lost", at(summer)))
	after := public(t, false, key)
	for name, files := range map[string][][]byte{"revoked later": {before, after}, "revoked first": {after, before}} {
		keys := &Keys{}
		for _, data := range files {
			require.NoError(t, keys.Add("k", data))
		}
		_, err := Verify(file(text), sig, keys, today)
		assert.ErrorContains(t, err, "was revoked", name)
	}
}

// A subkey that only some copies of a key have can sign; a revocation in any copy counts.
func TestSubkeysOfCopies(t *testing.T) {
	key := newKey(t, "grower", at(spring))
	before := public(t, false, key)
	require.NoError(t, key.AddSigningSubkey(at(spring)))
	sig, after := sign(t, key, at(summer)), public(t, false, key)
	for _, files := range [][][]byte{{before, after}, {after, before}, {after, after}} {
		keys := &Keys{}
		for _, data := range files {
			require.NoError(t, keys.Add("k", data))
		}
		_, err := Verify(file(text), sig, keys, today)
		assert.NoError(t, err)
	}
	require.NoError(t, key.RevokeSubkey(&key.Subkeys[len(key.Subkeys)-1], packet.KeyCompromised, "lost", at(summer)))
	keys := &Keys{}
	require.NoError(t, keys.Add("k", after))
	require.NoError(t, keys.Add("k", public(t, false, key)))
	_, err := Verify(file(text), sig, keys, today)
	assert.ErrorContains(t, err, "was revoked")
	keys = &Keys{} // from copies that have no other subkey
	key.Subkeys = key.Subkeys[len(key.Subkeys)-1:]
	require.NoError(t, keys.Add("k", public(t, false, key)))
	key.Subkeys[0].Revocations = nil
	require.NoError(t, keys.Add("k", public(t, false, key)))
	_, err = Verify(file(text), sig, keys, today)
	assert.ErrorContains(t, err, "was revoked")
}

// The newest copy decides until when a key can sign, whichever end is first; a subkey can sign
// until its own end.
func TestEndsOfCopies(t *testing.T) {
	key := newKey(t, "grower", at(spring))
	sig := sign(t, key, at(autumn))
	says := func(days uint32, when time.Time) []byte {
		seconds := days * 24 * 3600
		for _, id := range key.Identities {
			id.SelfSignature.KeyLifetimeSecs, id.SelfSignature.CreationTime = &seconds, when
			require.NoError(t, id.SelfSignature.SignUserId(id.Name, key.PrimaryKey, key.PrivateKey, at(when)))
		}
		return public(t, false, key)
	}
	short, long := says(90, spring), says(3650, spring.AddDate(0, 1, 0))
	for name, c := range map[string]struct {
		files [][]byte
		good  bool
	}{"extended": {[][]byte{short, long}, true}, "extended, the other way": {[][]byte{long, short}, true},
		"not extended": {[][]byte{short}, false}} {
		keys := &Keys{}
		for _, data := range c.files {
			require.NoError(t, keys.Add("k", data))
		}
		_, err := Verify(file(text), sig, keys, today)
		assert.Equal(t, c.good, err == nil, "%s: %v", name, err)
	}

	key = newKey(t, "grower", at(spring))
	require.NoError(t, key.AddSigningSubkey(at(spring)))
	sig = sign(t, key, at(autumn))
	sub := &key.Subkeys[len(key.Subkeys)-1]
	for days, good := range map[uint32]bool{90: false, 3650: true} {
		seconds := days * 24 * 3600
		sub.Sig.KeyLifetimeSecs = &seconds
		require.NoError(t, sub.Sig.SignKey(sub.PublicKey, key.PrivateKey, at(spring)))
		keys := &Keys{}
		require.NoError(t, keys.Add("k", public(t, false, key)))
		_, err := Verify(file(text), sig, keys, today)
		assert.Equal(t, good, err == nil, "%d days: %v", days, err)
	}
}

func TestKeysThatAreNone(t *testing.T) {
	private := newKey(t, "grower", at(spring))
	var secret bytes.Buffer
	require.NoError(t, private.SerializePrivate(&secret, nil))
	for says, data := range map[string]string{
		"neither an OpenPGP, nor a minisign, nor an SSH public key": "",
		"private key":       secret.String(),
		"armour is damaged": "-----BEGIN PGP PUBLIC KEY BLOCK-----\n\nxx",
	} {
		assert.ErrorContains(t, (&Keys{}).Add("k", []byte(data)), says)
	}
}

func FuzzVerify(f *testing.F) {
	f.Add([]byte("-----BEGIN PGP SIGNATURE-----\n\niQ==\n-----END PGP SIGNATURE-----"))
	f.Add([]byte("untrusted comment: x\nRUQ=\n"))
	f.Add([]byte("-----BEGIN SSH SIGNATURE-----\nU1NIU0lH\n-----END SSH SIGNATURE-----\n"))
	keys := &Keys{}
	f.Fuzz(func(t *testing.T, data []byte) {
		got, err := Verify(file(text), data, keys, today)
		assert.Nil(t, got)
		assert.Error(t, err)
		keys.Add("k", data)
		*keys = Keys{}
	})
}

// Keys made by another program: DSA, and one whose parts are bound with SHA-1, which is
// accepted; a file's signature with SHA-1 is not.
func TestKeysOfOldPrograms(t *testing.T) {
	read := func(name string) []byte {
		data, err := os.ReadFile("testdata/" + name)
		require.NoError(t, err)
		return data
	}
	for _, name := range []string{"dsa", "old"} {
		keys := &Keys{}
		require.NoError(t, keys.Add(name, read(name+".key.asc")))
		got, err := Verify(file(text), read(name+".sig.asc"), keys, time.Date(2027, 1, 1, 0, 0, 0, 0, time.UTC))
		require.NoError(t, err)
		assert.Contains(t, got.Owner, name+"@vale-glasshouse.example")
		_, err = Verify(file(text+"!"), read(name+".sig.asc"), keys, today)
		assert.ErrorContains(t, err, "does not match the file")
	}
	keys := &Keys{}
	require.NoError(t, keys.Add("old", read("old.key.asc")))
	_, err := Verify(file(text), read("old.sha1.sig"), keys, today)
	assert.ErrorContains(t, err, "SHA-1, which can be forged")
}
