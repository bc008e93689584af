package source

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/zeebo/blake3"

	"fernladder/core/event"
	"fernladder/core/filelock"
	"fernladder/core/host"
	"fernladder/core/pattern"
	"fernladder/core/problem"
	"fernladder/core/recipe"
	"fernladder/core/safefs"
	"fernladder/core/signature"
	"fernladder/core/version"
)

// A Checkout is the source at one commit or revision of a repository.
type Checkout struct {
	Package, Version string
	Git, Tag, Commit string        // or
	Svn, Revision    string        //
	Keys             []safefs.File // when there are any, a tag must be signed
	SignedCommit     bool          // without a tag, the commit must be signed
	At               string        // where the recipe states the commit, FILE:LINE
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

// Program is the program that fetches it: git or svn.
func (c Checkout) Program() string {
	if c.Git != "" {
		return "git"
	}
	return "svn"
}

// RepositoryError is the error for a repository that lacks what a recipe requests.
type RepositoryError struct {
	URL string
	At  string // FILE:LINE, or ""
	Err error
}

func (e *RepositoryError) Error() string {
	text := fmt.Sprintf("%s: %v", e.URL, e.Err)
	if wantsLogin.MatchString(text) {
		text = e.URL +
			": the server requires a login\n  Add one for this host to the file that credentials in the settings names."
	}
	if e.At != "" {
		text += fmt.Sprintf("\n  Check the network and the release in the recipe (%s).", e.At)
	}
	return text
}

// wantsLogin matches messages of git and svn that want a password.
var wantsLogin = pattern.New(`could not read (?:Username|Password)|askpass response|Authentication failed|E170001` +
	`|E215004|returned error: 40[13]`)

func (e *RepositoryError) Unwrap() error { return e.Err }

// Repositories keep copies of what was fetched from git and Subversion
// repositories. Below Dir:
//
//	git/ID.git   a bare repository for each URL, ID being a digest of it
//	svn/ID.tar   one revision of a directory
//
// The system's git and svn are run without their users' and the machine's
// configuration, without hooks and without prompts.
type Repositories struct {
	Dir      string
	Programs host.Programs
	*Network // nil if nothing is fetched

	Largest int64         // bytes of a file that git or svn may write; 0: no limit
	Longest time.Duration // that one of their commands may take; 0: half a day
}

func (r *Repositories) place(kind, id string) string {
	sum := blake3.Sum256([]byte(id))
	return filepath.Join(r.Dir, kind, hex.EncodeToString(sum[:10]))
}

func (r *Repositories) clone(url string) string { return r.place("git", url) + ".git" }

func (r *Repositories) tarball(c Checkout) string {
	return r.place("svn", c.Svn+"@"+c.Revision) + ".tar"
}

// Has reports whether a checkout is stored.
func (r *Repositories) Has(ctx context.Context, c Checkout) bool {
	if c.Svn != "" {
		_, err := os.Stat(r.tarball(c))
		return err == nil
	}
	return r.complete(ctx, c.Git, c.Commit, followed())
}

// Fetch fetches a checkout, with its submodules. Errors are of type *RepositoryError or
// *StoreError.
func (r *Repositories) Fetch(ctx context.Context, c Checkout) (*signature.Good, error) {
	var err error
	if !r.Has(ctx, c) {
		if r.Offline {
			return nil, r.wrap(ctx, errOffline, c.URL(), c.At)
		}
		if err := r.Credentials.Err(); err != nil {
			return nil, err
		}
		r.Events.Event(event.Event{Kind: event.FetchBegan, Package: c.Package, Version: c.Version, Text: Redacted(c.URL())})
		if c.Svn != "" {
			err = r.alone(ctx, c, r.place("svn", c.Svn+"@"+c.Revision), c.Svn, func() error { return r.exportSvn(ctx, c) })
		} else {
			err = r.fetchGit(ctx, c, c.Git, c.Tag, c.Commit, followed())
		}
		if err == nil {
			text := fmt.Sprintf("%s at %s", Redacted(c.URL()), c.ID()[:min(12, len(c.ID()))])
			r.Events.Event(event.Event{Kind: event.CheckedOut, Package: c.Package, Version: c.Version, Text: text})
		}
	}
	var good *signature.Good
	switch {
	case err == nil && c.Tag != "":
		good, err = r.checkTag(ctx, c)
	case err == nil && c.SignedCommit:
		good, err = r.checkCommit(ctx, c)
	}
	return good, r.wrap(ctx, err, c.URL(), c.At)
}

// alone does something with the copy of one repository while no other process does, and when it
// may fetch from there. No process doing so waits for another repository: two that are each
// other's submodules would wait forever.
func (r *Repositories) alone(ctx context.Context, c Checkout, copied, url string, do func() error) error {
	unlock, err := r.lock(ctx, copied, c.Package, c.Version)
	if err != nil {
		return err
	}
	defer unlock()
	ended, err := r.Hosts.enter(ctx, url)
	if err != nil {
		return err
	}
	defer ended()
	return do()
}

// lock creates the directories, and waits until no other process fetches from the same
// repository.
func (r *Repositories) lock(ctx context.Context, copied, name, version string) (func(), error) {
	for _, kind := range []string{"git", "svn"} {
		if err := os.MkdirAll(filepath.Join(r.Dir, kind), 0o777); err != nil {
			return nil, &StoreError{err}
		}
	}
	unlock, err := filelock.Exclusive(ctx, copied+".lock", func() {
		r.Events.Event(event.Event{Kind: event.Waiting, Package: name, Version: version,
			Text: "another fernladder to fetch from the same repository"})
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

// Export fills a directory with a stored checkout, including submodules. It is treated like an
// archive: nothing gets outside of the directory. Files have the time of the commit.
func (r *Repositories) Export(ctx context.Context, c Checkout, dir string, limits Limits) (Unpacked, error) {
	if c.Svn != "" {
		return Unpack(ctx, r.tarball(c), dir, limits)
	}
	got, err := r.exportGit(ctx, c, c.Git, c.Commit, dir, limits, followed())
	return got, r.wrap(ctx, err, c.Git, c.At)
}

// Head returns the commit at the head of a branch, and a version for it: the latest tag and the
// number of commits since. For a Subversion URL it is the latest revision.
func (r *Repositories) Head(ctx context.Context, release *recipe.Release, name, url string) (pin recipe.Pin,
	err error) {
	at := release.Position.String()
	if r.Offline {
		return pin, r.wrap(ctx, errOffline, url, at)
	}
	if err := r.Credentials.Err(); err != nil {
		return pin, err
	}
	if release.Svn != "" {
		pin, err = r.headSvn(ctx, url)
	} else {
		err = r.alone(ctx, Checkout{Package: name, Version: "tip"}, r.place("git", url), url, func() error {
			pin, err = r.headGit(ctx, url, release.Branch)
			return err
		})
	}
	return pin, r.wrap(ctx, err, url, at)
}

// Since lists the commits of a branch since a commit.
type Since struct {
	Now      recipe.Pin // its head
	Commits  int
	Messages []string // first lines of the newest commit messages
	Gone     bool     // the branch no longer has the commit
}

// Since lists the commits on the branch of a tip since one of its commits. For Subversion it
// only knows the head.
func (r *Repositories) Since(ctx context.Context, release *recipe.Release, name, url, commit string) (s Since,
	err error) {
	if s.Now, err = r.Head(ctx, release, name, url); err != nil || release.Svn != "" || s.Now.Commit == commit {
		return s, err
	}
	err = r.alone(ctx, Checkout{Package: name, Version: "tip"}, r.place("git", url), url, func() error {
		if _, err := r.ask(ctx, url, "merge-base", "--is-ancestor", "--end-of-options", commit, s.Now.Commit); err != nil {
			s.Gone = true
			return ctx.Err()
		}
		number, err := r.ask(ctx, url, "rev-list", "--count", "--end-of-options", commit+".."+s.Now.Commit)
		if err != nil {
			return err
		}
		s.Commits, _ = strconv.Atoi(number)
		messages, err := r.ask(ctx, url, "log", "--no-color", "--format=%s", "--max-count=5", "--end-of-options",
			commit+".."+s.Now.Commit)
		s.Messages = strings.Split(messages, "\n")
		return err
	})
	return s, r.wrap(ctx, err, url, release.Position.String())
}

// tagVersion finds the version in the name of a tag: it begins with the first digit after a
// word, as in v1.2, release-1.2 or name_1_2.
var tagVersion = pattern.New(`(?:^|[^0-9A-Za-z]|[A-Za-z])([0-9][0-9A-Za-z._+-]*)$`)

// taggedVersion is the version that a tag names, if any.
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

// describedVersion makes a version from a tag, a number of commits and a commit.
func describedVersion(tag string, commits int, commit string) version.Version {
	base := "0"
	if v, ok := taggedVersion(tag); ok && !strings.Contains(v.String(), "+") {
		base = v.String()
	}
	v, _ := version.Parse(fmt.Sprintf("%s+%d.g%s", base, commits, commit[:min(10, len(commit))]))
	return v
}

// ProblemKind is the kind of the error.
func (e *RepositoryError) ProblemKind() problem.Kind { return problem.Fetch }
