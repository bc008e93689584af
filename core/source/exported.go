package source

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"

	"fernladder/core/recipe"
)

// DigestTree is a digest of everything in a directory: names, contents, link targets and execute
// permissions, in the order of the names. It is the same on every machine with the same source.
func DigestTree(dir string) (recipe.Digest, error) {
	all := sha256.New()
	err := filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		name, err := filepath.Rel(dir, path)
		if err != nil {
			return err
		}
		if d.Type()&fs.ModeSymlink != 0 {
			target, err := os.Readlink(path)
			fmt.Fprintf(all, "link %q %q\n", name, target)
			return err
		}
		info, err := d.Info()
		if err != nil {
			return err
		}
		f, err := os.Open(path)
		if err != nil {
			return err
		}
		defer f.Close()
		one := sha256.New()
		if _, err := io.Copy(one, f); err != nil {
			return err
		}
		fmt.Fprintf(all, "file %q %t %x\n", name, info.Mode()&0o111 != 0, one.Sum(nil))
		return nil
	})
	return recipe.Digest{Algorithm: "sha256", Hex: hex.EncodeToString(all.Sum(nil))}, err
}
