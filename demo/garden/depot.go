package garden

import (
	"crypto/ed25519"
	"encoding/pem"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/crypto/ssh"
)

// WriteSiteKey makes an SSH key that the growers sign builds with: FILE and FILE.pub.
func WriteSiteKey(file string) error {
	public, private, err := ed25519.GenerateKey(nil)
	if err != nil {
		return err
	}
	block, err := ssh.MarshalPrivateKey(private, "")
	if err != nil {
		return err
	}
	key, err := ssh.NewPublicKey(public)
	if err != nil {
		return err
	}
	line := strings.TrimSpace(string(ssh.MarshalAuthorizedKey(key))) + " builds@vale-glasshouse.example\n"
	if err := os.WriteFile(file, pem.EncodeToMemory(block), 0o600); err != nil {
		return err
	}
	return os.WriteFile(file+".pub", []byte(line), 0o644)
}

// WriteDepot adds a depot to the settings in the garden's folder: the directory stick.
func WriteDepot(dir string) error {
	if err := WriteSiteKey(filepath.Join(dir, "site")); err != nil {
		return err
	}
	if err := os.Mkdir(filepath.Join(dir, "stick"), 0o755); err != nil {
		return err
	}
	file := filepath.Join(dir, "fernladder.toml")
	text, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	return write(file, append(text, "\n# For machines that do not build.\n[[depot]]\nname = \"stick\"\npath = \"stick\"\n"+
		"keys = [\"site.pub\"]\nsign = \"site\"\n"...))
}
