package machine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"fernladder/core/durable"
	"fernladder/core/recipe"
	"fernladder/core/safefs"
	"fernladder/core/signature"
	"fernladder/core/source"
)

// checkoutOf is what is fetched for a shelf.
func checkoutOf(shelf recipe.Shelf) source.Checkout {
	c := source.Checkout{Package: "shelf", Git: shelf.Git, Commit: shelf.Commit, Tag: shelf.Tag,
		SignedCommit: len(shelf.Keys) > 0, At: shelf.Position.String()}
	for _, key := range shelf.Keys {
		c.Keys = append(c.Keys, safefs.File{Dir: filepath.Dir(key), Name: filepath.Base(key)})
	}
	return c
}

// signedSuffix follows the name of a shelf's copy, for who signed it.
const signedSuffix = ".signed"

// ShelfSigned is who signed a shelf that is in the root; nil for one without keys.
func (m *Machine) ShelfSigned(shelf recipe.Shelf) *signature.Good {
	const most = 1 << 20
	data, err := safefs.ReadFile(shelf.Checkout+signedSuffix, most)
	var good signature.Good
	if len(shelf.Keys) == 0 || err != nil || json.Unmarshal(data, &good) != nil {
		return nil
	}
	return &good
}

// ShelfFollows reports whether the commit of a shelf is another one or comes after it.
func (m *Machine) ShelfFollows(ctx context.Context, shelf recipe.Shelf, before string) (bool, error) {
	is, err := m.Repositories.Follows(ctx, checkoutOf(shelf), before)
	return is, m.Stored(err)
}

// BringShelf copies the repository of a shelf to the root, completely or not at all; that of a shelf
// with keys, if one of them has signed it. An existing copy is not changed: its commit identifies
// its contents, and its name the keys.
func (m *Machine) BringShelf(ctx context.Context, shelf recipe.Shelf) error {
	if _, err := os.Stat(shelf.Checkout); err == nil {
		return nil
	}
	if err := m.Store.Prepare(); err != nil {
		return err
	}
	checkout := checkoutOf(shelf)
	signed, err := m.Repositories.Fetch(ctx, checkout)
	if err != nil {
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
	if signed != nil {
		data, err := json.Marshal(signed)
		if err == nil {
			err = durable.WriteFile(shelf.Checkout+signedSuffix, data, 0o644)
		}
		if err != nil {
			return m.Store.Wrap(err)
		}
	}
	return m.Store.Wrap(os.Rename(files, shelf.Checkout))
}
