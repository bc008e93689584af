package source

import (
	"archive/tar"
	"bytes"
	"context"
	"errors"
	"os"
	"path/filepath"
	"strings"

	"github.com/google/renameio/v2"

	"fernladder/core/recipe"
	"fernladder/core/version"
)

// svn runs svn without anybody's configuration.
func (r *Repositories) svn(ctx context.Context, out *bytes.Buffer, command string, args ...string) error {
	config, err := os.MkdirTemp("", "fernladder-svn-")
	if err != nil {
		return &StoreError{err}
	}
	defer os.RemoveAll(config)
	return r.run(ctx, out, nil, "svn", append([]string{command, "--non-interactive", "--config-dir", config}, args...)...)
}

// exportSvn keeps a revision as a tar file.
func (r *Repositories) exportSvn(ctx context.Context, c Checkout) error {
	dir, err := os.MkdirTemp(filepath.Join(r.Dir, "svn"), filepath.Base(r.place("svn", c.Svn+"@"+c.Revision))+".")
	if err != nil {
		return &StoreError{err}
	}
	defer os.RemoveAll(dir)
	files := filepath.Join(dir, "source")
	err = r.svn(ctx, &bytes.Buffer{}, "export", "--ignore-externals", "--config-option", "config:miscellany:use-commit-times=yes",
		"-r", c.Revision, "--", c.Svn+"@"+c.Revision, files)
	if err != nil {
		return err
	}
	out, err := renameio.NewPendingFile(r.tarball(c), renameio.WithTempDir(dir), renameio.WithPermissions(0o444))
	if err != nil {
		return &StoreError{err}
	}
	defer out.Cleanup()
	w := tar.NewWriter(out)
	if err := errors.Join(w.AddFS(os.DirFS(files)), w.Close()); err != nil {
		return &StoreError{err}
	}
	if err := out.CloseAtomicallyReplace(); err != nil {
		return &StoreError{err}
	}
	return nil
}

func (r *Repositories) headSvn(ctx context.Context, url string) (recipe.Pin, error) {
	var out bytes.Buffer
	if err := r.svn(ctx, &out, "info", "--show-item", "last-changed-revision", "--", url); err != nil {
		return recipe.Pin{}, err
	}
	revision := strings.TrimSpace(out.String())
	v, err := version.Parse("0+" + revision)
	return recipe.Pin{Commit: revision, Version: v}, err
}
