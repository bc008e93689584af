package signature

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"aead.dev/minisign"
	"github.com/hiddeco/sshsig"
	"golang.org/x/crypto/ssh"

	"fernladder/core/pattern"
)

type minisignKey struct {
	file string
	key  minisign.PublicKey
}

func (m minisignKey) good() Good {
	return Good{Format: "minisign", Fingerprint: fmt.Sprintf("%016X", m.key.ID()), KeyFile: m.file}
}

// isMinisignKey recognises a key without its comment: one line of base64 that
// begins with the encoding of "Ed".
func isMinisignKey(data []byte) bool {
	text := bytes.TrimSpace(data)
	return len(text) == 56 && bytes.HasPrefix(text, []byte("RW"))
}

func (k *Keys) addMinisign(name string, data []byte) error {
	var key minisign.PublicKey
	if err := key.UnmarshalText(bytes.TrimSpace(data)); err != nil {
		return err
	}
	k.minisign = append(k.minisign, minisignKey{name, key})
	return nil
}

func minisignSigner(data []byte) []string {
	var sig minisign.Signature
	if sig.UnmarshalText(data) != nil {
		return nil
	}
	return []string{fmt.Sprintf("%016X", sig.KeyID)}
}

func (k *Keys) verifyMinisign(file File, data []byte) (*Good, error) {
	var sig minisign.Signature
	if err := sig.UnmarshalText(data); err != nil {
		return nil, &Bad{[]string{"the minisign signature is damaged"}}
	}
	for _, m := range k.minisign {
		if m.key.ID() != sig.KeyID {
			continue
		}
		fits, err := m.fits(file, sig, data)
		if err != nil {
			return nil, err
		}
		if !fits {
			return nil, &Bad{[]string{fmt.Sprintf("it claims to be by %016X, but does not match the file", sig.KeyID)}}
		}
		good := m.good()
		return &good, nil
	}
	return nil, &Bad{[]string{fmt.Sprintf("it is by %016X, which is not among the trusted keys", sig.KeyID)}}
}

func (m minisignKey) fits(file File, sig minisign.Signature, data []byte) (bool, error) {
	if sig.Algorithm == minisign.EdDSA { // the old kind, over the file itself
		file, err := whole(file)
		return err == nil && minisign.Verify(m.key, file, data), err
	}
	r, err := file.Open()
	if err != nil {
		return false, err
	}
	defer r.Close()
	hashed := minisign.NewReader(r)
	if _, err := io.CopyBuffer(io.Discard, onlyReader{hashed}, make([]byte, 256<<10)); err != nil {
		return false, err
	}
	return hashed.Verify(m.key, data), nil
}

type onlyReader struct{ io.Reader }

type sshKey struct {
	file, comment string
	key           ssh.PublicKey
	namespaces    []string // that its signatures are for; nil: any
}

func (s sshKey) good() Good {
	return Good{Format: "ssh", Fingerprint: ssh.FingerprintSHA256(s.key), Owner: s.comment, KeyFile: s.file}
}

// sshKinds begin the part of a line that is a key.
var sshKinds = []string{"ssh-ed25519 ", "ssh-rsa ", "ecdsa-sha2-", "sk-ssh-ed25519@openssh.com ", "sk-ecdsa-sha2-"}

func isSSHKey(data []byte) bool {
	for line := range strings.Lines(string(data)) {
		if _, key := splitSSH(line); key != "" {
			return true
		}
	}
	return false
}

// signers matches the principals of a line of allowed_signers; anything else before a key
// restricts it (ssh-keygen(1), sshd(8)).
var signers = pattern.New(`^([\w.*?!+-]+@[\w.*?-]+(,[\w.*?!+-]+@[\w.*?-]+)*|\*)?$`)

// namespacesOnly matches the one restriction that is supported.
var namespacesOnly = pattern.New(`^namespaces="([^"]*)"$`)

// splitSSH splits a line of an authorized_keys or allowed_signers file into the part before the
// key, and the key with its comment.
func splitSSH(line string) (before, key string) {
	line = strings.TrimSpace(line)
	if strings.HasPrefix(line, "#") {
		return "", ""
	}
	for _, kind := range sshKinds {
		if strings.HasPrefix(line, kind) {
			return "", line
		}
		if i := strings.Index(line, " "+kind); i > 0 {
			return line[:i], line[i+1:]
		}
	}
	return "", ""
}

func (k *Keys) addSSH(name string, data []byte) error {
	for lines := bufio.NewScanner(bytes.NewReader(data)); lines.Scan(); {
		before, text := splitSSH(lines.Text())
		if text == "" {
			continue
		}
		signer, restrictions, _ := strings.Cut(before, " ")
		if !signers.MatchString(signer) {
			restrictions = before
		}
		restrictions = strings.TrimSpace(restrictions)
		only := namespacesOnly.FindStringSubmatch(restrictions)
		if restrictions != "" && only == nil {
			return fmt.Errorf("a key has restrictions, which would be ignored: %s; remove the line, or the restrictions",
				restrictions)
		}
		key, comment, _, _, err := ssh.ParseAuthorizedKey([]byte(text))
		if err != nil {
			return err
		}
		if comment == "" {
			comment = signer
		}
		s := sshKey{file: name, comment: comment, key: key}
		if only != nil {
			s.namespaces = strings.Split(only[1], ",")
		}
		k.ssh = append(k.ssh, s)
	}
	return nil
}

func sshSigner(data []byte) []string {
	sig, err := sshsig.Unarmor(data)
	if err != nil {
		return nil
	}
	return []string{ssh.FingerprintSHA256(sig.PublicKey)}
}

func (k *Keys) verifySSH(namespace string, file File, data []byte) (*Good, error) {
	const end = "-----END SSH SIGNATURE-----"
	bad := &Bad{}
	for range mostSignatures {
		one, rest, more := bytes.Cut(data, []byte(end))
		good, err := k.verifyOneSSH(namespace, file, append(slices.Clone(one), end...))
		refused := new(Bad)
		if err == nil || !errors.As(err, &refused) {
			return good, err
		}
		bad.Reasons = append(bad.Reasons, refused.Reasons...)
		if data = rest; !more || !bytes.Contains(data, []byte("-----BEGIN SSH SIGNATURE-----")) {
			break
		}
	}
	return nil, bad
}

func (k *Keys) verifyOneSSH(namespace string, file File, data []byte) (*Good, error) {
	sig, err := sshsig.Unarmor(data)
	if err != nil {
		return nil, &Bad{[]string{"the SSH signature is damaged"}}
	}
	if sig.Namespace != namespace {
		return nil, &Bad{[]string{fmt.Sprintf("it was made for %q, not for %q", sig.Namespace, namespace)}}
	}
	for _, s := range k.ssh {
		if !bytes.Equal(s.key.Marshal(), sig.PublicKey.Marshal()) {
			continue
		}
		if s.namespaces != nil && !slices.Contains(s.namespaces, namespace) {
			return nil, &Bad{[]string{fmt.Sprintf("the key %s is only for %s", s.good(), strings.Join(s.namespaces, ", "))}}
		}
		r, err := file.Open()
		if err != nil {
			return nil, err
		}
		defer r.Close()
		watched := &failing{r: r}
		if err := sshsig.Verify(watched, sig, s.key, sig.HashAlgorithm, namespace); err != nil {
			return nil, errors.Join(watched.err,
				&Bad{[]string{"it claims to be by " + s.good().String() + ", but does not match the file"}})
		}
		good := s.good()
		return &good, nil
	}
	return nil, &Bad{[]string{fmt.Sprintf("it is by %s, which is not among the trusted keys",
		ssh.FingerprintSHA256(sig.PublicKey))}}
}

// failing remembers the error of a reader, which does not concern the signature.
type failing struct {
	r   io.Reader
	err error
}

func (f *failing) Read(p []byte) (int, error) {
	n, err := f.r.Read(p)
	if err != nil && err != io.EOF {
		f.err = err
	}
	return n, err
}
