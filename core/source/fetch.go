package source

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"fernladder/core/durable"
	"fernladder/core/event"
	"fernladder/core/filelock"
	"fernladder/core/recipe"
	"fernladder/core/safefs"
	"fernladder/core/signature"
)

// Wanted is an archive to fetch.
type Wanted struct {
	Package, Version string
	URLs             []string // tried in order
	Digest           recipe.Digest
	At               string  // where the recipe states the digest, FILE:LINE
	Signed           *Signed // nil without a signature

	proofs map[string]proof // that were fetched, by their URLs
	unless string           // the validator of a file that does not have to be fetched again
}

// Fetched is the outcome.
type Fetched struct {
	Path   string // in the store
	URL    string // that served it, now or when it was stored
	Size   int64
	Failed []Attempt // the mirrors that were tried before
	Signed *signature.Good
}

// StoreError is the error for a store that cannot be read or written.
type StoreError struct{ Err error }

func (e *StoreError) Error() string { return e.Err.Error() }
func (e *StoreError) Unwrap() error { return e.Err }

// Fetch fetches an archive into the store, from the first URL that serves it intact. It hashes
// the file while it arrives, and stores it only if its digest is right. Errors are of type
// *FetchError, *StoreError, or the context's.
func (a *Archives) Fetch(ctx context.Context, w Wanted) (Fetched, error) {
	got, known, err := a.fetch(ctx, &w)
	if err == nil && w.Signed != nil {
		got.Signed, err = a.signed(ctx, w, known)
	}
	return got, err
}

func (a *Archives) fetch(ctx context.Context, w *Wanted) (Fetched, hashes, error) {
	file := a.Path(w.Digest)
	if known := a.intact(w.Digest); known != nil {
		if got, err := a.stored(file); err == nil { // it was not deleted since
			return got, known, nil
		}
	}
	if a.Offline {
		here := slices.DeleteFunc(slices.Clone(w.URLs), func(url string) bool { return !strings.HasPrefix(url, "file://") })
		if len(here) == 0 {
			return Fetched{}, nil, notHere(*w)
		}
		w.URLs = here
	}
	if err := a.Credentials.Err(); err != nil {
		return Fetched{}, nil, err
	}
	for _, dir := range []string{filepath.Dir(file), a.partials()} {
		if err := os.MkdirAll(dir, 0o777); err != nil {
			return Fetched{}, nil, &StoreError{err}
		}
	}
	part := partial{file: filepath.Join(a.partials(), w.Digest.Hex)}
	unlock, err := a.lock(ctx, part.file, *w)
	if err != nil {
		return Fetched{}, nil, err
	}
	defer unlock()
	if known := a.intact(w.Digest); known != nil { // another process was faster
		got, err := a.stored(file)
		return got, known, err
	}
	known := newHashes(w.Digest.Algorithm)
	if w.Signed != nil {
		known.add(a.hashesWanted(ctx, w))
	}
	var failed []Attempt
	for _, source := range a.Hosts.order(w.URLs) {
		size, err := a.right(ctx, source, part, *w, known)
		a.Hosts.tried(source, err)
		switch {
		case err == nil:
			if err := a.store(part.file, file, source); err != nil {
				return Fetched{}, nil, err
			}
			part.remove()
			a.Events.Event(event.Event{Kind: event.FetchEnded, Package: w.Package, Version: w.Version, Text: Redacted(source),
				Done: size})
			return Fetched{Path: file, URL: Redacted(source), Size: size, Failed: failed}, known, nil
		case ctx.Err() != nil:
			return Fetched{}, nil, ctx.Err()
		case errors.As(err, new(*StoreError)):
			return Fetched{}, nil, err
		}
		failed = append(failed, Attempt{Redacted(source), err})
		a.Events.Event(event.Event{Kind: event.MirrorFailed, Package: w.Package, Version: w.Version,
			Text: Redacted(source), Err: err})
	}
	return Fetched{}, nil, &FetchError{Wanted: *w, Attempts: failed}
}

// right transfers a file and verifies its digest. A file that was transferred in several parts
// and is wrong is transferred once more, in one.
func (a *Archives) right(ctx context.Context, source string, part partial, w Wanted, known hashes) (int64, error) {
	for resume := true; ; resume = false {
		got, err := a.transfer(ctx, source, part, w, known, resume)
		if err != nil {
			return 0, err
		}
		if got.digest == w.Digest {
			return got.size, nil
		}
		wrong := &DigestError{Got: got.digest, Want: w.Digest, Looks: looks(part.file)}
		part.remove()
		if !got.resumed || !resume {
			return 0, wrong
		}
	}
}

// FetchUnpinned fetches a file without a stated digest into the store, and returns its digest.
// It is for people who then look at the file: nothing is built from a file whose digest is not
// in a recipe.
func (a *Archives) FetchUnpinned(ctx context.Context, source string) (string, recipe.Digest, error) {
	w := Wanted{Package: path.Base(source), Digest: recipe.Digest{Algorithm: "sha256"}}
	dir := a.partials()
	if err := os.MkdirAll(filepath.Join(a.Dir, w.Digest.Algorithm), 0o777); err != nil {
		return "", w.Digest, &StoreError{err}
	}
	if err := os.MkdirAll(dir, 0o777); err != nil {
		return "", w.Digest, &StoreError{err}
	}
	f, err := os.CreateTemp(dir, "obtained-")
	if err != nil {
		return "", w.Digest, &StoreError{err}
	}
	f.Close()
	defer partial{file: f.Name()}.remove()
	got, err := a.unpinned(ctx, source, partial{file: f.Name()}, w)
	if err != nil {
		return "", w.Digest, err
	}
	digest := got.digest
	a.Events.Event(event.Event{Kind: event.Obtained, Package: w.Package, Text: Redacted(source), Done: got.size})
	return a.Path(digest), digest, a.store(f.Name(), a.Path(digest), source)
}

// unpinned transfers a file without a stated digest. Errors are ErrUnchanged, the context's, a
// *StoreError, a *FetchError, or say that the file is not here.
func (a *Archives) unpinned(ctx context.Context, source string, part partial, w Wanted) (transferred, error) {
	if a.Offline && !strings.HasPrefix(source, "file://") {
		w.URLs = []string{source}
		return transferred{}, notHere(w)
	}
	if err := a.Credentials.Err(); err != nil {
		return transferred{}, err
	}
	got, err := a.transfer(ctx, source, part, w, newHashes(w.Digest.Algorithm), true)
	switch {
	case err == nil:
	case ctx.Err() != nil:
		err = ctx.Err()
	case !errors.Is(err, ErrUnchanged) && !errors.As(err, new(*StoreError)):
		err = &FetchError{Wanted: w, Attempts: []Attempt{{Redacted(source), err}}}
	}
	return got, err
}

// ErrUnchanged is the answer for a file that is as it was fetched before.
var ErrUnchanged = errors.New("the file has not changed")

// Renew fetches a file that changes from time to time to a path, which it replaces. The
// validator is what the last call returned, or "". If the server says that the file is still the
// same, the error is ErrUnchanged; others are a *FetchError or *StoreError.
func (a *Archives) Renew(ctx context.Context, source, to, validator string) (fresh string, err error) {
	w := Wanted{Package: path.Base(source), Digest: recipe.Digest{Algorithm: "sha256"}, unless: validator}
	part := partial{file: to + ".partial"}
	got, err := a.unpinned(ctx, source, part, w)
	if err != nil {
		return "", err
	}
	if err := durable.Rename(part.file, to); err != nil {
		return "", &StoreError{err}
	}
	part.remove()
	return got.validator, nil
}

// VerifyFile verifies the signature of a file that was fetched by Renew or is here already.
func (a *Archives) VerifyFile(ctx context.Context, file string, signatures []string,
	keys []safefs.File) (*signature.Good, error) {
	trusted, err := readKeys(keys)
	if err != nil {
		return nil, err
	}
	var failed error
	for _, source := range signatures {
		p, err := a.proof(ctx, source)
		if err == nil {
			var good *signature.Good
			open := func() (io.ReadCloser, error) { return safefs.Open(file) }
			if good, err = signature.Verify(signature.File{Open: open}, p.Signature, trusted, a.Now()); err == nil {
				return good, nil
			}
		}
		failed = errors.Join(failed, fmt.Errorf("%s: %w", Redacted(source), err))
	}
	return nil, failed
}

// store makes a complete file an archive of the store.
func (a *Archives) store(partial, path, source string) error {
	err := durable.Note(path+originSuffix, []byte(Redacted(source)+"\n"), 0o644)
	if err := errors.Join(err, os.Rename(partial, path)); err != nil {
		return &StoreError{err}
	}
	return nil
}

func (a *Archives) stored(path string) (Fetched, error) {
	info, err := os.Stat(path)
	if err != nil {
		return Fetched{}, &StoreError{err}
	}
	origin, _ := safefs.ReadFile(path+originSuffix, 1<<20) // good to know, no more
	return Fetched{Path: path, URL: strings.TrimSpace(string(origin)), Size: info.Size()}, nil
}

// Use does something with a fetched archive while no process deletes it. If it was deleted
// meanwhile, it is fetched again.
func (a *Archives) Use(ctx context.Context, w Wanted, do func(file string) error) error {
	const tries = 8
	for range tries {
		if err := os.MkdirAll(a.partials(), 0o777); err != nil {
			return &StoreError{err}
		}
		unlock, err := filelock.Shared(ctx, filepath.Join(a.partials(), w.Digest.Hex)+".lock", func() {})
		if err != nil {
			return err
		}
		if a.Has(w.Digest) {
			err := do(a.Path(w.Digest))
			unlock()
			return err
		}
		unlock()
		if _, err := a.Fetch(ctx, w); err != nil {
			return err
		}
	}
	return &StoreError{&fs.PathError{Op: "open", Path: a.Path(w.Digest), Err: fs.ErrNotExist}}
}

// lock waits until no other process downloads the same archive.
func (a *Archives) lock(ctx context.Context, partial string, w Wanted) (func(), error) {
	unlock, err := filelock.Exclusive(ctx, partial+".lock", func() {
		a.Events.Event(event.Event{Kind: event.Waiting, Package: w.Package, Version: w.Version,
			Text: "another download of the same archive"})
	})
	if err != nil && ctx.Err() == nil {
		return nil, &StoreError{err}
	}
	return unlock, err
}
