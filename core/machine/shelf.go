package machine

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"fernladder/core/recipe"
	"fernladder/core/source"
)

// BringShelf copies the repository of a shelf to the root, completely or not at all. An existing
// copy is not changed: its commit identifies its contents.
func (m *Machine) BringShelf(ctx context.Context, shelf recipe.Shelf) error {
	if _, err := os.Stat(shelf.Checkout); err == nil {
		return nil
	}
	if err := m.Store.Prepare(); err != nil {
		return err
	}
	checkout := source.Checkout{Package: "shelf", Git: shelf.Git, Commit: shelf.Commit, At: shelf.Position.String()}
	if _, err := m.Repositories.Fetch(ctx, checkout); err != nil {
		return m.Stored(err)
	}
	fresh, done, err := m.Store.Scratch("shelf")
	if err != nil {
		return m.Store.Wrap(err)
	}
	defer done()
	files := filepath.Join(fresh, "shelf")
	err = errors.Join(os.Mkdir(files, 0o777), os.MkdirAll(filepath.Dir(shelf.Checkout), 0o777))
	if err == nil {
		_, err = m.Repositories.Export(ctx, checkout, files, m.Unpacking)
	}
	if errors.As(err, new(*source.RepositoryError)) || errors.As(err, new(*source.UnpackError)) {
		return err
	}
	if err != nil {
		return m.Store.Wrap(err)
	}
	if _, err := os.Stat(filepath.Join(files, shelf.Inside)); err != nil {
		return &source.RepositoryError{URL: shelf.Git, At: shelf.Position.String(),
			Err: fmt.Errorf("the commit has no folder %s", shelf.Inside)}
	}
	return m.Store.Wrap(os.Rename(files, shelf.Checkout))
}
