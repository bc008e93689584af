package signature

import (
	"bytes"
	"errors"
	"fmt"
	"net"
	"slices"
	"strings"
	"time"

	"aead.dev/minisign"
	"github.com/hiddeco/sshsig"
	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"

	"fernladder/core/safefs"
)

// A Signer makes signatures that Verify accepts. Every Key is one.
type Signer interface {
	Armored(data []byte) ([]byte, error) // a detached signature, in letters
	Public() ([]byte, error)             // the key for those who verify, as Keys.Add reads it
	Fingerprint() string                 // as Good has it
}

// Signing says where secret keys are.
type Signing struct {
	Namespace string // of SSH signatures
	Agent     string // the socket of the SSH agent, or ""
	GPG       string // the program, or ""
	Now       func() time.Time
}

// gpgPrefix begins the name of a key that gpg signs with.
const gpgPrefix = "gpg:"

// IsFile reports whether a key's name is that of a file.
func IsFile(key string) bool { return !strings.HasPrefix(key, gpgPrefix) }

// Open opens a secret key: gpg:ID for one that gpg and its agent sign with, otherwise a file. A
// file has an SSH, minisign or OpenPGP key without a passphrase, and only its owner can read it; or
// an SSH key of the agent, as a public key or with a passphrase.
func (s Signing) Open(key string) (Signer, error) {
	if id, is := strings.CutPrefix(key, gpgPrefix); is {
		if s.GPG == "" {
			return nil, badKey(key)("there is no gpg on this machine")
		}
		return AgentKey(s.GPG, id)
	}
	if data, err := safefs.ReadFile(key, largestKey); err == nil && isSSHKey(data) {
		public, _, _, _, err := ssh.ParseAuthorizedKey(data)
		if err != nil {
			return nil, badKey(key)("it has no key: %v", err)
		}
		return s.fromAgent(key, public)
	}
	data, err := readSecret(key)
	switch {
	case err != nil:
		return nil, err
	case bytes.HasPrefix(data, []byte("untrusted comment:")):
		return readMinisign(key, data)
	case !bytes.Contains(data, []byte("PRIVATE KEY-----")):
		return ReadKey(key, s.Now)
	}
	signer, err := ssh.ParsePrivateKey(data)
	var locked *ssh.PassphraseMissingError
	switch {
	case errors.As(err, &locked) && locked.PublicKey != nil:
		return s.fromAgent(key, locked.PublicKey)
	case err != nil:
		return nil, badKey(key)("this is not a secret key that can be used: %v", err)
	}
	return sshSigning{signer, s.Namespace}, nil
}

// fromAgent is a key that the SSH agent has.
func (s Signing) fromAgent(file string, public ssh.PublicKey) (Signer, error) {
	bad := badKey(file)
	if s.Agent == "" {
		return nil, bad("only an SSH agent can sign with this key, and SSH_AUTH_SOCK names none")
	}
	connection, err := net.Dial("unix", s.Agent)
	if err != nil {
		return nil, bad("the SSH agent does not answer: %v", err)
	}
	signers, err := agent.NewClient(connection).Signers()
	if err != nil {
		return nil, bad("the SSH agent does not list its keys: %v", err)
	}
	i := slices.IndexFunc(signers, func(s ssh.Signer) bool {
		return bytes.Equal(s.PublicKey().Marshal(), public.Marshal())
	})
	if i < 0 {
		return nil, bad("the SSH agent does not have this key; ssh-add %s", file)
	}
	return sshSigning{signers[i], s.Namespace}, nil
}

type sshSigning struct {
	ssh.Signer
	namespace string
}

func (s sshSigning) Armored(data []byte) ([]byte, error) {
	made, err := sshsig.Sign(bytes.NewReader(data), s.Signer, sshsig.HashSHA512, s.namespace)
	if err != nil {
		return nil, err
	}
	return sshsig.Armor(made), nil
}

func (s sshSigning) Public() ([]byte, error) { return ssh.MarshalAuthorizedKey(s.PublicKey()), nil }
func (s sshSigning) Fingerprint() string     { return ssh.FingerprintSHA256(s.PublicKey()) }

type minisignSigning struct{ minisign.PrivateKey }

func readMinisign(file string, data []byte) (Signer, error) {
	bad := badKey(file)
	if minisign.IsEncrypted(data) {
		return nil, bad("this key has a password, and there is no agent for it; make one without, with minisign -G -W")
	}
	var key minisign.PrivateKey
	if err := key.UnmarshalText(data); err != nil {
		return nil, bad("this is not a secret key that can be used: %v", err)
	}
	return minisignSigning{key}, nil
}

func (m minisignSigning) Armored(data []byte) ([]byte, error) {
	return minisign.Sign(m.PrivateKey, data), nil
}

func (m minisignSigning) Public() ([]byte, error) {
	return m.PrivateKey.Public().(minisign.PublicKey).MarshalText()
}

func (m minisignSigning) Fingerprint() string { return fmt.Sprintf("%016X", m.ID()) }

// ReadKeys reads the files of trusted keys.
func ReadKeys(files []string) (*Keys, error) {
	keys := &Keys{}
	for _, file := range files {
		data, err := safefs.ReadFile(file, LargestFile)
		if err == nil {
			err = keys.Add(file, data)
		}
		if err != nil {
			return nil, badKey(file)("the key cannot be read: %v", err)
		}
	}
	return keys, nil
}
