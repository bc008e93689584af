package source

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"strings"
	"time"

	"github.com/zeebo/blake3"

	"fernladder/core/event"
	"fernladder/core/filelock"
	"fernladder/core/host"
	"fernladder/core/recipe"
	"fernladder/core/signature"
	"fernladder/core/version"
)

// A Checkout is the source at one commit or revision of a repository.
type Checkout struct {
	Package, Version string
	Git, Tag, Commit string   // or
	Svn, Revision    string   //
	Keys             []string // files; when there are any, a tag must be signed
	At               string   // where the recipe states the commit, FILE:LINE
}

// URL is that of its repository.
func (c Checkout) URL() string {
	if c.Git != "" {
		return c.Git
	}
	return c.Svn
}

// ID is its commit or revision.
func (c Checkout) ID() string {
	if c.Git != "" {
		return c.Commit
	}
	return c.Revision
}

// Program is what brings it: git or svn.
func (c Checkout) Program() string {
	if c.Git != "" {
		return "git"
	}
	return "svn"
}

// RepositoryError is the error when a repository does not give what a recipe
// asks of it.
type RepositoryError struct {
	URL string
	At  string // FILE:LINE, or ""
	Err error
}

func (e *RepositoryError) Error() string {
	text := fmt.Sprintf("%s: %v", e.URL, e.Err)
	if e.At != "" {
		text += fmt.Sprintf("\n  Check the network and the release in the recipe (%s).", e.At)
	}
	return text
}

func (e *RepositoryError) Unwrap() error { return e.Err }

// Repositories keep copies of what was fetched from git and Subversion
// repositories. Below Dir:
//
//	git/ID.git   a bare repository for each URL, ID being a digest of it
//	svn/ID.tar   one revision of a directory
//
// The system's git and svn are run without their users' and the machine's
// configuration, without hooks and without asking anybody anything.
type Repositories struct {
	Dir      string
	Programs host.Programs
	Events   event.Sink
	Patience time.Duration // how long a transfer may stand still; 0: a minute
	Offline  bool          // what is not here is not fetched

	Credentials *Credentials // nil: none
}

func (r *Repositories) place(kind, id string) string {
	sum := blake3.Sum256([]byte(id))
	return filepath.Join(r.Dir, kind, hex.EncodeToString(sum[:10]))
}

func (r *Repositories) clone(url string) string { return r.place("git", url) + ".git" }

func (r *Repositories) tarball(c Checkout) string {
	return r.place("svn", c.Svn+"@"+c.Revision) + ".tar"
}

// Has tells whether a checkout is here.
func (r *Repositories) Has(ctx context.Context, c Checkout) bool {
	if c.Svn != "" {
		_, err := os.Stat(r.tarball(c))
		return err == nil
	}
	return r.complete(ctx, c.Git, c.Commit, 0)
}

// Fetch brings a checkout here, with its submodules. Errors are of type
// *RepositoryError or *StoreError.
func (r *Repositories) Fetch(ctx context.Context, c Checkout) (*signature.Good, error) {
	unlock, err := r.lock(ctx, c.URL(), c.Package, c.Version)
	if err != nil {
		return nil, err
	}
	defer unlock()
	if !r.Has(ctx, c) {
		if r.Offline {
			return nil, r.wrap(ctx, errOffline, c.URL(), c.At)
		}
		r.Events.Event(event.Event{Kind: event.FetchBegan, Package: c.Package, Version: c.Version, Text: Redacted(c.URL())})
		if c.Svn != "" {
			err = r.exportSvn(ctx, c)
		} else {
			err = r.fetchGit(ctx, c.Git, c.Tag, c.Commit, 0)
		}
		if err == nil {
			text := fmt.Sprintf("%s at %s", Redacted(c.URL()), c.ID()[:min(12, len(c.ID()))])
			r.Events.Event(event.Event{Kind: event.CheckedOut, Package: c.Package, Version: c.Version, Text: text})
		}
	}
	var good *signature.Good
	if err == nil && c.Tag != "" {
		good, err = r.checkTag(ctx, c)
	}
	return good, r.wrap(ctx, err, c.URL(), c.At)
}

// lock makes the directories, and waits until nobody else fetches from the same
// repository.
func (r *Repositories) lock(ctx context.Context, url, name, version string) (func(), error) {
	for _, kind := range []string{"git", "svn"} {
		if err := os.MkdirAll(filepath.Join(r.Dir, kind), 0o755); err != nil {
			return nil, &StoreError{err}
		}
	}
	unlock, err := filelock.Exclusive(ctx, r.place("git", url)+".lock", func() {
		r.Events.Event(event.Event{Kind: event.Waiting, Package: name, Version: version, Text: "another fernladder to fetch from the same repository"})
	})
	if err != nil && ctx.Err() == nil {
		err = &StoreError{err}
	}
	return unlock, err
}

func (r *Repositories) wrap(ctx context.Context, err error, url, at string) error {
	switch {
	case err == nil || errors.As(err, new(*StoreError)):
		return err
	case ctx.Err() != nil:
		return ctx.Err()
	}
	return &RepositoryError{URL: Redacted(url), At: at, Err: err}
}

// Export fills a directory with a checkout that is here, submodules included.
// What is in it comes as from an archive: nothing is outside the directory, and
// files have the time of the commit.
func (r *Repositories) Export(ctx context.Context, c Checkout, dir string, limits Limits) (Unpacked, error) {
	if c.Svn != "" {
		return Unpack(ctx, r.tarball(c), dir, limits)
	}
	unlock, err := r.lock(ctx, c.Git, c.Package, c.Version) // so that nobody deletes it meanwhile
	if err != nil {
		return Unpacked{}, err
	}
	defer unlock()
	got, err := r.exportGit(ctx, c.Git, c.Commit, dir, limits, 0)
	return got, r.wrap(ctx, err, c.Git, c.At)
}

// Head says which commit the head of a branch is now, and which version that
// makes: the latest tag and the number of commits since. For a Subversion URL it
// is the latest revision.
func (r *Repositories) Head(ctx context.Context, release *recipe.Release, name, url string) (recipe.Pin, error) {
	unlock, err := r.lock(ctx, url, name, "tip")
	if err != nil {
		return recipe.Pin{}, err
	}
	defer unlock()
	var pin recipe.Pin
	if r.Offline {
		return pin, r.wrap(ctx, errOffline, url, release.Position.String())
	}
	if release.Svn != "" {
		pin, err = r.headSvn(ctx, url)
	} else {
		pin, err = r.headGit(ctx, url, release.Branch)
	}
	return pin, r.wrap(ctx, err, url, release.Position.String())
}

// tagVersion finds the version in the name of a tag: what begins with the first
// digit that follows a letter's end, as in v1.2, release-1.2 or name_1_2.
var tagVersion = regexp.MustCompile(`(?:^|[^0-9A-Za-z]|[A-Za-z])([0-9][0-9A-Za-z._+-]*)$`)

// taggedVersion is the version that a tag names, if it does.
func taggedVersion(tag string) (version.Version, bool) {
	m := tagVersion.FindStringSubmatch(path.Base(tag))
	if m == nil {
		return version.Version{}, false
	}
	text := m[1]
	if !strings.Contains(text, ".") {
		text = strings.ReplaceAll(text, "_", ".")
	}
	v, err := version.Parse(text)
	return v, err == nil
}

// describedVersion makes a version of a tag, a number of commits and a commit.
func describedVersion(tag string, commits int, commit string) version.Version {
	base := "0"
	if v, ok := taggedVersion(tag); ok && !strings.Contains(v.String(), "+") {
		base = v.String()
	}
	v, _ := version.Parse(fmt.Sprintf("%s+%d.g%s", base, commits, commit[:min(10, len(commit))]))
	return v
}
