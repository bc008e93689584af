package source

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/http"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"fernladder/core/event"
	"fernladder/core/filelock"
	"fernladder/core/recipe"
	"fernladder/core/signature"
)

// Wanted is an archive to fetch.
type Wanted struct {
	Package, Version string
	URLs             []string // tried in order
	Digest           recipe.Digest
	At               string  // where the recipe states the digest, FILE:LINE
	Signed           *Signed // nil for what has no signature
}

// Fetched says what came of it.
type Fetched struct {
	Path   string // in the store
	URL    string // that served it, now or when it was stored
	Size   int64
	Failed []Attempt // the mirrors that were tried before
	Signed *signature.Good
}

// FetchError is the error when no URL served the archive.
type FetchError struct {
	Wanted   Wanted
	Attempts []Attempt // one for each URL
	What     string    // what cannot be fetched, where it is not the archive itself
}

// An Attempt is a URL that failed, without secrets, and why.
type Attempt struct {
	URL string `json:"url"`
	Err error  `json:"-"`
}

func (e *FetchError) Error() string {
	subject := strings.TrimSpace(e.Wanted.Package + " " + e.Wanted.Version)
	if e.What != "" {
		subject = e.What + " of " + subject
	}
	text := subject + " cannot be fetched:"
	wrong, unsigned := 0, 0
	for _, a := range e.Attempts {
		text += fmt.Sprintf("\n    %s: %v", a.URL, a.Err)
		if errors.As(a.Err, new(*DigestError)) {
			wrong++
		}
		if errors.As(a.Err, new(*signature.Bad)) {
			unsigned++
		}
	}
	switch {
	case wrong > 0 && wrong == len(e.Attempts):
		return text + fmt.Sprintf("\n  Every source serves another file than the recipe states. Do not trust it before you know why;\n"+
			"  if the archive was really replaced, correct the digest at %s.", e.Wanted.At)
	case unsigned > 0:
		return text + fmt.Sprintf("\n  The archive has the digest that the recipe states, but nobody whom the recipe trusts has signed it.\n"+
			"  Do not build it before you know why. The recipe's keys are in [source] (%s).", e.Wanted.At)
	case e.Wanted.At == "":
		return text
	}
	return text + fmt.Sprintf("\n  Check the network and the URLs in the recipe (%s).", e.Wanted.At)
}

// DigestError is the error for a file that is not the one the recipe states.
type DigestError struct{ Got, Want recipe.Digest }

func (e *DigestError) Error() string {
	return fmt.Sprintf("wrong %s: it is %s…, the recipe states %s…", e.Got.Algorithm, e.Got.Hex[:12], e.Want.Hex[:12])
}

// StoreError is the error when the store itself cannot be read or written.
type StoreError struct{ Err error }

func (e *StoreError) Error() string { return e.Err.Error() }
func (e *StoreError) Unwrap() error { return e.Err }

// Fetch brings an archive into the store, from the first URL that serves it
// right. A file is hashed while it comes in and is only stored when its digest
// is right. Errors are of type *FetchError, *StoreError, or the context's.
func (a *Archives) Fetch(ctx context.Context, w Wanted) (Fetched, error) {
	got, err := a.fetch(ctx, w)
	if err == nil && w.Signed != nil {
		got.Signed, err = a.signed(ctx, w)
	}
	return got, err
}

func (a *Archives) fetch(ctx context.Context, w Wanted) (Fetched, error) {
	file := a.Path(w.Digest)
	if a.intact(w.Digest) {
		return a.stored(file)
	}
	for _, dir := range []string{filepath.Dir(file), filepath.Join(a.Dir, "partial")} {
		if err := os.MkdirAll(dir, 0o755); err != nil {
			return Fetched{}, &StoreError{err}
		}
	}
	partial := filepath.Join(a.Dir, "partial", w.Digest.Hex)
	unlock, err := a.lock(ctx, partial, w)
	if err != nil {
		return Fetched{}, err
	}
	defer unlock()
	if a.intact(w.Digest) { // another process was faster
		return a.stored(file)
	}
	var failed []Attempt
	for _, source := range w.URLs {
		size, got, err := a.from(ctx, source, partial, w)
		if err == nil && got != w.Digest {
			err = &DigestError{got, w.Digest}
		}
		var local *StoreError
		switch {
		case err == nil:
			if err := a.store(partial, file, source); err != nil {
				return Fetched{}, err
			}
			a.Events.Event(event.Event{Kind: event.FetchEnded, Package: w.Package, Version: w.Version, Text: redacted(source), Done: size})
			return Fetched{Path: file, URL: redacted(source), Size: size, Failed: failed}, nil
		case ctx.Err() != nil:
			return Fetched{}, ctx.Err()
		case errors.As(err, &local):
			return Fetched{}, err
		}
		failed = append(failed, Attempt{redacted(source), err})
		a.Events.Event(event.Event{Kind: event.MirrorFailed, Package: w.Package, Version: w.Version, Text: redacted(source), Err: err})
	}
	os.Remove(partial)
	return Fetched{}, &FetchError{Wanted: w, Attempts: failed}
}

// Obtain brings a file that nobody has stated a digest for into the store, and
// says what its digest is. It is for people who then look at it: nothing is
// built from a file whose digest is not in a recipe.
func (a *Archives) Obtain(ctx context.Context, source string) (string, recipe.Digest, error) {
	w := Wanted{Package: path.Base(source), Digest: recipe.Digest{Algorithm: "sha256"}}
	dir := filepath.Join(a.Dir, "partial")
	if err := os.MkdirAll(filepath.Join(a.Dir, w.Digest.Algorithm), 0o755); err != nil {
		return "", w.Digest, &StoreError{err}
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return "", w.Digest, &StoreError{err}
	}
	f, err := os.CreateTemp(dir, "obtained-")
	if err != nil {
		return "", w.Digest, &StoreError{err}
	}
	f.Close()
	defer os.Remove(f.Name())
	size, digest, err := a.from(ctx, source, f.Name(), w)
	if err != nil {
		if ctx.Err() != nil {
			return "", w.Digest, ctx.Err()
		}
		if errors.As(err, new(*StoreError)) {
			return "", w.Digest, err
		}
		return "", w.Digest, &FetchError{Wanted: w, Attempts: []Attempt{{redacted(source), err}}}
	}
	a.Events.Event(event.Event{Kind: event.Obtained, Package: w.Package, Text: redacted(source), Done: size})
	return a.Path(digest), digest, a.store(f.Name(), a.Path(digest), source)
}

// store makes a whole file an archive of the store.
func (a *Archives) store(partial, path, source string) error {
	err := os.WriteFile(path+originSuffix, []byte(redacted(source)+"\n"), 0o644)
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
	origin, _ := os.ReadFile(path + originSuffix) // good to know, no more
	return Fetched{Path: path, URL: strings.TrimSpace(string(origin)), Size: info.Size()}, nil
}

// lock waits until nobody else downloads the same archive.
func (a *Archives) lock(ctx context.Context, partial string, w Wanted) (func(), error) {
	unlock, err := filelock.Exclusive(ctx, partial+".lock", func() {
		a.Events.Event(event.Event{Kind: event.Waiting, Package: w.Package, Version: w.Version, Text: "another fernladder to download the same archive"})
	})
	if err != nil && ctx.Err() == nil {
		return nil, &StoreError{err}
	}
	return unlock, err
}

// from writes what a URL serves to a file, and says what its digest is by the
// algorithm that is wanted.
func (a *Archives) from(ctx context.Context, source, file string, w Wanted) (int64, recipe.Digest, error) {
	var none recipe.Digest
	// A transfer that stands still this long has failed.
	const patience = time.Minute
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	stalled := time.AfterFunc(patience, func() { cancel(fmt.Errorf("nothing came for %s", patience)) })
	defer stalled.Stop()

	a.Events.Event(event.Event{Kind: event.FetchBegan, Package: w.Package, Version: w.Version, Text: redacted(source)})
	body, length, err := a.open(ctx, source)
	if err != nil {
		return 0, none, plain(ctx, err)
	}
	defer body.Close()

	out, err := os.OpenFile(file, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o644)
	if err != nil {
		return 0, none, &StoreError{err}
	}
	defer out.Close()
	h := newHash(w.Digest.Algorithm)
	buffer := make([]byte, 256<<10)
	var size int64
	for reported := int64(0); ; {
		n, err := body.Read(buffer)
		if n > 0 {
			stalled.Reset(patience)
			h.Write(buffer[:n])
			if _, err := out.Write(buffer[:n]); err != nil {
				return 0, none, &StoreError{err}
			}
			size += int64(n)
			if size-reported >= 1<<20 {
				reported = size
				a.Events.Event(event.Event{Kind: event.FetchProgress, Package: w.Package, Version: w.Version, Done: size, Total: max(length, 0)})
			}
		}
		if err == io.EOF {
			break
		}
		if err != nil {
			if errors.Is(err, io.ErrUnexpectedEOF) {
				err = fmt.Errorf("cut off after %d of %d bytes", size, length)
			}
			return 0, none, plain(ctx, err)
		}
	}
	got := recipe.Digest{Algorithm: w.Digest.Algorithm, Hex: hex.EncodeToString(h.Sum(nil))}
	if err := errors.Join(out.Chmod(0o444), out.Sync(), out.Close()); err != nil {
		return 0, none, &StoreError{err}
	}
	return size, got, nil
}

// open begins to read a URL. The length is -1 when it is not known.
func (a *Archives) open(ctx context.Context, source string) (io.ReadCloser, int64, error) {
	u, err := url.Parse(source)
	if err != nil {
		return nil, 0, errors.New("this is not a URL")
	}
	if u.Scheme == "file" {
		f, err := os.Open(u.Path)
		if err != nil {
			return nil, 0, err
		}
		info, err := f.Stat()
		if err == nil && !info.Mode().IsRegular() {
			err = errors.New("it is not a file")
		}
		if err != nil {
			f.Close()
			return nil, 0, err
		}
		return f, info.Size(), nil
	}
	return a.request(ctx, http.MethodGet, source)
}

func (a *Archives) request(ctx context.Context, method, source string) (io.ReadCloser, int64, error) {
	request, err := http.NewRequestWithContext(ctx, method, source, nil)
	if err != nil {
		return nil, 0, err
	}
	request.Header.Set("User-Agent", a.Agent)
	response, err := client.Do(request)
	if err != nil {
		return nil, 0, err
	}
	if response.StatusCode != http.StatusOK {
		response.Body.Close()
		return nil, 0, fmt.Errorf("the server says %s", response.Status)
	}
	return response.Body, response.ContentLength, nil
}

// client is shared so that connections are. It holds no other state.
var client = &http.Client{
	Transport: &http.Transport{
		Proxy:                 http.ProxyFromEnvironment,
		DialContext:           (&net.Dialer{Timeout: 30 * time.Second}).DialContext,
		TLSHandshakeTimeout:   30 * time.Second,
		ResponseHeaderTimeout: time.Minute,
		DisableCompression:    true, // archives are wanted as they are
		ForceAttemptHTTP2:     true,
		MaxIdleConnsPerHost:   8,
	},
	CheckRedirect: func(next *http.Request, before []*http.Request) error {
		if len(before) >= 10 {
			return errors.New("redirected more than ten times")
		}
		if next.URL.Scheme != "https" && slices.ContainsFunc(before, func(r *http.Request) bool { return r.URL.Scheme == "https" }) {
			return errors.New("redirected from https to plain http, which is refused")
		}
		return nil
	},
}

// plain takes the wrapping off errors of the network and of files, which
// repeats the URL or the path that is shown anyway.
func plain(ctx context.Context, err error) error {
	if cause := context.Cause(ctx); cause != nil {
		return cause
	}
	var wrapped *url.Error
	if errors.As(err, &wrapped) {
		err = wrapped.Err
	}
	var path *fs.PathError
	var dns *net.DNSError
	switch {
	case errors.As(err, &path):
		return path.Err
	case errors.As(err, &dns):
		return fmt.Errorf("the name %s is not known", dns.Name)
	case errors.Is(err, syscall.ECONNREFUSED):
		return errors.New("the connection was refused")
	case errors.Is(err, syscall.ECONNRESET), errors.Is(err, io.EOF):
		return errors.New("the connection was broken off")
	}
	return err
}

// redacted returns a URL without the password in it.
func redacted(source string) string {
	if u, err := url.Parse(source); err == nil && strings.Contains(source, "@") {
		return u.Redacted()
	}
	return source
}
