package signature

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"syscall"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp"
	"github.com/ProtonMail/go-crypto/openpgp/armor"
	"github.com/ProtonMail/go-crypto/openpgp/clearsign"
	"github.com/ProtonMail/go-crypto/openpgp/packet"

	"fernladder/core/problem"
	"fernladder/core/safefs"
	"fernladder/core/subprocess"
)

// A Key signs what others trust. It is an OpenPGP key, and is never copied.
type Key interface {
	Sign(data io.Reader) ([]byte, error) // detached, binary
	Armored(data []byte) ([]byte, error) // detached, in letters
	Clear(data []byte) ([]byte, error)   // the text with its signature
	Public() (armored []byte, err error) // for those who verify
	Fingerprint() string                 // in capitals
}

// fileKey is a secret key in a file.
type fileKey struct {
	entity *openpgp.Entity
	config *packet.Config
}

const largestKey = 1 << 20

// badKey makes the problems of a file with a secret key.
func badKey(file string) func(what string, args ...any) error {
	return func(what string, args ...any) error {
		return problem.New(problem.Other, file, "%s: %s", file, fmt.Sprintf(what, args...))
	}
}

// readSecret reads a file that only its owner can read: this user, or root.
func readSecret(file string) ([]byte, error) {
	bad := badKey(file)
	opened, err := safefs.OpenPrivate(file)
	var readable *safefs.Readable
	if errors.As(err, &readable) {
		return nil, bad("others can read this key (mode %04o); chmod 600 it", readable.Mode)
	}
	if err != nil {
		return nil, bad("this key cannot be read: %v", cmp.Or(errors.Unwrap(err), err))
	}
	defer opened.Close()
	info, err := opened.Stat()
	if err != nil {
		return nil, bad("this key cannot be read: %v", err)
	}
	if owner := info.Sys().(*syscall.Stat_t).Uid; owner != uint32(os.Geteuid()) && owner != 0 {
		return nil, bad("this key belongs to another user")
	}
	data, err := io.ReadAll(io.LimitReader(opened, largestKey))
	if err != nil {
		return nil, bad("this key cannot be read: %v", err)
	}
	return data, nil
}

// ReadKey reads an OpenPGP secret key without a passphrase, armoured or binary, from a file that
// only its owner can read.
func ReadKey(file string, now func() time.Time) (Key, error) {
	bad := badKey(file)
	data, err := readSecret(file)
	if err != nil {
		return nil, err
	}
	ring, err := openpgp.ReadArmoredKeyRing(bytes.NewReader(data))
	if err != nil {
		ring, err = openpgp.ReadKeyRing(bytes.NewReader(data))
	}
	if err != nil || len(ring) == 0 {
		return nil, bad("this is not an OpenPGP key")
	}
	if len(ring) > 1 {
		return nil, bad("there is more than one key in it")
	}
	k := &fileKey{entity: ring[0], config: &packet.Config{Time: now, NonDeterministicSignaturesViaNotation: new(bool)}}
	signing, ok := k.entity.SigningKey(now())
	switch {
	case k.entity.PrivateKey == nil:
		return nil, bad("this is a public key; a secret one signs")
	case !ok:
		return nil, bad("no part of this key can sign now; perhaps it has expired")
	case signing.PrivateKey == nil || signing.PrivateKey.Dummy():
		return nil, bad("the secret part that signs is not in it")
	case signing.PrivateKey.Encrypted:
		return nil, bad("this key has a passphrase; let gpg's agent sign with it: --gpg %X", k.entity.PrimaryKey.Fingerprint)
	}
	return k, nil
}

func (k *fileKey) Sign(data io.Reader) ([]byte, error) {
	var out bytes.Buffer
	err := openpgp.DetachSign(&out, k.entity, data, k.config)
	return out.Bytes(), err
}

func (k *fileKey) Armored(data []byte) ([]byte, error) {
	var out bytes.Buffer
	err := openpgp.ArmoredDetachSign(&out, k.entity, bytes.NewReader(data), k.config)
	return append(out.Bytes(), '\n'), err
}

func (k *fileKey) Clear(data []byte) ([]byte, error) {
	signing, ok := k.entity.SigningKey(k.config.Now())
	if !ok {
		return nil, errors.New("no part of the key can sign now")
	}
	var out bytes.Buffer
	w, err := clearsign.Encode(&out, signing.PrivateKey, k.config)
	if err != nil {
		return nil, err
	}
	if _, err := w.Write(data); err != nil {
		return nil, err
	}
	err = w.Close()
	return append(out.Bytes(), '\n'), err
}

func (k *fileKey) Public() ([]byte, error) {
	var out bytes.Buffer
	w, err := armor.Encode(&out, openpgp.PublicKeyType, nil)
	if err != nil {
		return nil, err
	}
	if err := k.entity.Serialize(w); err != nil {
		return nil, err
	}
	err = w.Close()
	return append(out.Bytes(), '\n'), err
}

func (k *fileKey) Fingerprint() string { return fmt.Sprintf("%X", k.entity.PrimaryKey.Fingerprint) }

// agentKey is a key of gpg's agent.
type agentKey struct{ program, id string }

// AgentKey is a key that gpg signs with, by its fingerprint or another name that gpg knows.
func AgentKey(program, id string) (Key, error) {
	k := &agentKey{program, id}
	out, err := k.gpg(nil, "--with-colons", "--list-secret-keys", id)
	if err != nil {
		return nil, problem.New(problem.Other, id, "gpg has no secret key %s (%s)", id,
			strings.TrimPrefix(err.Error(), "gpg: "))
	}
	for line := range strings.Lines(string(out)) {
		if fields := strings.Split(line, ":"); fields[0] == "fpr" && len(fields) > 9 {
			k.id = fields[9]
			return k, nil
		}
	}
	return nil, problem.New(problem.Other, id, "gpg has no secret key %s", id)
}

func (k *agentKey) gpg(input []byte, args ...string) ([]byte, error) {
	out, errOut, err := subprocess.Command{Argv: append([]string{k.program, "--batch", "--no-tty", "--quiet",
		"--digest-algo", "SHA256"}, args...),
		Env: os.Environ(), Stdin: bytes.NewReader(input)}.Text(context.Background())
	if err != nil {
		lines := strings.Split(strings.TrimSpace(errOut), "\n")
		return nil, fmt.Errorf("gpg: %s", cmp.Or(strings.TrimPrefix(lines[len(lines)-1], "gpg: "), err.Error()))
	}
	return []byte(out), nil
}

func (k *agentKey) Sign(data io.Reader) ([]byte, error) {
	all, err := io.ReadAll(data)
	if err != nil {
		return nil, err
	}
	return k.gpg(all, "--local-user", k.id, "--detach-sign")
}

func (k *agentKey) Armored(data []byte) ([]byte, error) {
	return k.gpg(data, "--local-user", k.id, "--armor", "--detach-sign")
}

func (k *agentKey) Clear(data []byte) ([]byte, error) {
	return k.gpg(data, "--local-user", k.id, "--clearsign")
}

func (k *agentKey) Public() ([]byte, error) { return k.gpg(nil, "--armor", "--export", k.id) }
func (k *agentKey) Fingerprint() string     { return k.id }
