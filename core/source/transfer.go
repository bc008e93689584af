package source

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"fernladder/core/durable"
	"fernladder/core/event"
	"fernladder/core/pattern"
	"fernladder/core/recipe"
	"fernladder/core/safefs"
)

// A partial is a file whose download is unfinished. Beside it is what is needed to continue: its
// URL, and a validator by which the server confirms that the file is unchanged. Without one, the
// download starts again.
type partial struct{ file string }

type partialState struct {
	URL       string `json:"url"`
	Validator string `json:"validator"` // a strong ETag, or a date
}

func (p partial) stateFile() string { return p.file + ".json" }

func (p partial) remove() {
	os.Remove(p.file)
	os.Remove(p.stateFile())
}

// resumable returns how much of a URL is stored, and the validator.
func (p partial) resumable(source string) (int64, string) {
	var state partialState
	data, err := safefs.ReadFile(p.stateFile(), 1<<20)
	if err != nil || json.Unmarshal(data, &state) != nil || state.URL != Redacted(source) || state.Validator == "" {
		return 0, ""
	}
	info, err := os.Stat(p.file)
	if err != nil || info.Size() == 0 {
		return 0, ""
	}
	return info.Size(), state.Validator
}

// remember records what is needed to continue later.
func (p partial) remember(source, validator string) error {
	if validator == "" {
		os.Remove(p.stateFile())
		return nil
	}
	data, err := json.Marshal(partialState{Redacted(source), validator})
	if err != nil {
		return err
	}
	return durable.Note(p.stateFile(), data, 0o644)
}

// transferred is the outcome of a transfer.
type transferred struct {
	size    int64
	digest  recipe.Digest
	resumed bool // a part of it is from an earlier go

	validator string // by which the server knows the file again, or ""
}

// How often a transfer is repeated, and how long it waits before: as long as a server asks for,
// otherwise twice as long each time.
const (
	mostAttempts  = 4
	firstPause    = 500 * time.Millisecond
	longestPause  = time.Minute
	usualPatience = time.Minute
	usualLargest  = 32 << 30
	usualLongest  = 12 * time.Hour
	lowestRate    = 1 << 10 // bytes a second, over the time of the patience
	mostRedirects = 10
)

// transfer writes what a URL serves to a partial file and returns its digest by the wanted
// algorithm. Temporary failures are retried, and the transfer continues where it stopped if it
// may and the server can.
func (a *Archives) transfer(ctx context.Context, source string, part partial, w Wanted, h hashes,
	resume bool) (transferred, error) {
	ended, err := a.Hosts.enter(ctx, source)
	if err != nil {
		return transferred{}, err
	}
	defer ended()
	longest := a.Longest
	if longest == 0 {
		longest = usualLongest
	}
	ctx, cancel := context.WithTimeoutCause(ctx, longest,
		fmt.Errorf("it took longer than %s (longest_download in the settings)", longest))
	defer cancel()
	resumed := false
	for number := 1; ; number++ {
		a.Events.Event(event.Event{Kind: event.FetchBegan, Package: w.Package, Version: w.Version, Text: Redacted(source)})
		if !resume {
			part.remove()
		}
		got, err := a.attempt(ctx, source, part, w, h)
		resumed = resumed || got.resumed
		got.resumed = resumed
		pause, again := retry(err, number)
		if err == nil || !again || ctx.Err() != nil {
			return got, err
		}
		a.Events.Event(event.Event{Kind: event.FetchRetried, Package: w.Package, Version: w.Version, Text: Redacted(source),
			Err: err, Elapsed: pause})
		if err := a.pause(ctx, pause); err != nil {
			return got, err
		}
	}
}

func (a *Archives) pause(ctx context.Context, d time.Duration) error {
	if a.Pause != nil {
		return a.Pause(ctx, d)
	}
	select {
	case <-time.After(d):
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

// retry reports whether a failed transfer may succeed later, and how long to wait.
func retry(err error, attempt int) (time.Duration, bool) {
	if err == nil || attempt == mostAttempts {
		return 0, false
	}
	pause := firstPause << (attempt - 1)
	var status *statusError
	if errors.As(err, &status) {
		if status.after > longestPause {
			return 0, false
		}
		return max(pause, status.after), slices.Contains([]int{http.StatusRequestTimeout, http.StatusTooEarly,
			http.StatusTooManyRequests, http.StatusInternalServerError,
			http.StatusBadGateway, http.StatusServiceUnavailable, http.StatusGatewayTimeout,
			http.StatusRequestedRangeNotSatisfiable}, status.code)
	}
	return pause, errors.As(err, new(*brokenOff))
}

// statusError is an answer other than the file.
type statusError struct {
	code   int
	status string
	after  time.Duration // the delay that the server asks for
}

func (e *statusError) Error() string {
	text := "the server says " + e.status
	if e.code == http.StatusUnauthorized || e.code == http.StatusForbidden {
		text += "; for a login, add this host to the file that credentials in the settings names"
	}
	if e.after > longestPause {
		text += fmt.Sprintf(", and to try again in %s", e.after)
	}
	return text
}

// TooLarge is the error for a file with more bytes than are fetched.
type TooLarge struct{ Most int64 }

func (e *TooLarge) Error() string {
	return fmt.Sprintf("it is larger than %d bytes, the most that is fetched (largest_download in the settings)", e.Most)
}

// brokenOff is a transfer that was interrupted.
type brokenOff struct{ reason string }

func (e *brokenOff) Error() string { return e.reason }

// attempt is one attempt at a transfer.
func (a *Archives) attempt(ctx context.Context, source string, part partial, w Wanted, h hashes) (transferred, error) {
	var got transferred
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	patience := a.Patience
	if patience == 0 {
		patience = usualPatience
	}
	flow := newFlow(patience, func(came int64) {
		if came == 0 {
			cancel(&brokenOff{fmt.Sprintf("no data for %s", patience)})
		} else {
			cancel(&brokenOff{fmt.Sprintf("only %d bytes in %s", came, patience)})
		}
	})
	defer flow.stop()

	offset, validator := part.resumable(source)
	if offset == 0 {
		validator = w.unless
	}
	answer, err := a.open(ctx, source, offset, validator)
	if err != nil {
		var status *statusError
		if errors.As(err, &status) && status.code == http.StatusRequestedRangeNotSatisfiable {
			part.remove() // the partial file is useless now
		}
		return got, plain(ctx, err)
	}
	defer answer.body.Close()
	h.reset()
	out, err := part.open(answer.offset, h)
	if err != nil {
		return got, &StoreError{err}
	}
	defer out.Close()
	if err := part.remember(source, answer.validator); err != nil {
		return got, &StoreError{err}
	}
	got.size, got.resumed, got.validator = answer.offset, answer.offset > 0, answer.validator
	err = a.copy(ctx, out, answer, h, &got, w, flow.came)
	if err != nil {
		return got, err
	}
	got.digest = h.digest(w.Digest.Algorithm)
	if err := errors.Join(out.Chmod(0o444), out.Sync(), out.Close()); err != nil {
		return got, &StoreError{err}
	}
	return got, nil
}

// open opens a partial file to continue at an offset, and hashes what precedes it.
func (p partial) open(offset int64, h io.Writer) (*os.File, error) {
	if offset == 0 {
		os.Remove(p.file) // which may be read-only
		return os.OpenFile(p.file, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o644)
	}
	if err := os.Chmod(p.file, 0o644); err != nil {
		return nil, err
	}
	f, err := os.OpenFile(p.file, os.O_RDWR, 0)
	if err != nil {
		return nil, err
	}
	if _, err := io.CopyN(h, f, offset); err != nil {
		f.Close()
		return nil, err
	}
	return f, nil
}

// copy writes the incoming data to a file, hashes it and reports progress.
func (a *Archives) copy(ctx context.Context, out io.Writer, answer *answer, h io.Writer, got *transferred, w Wanted,
	moved func(n int)) error {
	largest := a.Largest
	if largest == 0 {
		largest = usualLargest
	}
	buffer := make([]byte, 256<<10)
	for reported := got.size; ; {
		n, err := answer.body.Read(buffer)
		if n > 0 {
			moved(n)
			if got.size+int64(n) > largest {
				return &TooLarge{largest}
			}
			h.Write(buffer[:n])
			if _, err := out.Write(buffer[:n]); err != nil {
				return &StoreError{err}
			}
			got.size += int64(n)
			if got.size-reported >= 1<<20 {
				reported = got.size
				a.Events.Event(event.Event{Kind: event.FetchProgress, Package: w.Package, Version: w.Version, Done: got.size,
					Total: max(answer.total, 0)})
			}
		}
		switch {
		case err == io.EOF && answer.total >= 0 && got.size != answer.total, errors.Is(err, io.ErrUnexpectedEOF):
			return &brokenOff{fmt.Sprintf("cut off after %d of %d bytes", got.size, answer.total)}
		case err == io.EOF:
			return nil
		case err != nil:
			return plain(ctx, err)
		}
	}
}

// A flow monitors a transfer: enough data has to arrive in each span of time.
type flow struct {
	lock  sync.Mutex
	span  time.Duration
	least int64 // bytes in a span
	n     int64 // since the span began
	timer *time.Timer
}

func newFlow(span time.Duration, dry func(came int64)) *flow {
	f := &flow{span: span, least: int64(span.Seconds() * lowestRate)}
	f.timer = time.AfterFunc(span, func() {
		f.lock.Lock()
		came := f.n
		f.lock.Unlock()
		dry(came)
	})
	return f
}

func (f *flow) came(n int) {
	f.lock.Lock()
	defer f.lock.Unlock()
	if f.n += int64(n); f.n >= f.least {
		f.n = 0
		f.timer.Reset(f.span)
	}
}

func (f *flow) stop() { f.timer.Stop() }

// An answer is what a URL serves.
type answer struct {
	body      io.ReadCloser
	offset    int64  // where it begins in the file
	total     int64  // of the whole file; -1 when it is not known
	validator string // by which the same file is known again, or ""
}

// open begins to read a URL, from an offset if the stored part is still of the same file. With
// a validator and no offset, the answer is errUnchanged if the whole file is still the same.
func (a *Archives) open(ctx context.Context, source string, offset int64, validator string) (*answer, error) {
	u, err := url.Parse(source)
	if err != nil {
		return nil, errors.New("this is not a URL")
	}
	if u.Scheme == "file" {
		return openFile(u.Path)
	}
	header := http.Header{}
	switch {
	case offset > 0:
		header.Set("Range", fmt.Sprintf("bytes=%d-", offset))
		header.Set("If-Range", validator)
	case strings.HasPrefix(validator, `"`):
		header.Set("If-None-Match", validator)
	case validator != "":
		header.Set("If-Modified-Since", validator)
	}
	response, err := a.request(ctx, http.MethodGet, source, header)
	var other *statusError
	if errors.As(err, &other) && other.code == http.StatusNotModified && offset == 0 && validator != "" {
		return nil, ErrUnchanged
	}
	if err != nil {
		return nil, err
	}
	got := &answer{body: response.Body, total: response.ContentLength, validator: strongValidator(response.Header)}
	if response.StatusCode != http.StatusPartialContent {
		return got, nil
	}
	from, total, ok := contentRange(response.Header.Get("Content-Range"))
	if !ok || from != offset || offset == 0 {
		response.Body.Close()
		return nil, &statusError{code: http.StatusRequestedRangeNotSatisfiable,
			status: "it sends another part of the file than was requested"}
	}
	got.offset, got.total = offset, total
	if got.validator == "" {
		got.validator = validator
	}
	return got, nil
}

func openFile(path string) (*answer, error) {
	f, err := safefs.Open(path)
	if errors.Is(err, safefs.ErrNotRegular) {
		return nil, errors.New("it is not a file")
	}
	if err != nil {
		return nil, err
	}
	info, err := f.Stat()
	if err != nil {
		f.Close()
		return nil, err
	}
	return &answer{body: f, total: info.Size()}, nil
}

// contentRange reads "bytes FROM-TO/TOTAL".
func contentRange(text string) (from, total int64, ok bool) {
	span, size, found := strings.Cut(strings.TrimPrefix(text, "bytes "), "/")
	first, _, dash := strings.Cut(span, "-")
	from, err := strconv.ParseInt(first, 10, 64)
	if !found || !dash || err != nil {
		return 0, 0, false
	}
	if total, err = strconv.ParseInt(size, 10, 64); err != nil {
		total = -1
	}
	return from, total, true
}

// strongValidator returns what proves that a file is unchanged (RFC 9110, 8.8): a strong ETag,
// or a date that is older than the answer.
func strongValidator(h http.Header) string {
	if tag := h.Get("ETag"); tag != "" && !strings.HasPrefix(tag, "W/") {
		return tag
	}
	modified, errModified := http.ParseTime(h.Get("Last-Modified"))
	date, errDate := http.ParseTime(h.Get("Date"))
	if errModified == nil && errDate == nil && date.Sub(modified) >= time.Second {
		return h.Get("Last-Modified")
	}
	return ""
}

// request sends a request and expects an answer with contents.
func (a *Archives) request(ctx context.Context, method, source string, header http.Header) (*http.Response, error) {
	request, err := http.NewRequestWithContext(ctx, method, source, nil)
	if err != nil {
		return nil, err
	}
	request.Header = header
	request.Header.Set("User-Agent", a.Agent)
	a.Credentials.authorize(request)
	response, err := a.client.Do(request)
	if err != nil {
		return nil, err
	}
	if response.StatusCode != http.StatusOK && response.StatusCode != http.StatusPartialContent {
		response.Body.Close()
		return nil, &statusError{response.StatusCode, response.Status,
			retryAfter(response.Header.Get("Retry-After"), a.Now())}
	}
	return response, nil
}

// retryAfter reads the header of that name: seconds, or a date.
func retryAfter(text string, now time.Time) time.Duration {
	if seconds, err := strconv.Atoi(text); err == nil && seconds > 0 {
		return time.Duration(min(seconds, 1<<30)) * time.Second
	}
	if at, err := http.ParseTime(text); err == nil {
		return max(at.Sub(now), 0)
	}
	return 0
}

// Plain is an error of the network as people read it, and whether it says that the server could not
// be reached.
func Plain(ctx context.Context, err error) (text error, unreachable bool) {
	text = plain(ctx, err)
	return text, errors.As(err, new(*url.Error)) || errors.As(err, new(*net.OpError)) || errors.As(text, new(*brokenOff))
}

// plain unwraps errors of the network and of files, which repeat the URL or path that is shown
// anyway.
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
	var timeout net.Error
	switch {
	case errors.As(err, &path):
		return path.Err
	case errors.As(err, &dns):
		return fmt.Errorf("the host name %s is unknown", dns.Name)
	case errors.Is(err, syscall.ECONNREFUSED):
		return errors.New("the connection was refused")
	case errors.Is(err, syscall.ECONNRESET), errors.Is(err, syscall.EPIPE), errors.Is(err, io.EOF):
		return &brokenOff{"the connection was interrupted"}
	case errors.As(err, &timeout) && timeout.Timeout():
		return &brokenOff{"there was no answer in time"}
	}
	return err
}

// Redacted returns a URL without anything that could be secret: the user, and the values of its
// query.
func Redacted(source string) string { return redactedText(source) }

var (
	userInURL  = pattern.New(`([A-Za-z][A-Za-z0-9+.-]*://)[^/?#\s'"]*@`)
	queryInURL = pattern.New(`([A-Za-z][A-Za-z0-9+.-]*://[^\s'"?]*\?)([^\s'"#]*)`)
	queryValue = pattern.New(`(^|&)([^=&]*)=[^&]*`)
)

const hidden = "xxxxx"

// redactedText returns a text without anything in its URLs that could be secret.
func redactedText(text string) string {
	text = userInURL.ReplaceAllStringFunc(text, func(found string) string {
		scheme, rest, _ := strings.Cut(found, "://")
		// For ssh, the name before the host is the site's own, and not secret.
		if strings.HasSuffix(scheme, "ssh") && !strings.Contains(rest, ":") {
			return found
		}
		return scheme + "://" + hidden + "@"
	})
	return queryInURL.ReplaceAllStringFunc(text, func(found string) string {
		before, query, _ := strings.Cut(found, "?")
		if !strings.Contains(query, "=") {
			return before + "?" + hidden
		}
		return before + "?" + queryValue.ReplaceAllString(query, "$1$2="+hidden)
	})
}
