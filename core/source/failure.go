package source

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"

	"fernladder/core/problem"
	"fernladder/core/recipe"
	"fernladder/core/signature"
)

// FetchError is the error when no URL served the archive.
type FetchError struct {
	Wanted   Wanted
	Attempts []Attempt // one for each URL
	What     string    // the part that cannot be fetched, if not the archive itself
}

// An Attempt is a URL that failed, without secrets, and the reason.
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
		return text +
			fmt.Sprintf("\n  Every source serves a file that differs from the recipe. Do not trust it before you know why;\n"+
				"  if the archive was really replaced, correct the digest at %s.", e.Wanted.At)
	case unsigned > 0:
		return text +
			fmt.Sprintf("\n  The archive has the digest of the recipe, but no signature by a key that the recipe trusts.\n"+
				"  Do not build it before you know why. The recipe's keys are in [source] (%s).", e.Wanted.At)
	case e.Wanted.At == "", slices.ContainsFunc(e.Attempts, func(a Attempt) bool { return errors.Is(a.Err, errOffline) }):
		return text
	}
	return text + fmt.Sprintf("\n  Check the network and the URLs in the recipe (%s).", e.Wanted.At)
}

// DigestError is the error for a file with another digest than the recipe states.
type DigestError struct {
	Got, Want recipe.Digest
	Looks     string // the apparent type of the file, if that explains it
}

func (e *DigestError) Error() string {
	text := fmt.Sprintf("wrong %s: it is %s…, the recipe states %s…", e.Got.Algorithm, e.Got.Hex[:12], e.Want.Hex[:12])
	if e.Looks != "" {
		text += " (" + e.Looks + ")"
	}
	return text
}

// errOffline is why nothing is fetched without the network.
var errOffline = errors.New("not here, and offline, the network is forbidden")

// NotHere is the error for a ladder without all its sources, if the network must not be used.
type NotHere []Missing

// Missing is a source that is not stored.
type Missing struct {
	Package string `json:"package"`
	Version string `json:"version"`
	What    string `json:"what"` // the first of its URLs
}

func (e NotHere) Error() string {
	text := "These sources are missing, and the session is offline:"
	for _, m := range e {
		text += fmt.Sprintf("\n    %s %s: %s", m.Package, m.Version, m.What)
	}
	return text
}

// notHere is the error for sources that would have to be fetched.
func notHere(w Wanted) error {
	e := &FetchError{Wanted: w}
	for _, url := range w.URLs {
		e.Attempts = append(e.Attempts, Attempt{Redacted(url), errOffline})
	}
	if len(w.URLs) == 0 {
		e.Attempts = []Attempt{{w.Package, errOffline}}
	}
	return e
}

// looks says what an unexpected file seems to be: servers send other files in place of missing
// ones.
func looks(file string) string {
	f, err := os.Open(file)
	if err != nil {
		return ""
	}
	defer f.Close()
	head := make([]byte, 512)
	n, err := io.ReadFull(f, head)
	head = bytes.ToLower(bytes.TrimSpace(head[:n]))
	switch {
	case n == 0 && err == io.EOF:
		return "it is empty"
	case bytes.HasPrefix(head, []byte("<!doctype html")), bytes.HasPrefix(head, []byte("<html")),
		bytes.HasPrefix(head, []byte("<?xml")) && bytes.Contains(head, []byte("<html")):
		return "it is a web page"
	}
	return ""
}

// ProblemKind is the kind of the error.
func (e *FetchError) ProblemKind() problem.Kind { return problem.Fetch }

// ProblemKind is the kind of the error.
func (e NotHere) ProblemKind() problem.Kind { return problem.Fetch }

// ProblemRemedies are to fetch the sources with the network.
func (e NotHere) ProblemRemedies() []problem.Remedy {
	return []problem.Remedy{problem.Do(problem.FetchSources)}
}
