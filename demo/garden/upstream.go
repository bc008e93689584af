package garden

import (
	"bytes"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp"
	"github.com/ProtonMail/go-crypto/openpgp/armor"
	"github.com/ProtonMail/go-crypto/openpgp/packet"
)

// KeyFile is the public key of the garden's programmers on the upstream site.
const KeyFile = "growers.asc"

// signed are the packages with signed archives.
var signed = []string{"dewcalc", "mistplan"}

// sign adds signatures and their key to the files of the site.
func sign(files map[string][]byte) error {
	at := func() time.Time { return released.Add(-time.Hour) }
	config := &packet.Config{Algorithm: packet.PubKeyAlgoEdDSA, Time: at}
	key, err := openpgp.NewEntity("Vale Growers", "", "growers@vale-glasshouse.example", config)
	if err != nil {
		return err
	}
	var public bytes.Buffer
	w, err := armor.Encode(&public, openpgp.PublicKeyType, nil)
	if err != nil {
		return err
	}
	if err := key.Serialize(w); err != nil {
		return err
	}
	if err := w.Close(); err != nil {
		return err
	}
	files[KeyFile] = append(public.Bytes(), '\n')
	config.Time = func() time.Time { return released }
	for name, data := range files {
		package_, _, _ := strings.Cut(name, "-")
		if !slices.Contains(signed, package_) {
			continue
		}
		var signature bytes.Buffer
		if err := openpgp.ArmoredDetachSign(&signature, key, bytes.NewReader(data), config); err != nil {
			return err
		}
		files[name+".asc"] = append(signature.Bytes(), '\n')
	}
	return nil
}

// repository adds mistplan.git to the files of the site: the sources of 2.1.0 with a tag, and
// one later commit. It is always the same.
func repository(files map[string][]byte) error {
	dir, err := os.MkdirTemp("", "fernladder-garden-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	git := func(args ...string) error {
		command := exec.Command("git",
			append([]string{"-C", dir, "-c", "init.defaultBranch=main", "-c", "commit.gpgSign=false", "-c", "tag.gpgSign=false"},
				args...)...)
		date := released.Format(time.RFC3339)
		command.Env = []string{"PATH=" + os.Getenv("PATH"), "HOME=" + dir, "GIT_CONFIG_NOSYSTEM=1",
			"GIT_CONFIG_GLOBAL=/dev/null",
			"GIT_AUTHOR_NAME=Vale Growers", "GIT_AUTHOR_EMAIL=growers@vale-glasshouse.example", "GIT_AUTHOR_DATE=" + date,
			"GIT_COMMITTER_NAME=Vale Growers", "GIT_COMMITTER_EMAIL=growers@vale-glasshouse.example",
			"GIT_COMMITTER_DATE=" + date}
		if out, err := command.CombinedOutput(); err != nil {
			return fmt.Errorf("the garden's repository cannot be made: git %s: %w\n%s", args[0], err, out)
		}
		return nil
	}
	work := filepath.Join(dir, "work")
	entries, err := sources("mistplan", "2.1.0")
	if err != nil {
		return err
	}
	for _, e := range entries {
		_, name, _ := strings.Cut(e.name, "/")
		file := filepath.Join(work, name)
		if err := write(file, e.data); err != nil {
			return err
		}
		if err := os.Chmod(file, e.mode); err != nil {
			return err
		}
	}
	readme := filepath.Join(work, "README")
	for _, step := range []func() error{
		func() error { return git("init", "--quiet", "work") },
		func() error { return git("-C", "work", "add", ".") },
		func() error { return git("-C", "work", "commit", "--quiet", "--message=Release 2.1.0") },
		func() error { return git("-C", "work", "tag", "--annotate", "--message=2.1.0", "v2.1.0") },
		func() error { return os.WriteFile(readme, []byte("Ferns are watered before noon.\n"), 0o644) },
		func() error {
			return git("-C", "work", "commit", "--quiet", "--all", "--message=Water the ferns before noon")
		},
		func() error { return git("clone", "--quiet", "--bare", "work", "mistplan.git") },
		func() error { return git("-C", "mistplan.git", "update-server-info") },
	} {
		if err := step(); err != nil {
			return err
		}
	}
	bare := os.DirFS(dir)
	return fs.WalkDir(bare, "mistplan.git", func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || strings.HasPrefix(name, "mistplan.git/hooks/") {
			return err
		}
		files[name], err = fs.ReadFile(bare, name)
		return err
	})
}
