package source

import (
	"archive/tar"
	"bytes"
	"context"
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"

	"fernladder/core/durable"
	"fernladder/core/recipe"
	"fernladder/core/version"
)

// svn runs svn without user configuration.
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
	err = r.svn(ctx, &bytes.Buffer{}, "export", "--ignore-externals", "--config-option",
		"config:miscellany:use-commit-times=yes",
		"-r", c.Revision, "--", c.Svn+"@"+c.Revision, files)
	if err != nil {
		return err
	}
	err = durable.Stream(r.tarball(c), 0o444, func(out io.Writer) error {
		w := tar.NewWriter(out)
		return errors.Join(w.AddFS(os.DirFS(files)), w.Close())
	})
	if err != nil {
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
