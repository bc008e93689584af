package source

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"fernladder/core/event"
	"fernladder/core/recipe"
	"fernladder/core/signature"
	"fernladder/core/subprocess"
	"fernladder/core/version"
)

// The depth, and the number, of submodules that are followed: hostile ones can name each other
// without end.
const (
	deepest   = 8
	mostInAll = 1000
)

// A following of submodules knows its depth, and the commits it has visited.
type following struct {
	depth int
	been  map[submodule]bool // by URL and commit
	left  *int
}

func followed() following {
	left := mostInAll
	return following{0, map[submodule]bool{}, &left}
}

// into is the following one level deeper. Its error is that the limit is reached.
func (f following) into() (following, error) {
	f.depth++
	if *f.left--; f.depth > deepest || *f.left < 0 {
		return f, fmt.Errorf("submodules go deeper than %d, or are more than %d", deepest, mostInAll)
	}
	return f, nil
}

// again reports whether it has visited a commit before.
func (f following) again(repository, commit string) bool {
	at := submodule{url: repository, commit: commit}
	known := f.been[at]
	f.been[at] = true
	return known
}

// run runs git or svn. A transfer without progress for longer than the patience has failed. The
// error is the program's last message.
func (r *Repositories) run(ctx context.Context, out io.Writer, env []string, program string, args ...string) error {
	file := r.Programs.Find(program)
	if file == "" {
		return fmt.Errorf("there is no %s in %s", program, strings.Join(r.Programs.Path, ":"))
	}
	patience := r.Patience
	if patience == 0 {
		patience = time.Minute
	}
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	stalled := time.AfterFunc(patience, func() { cancel(fmt.Errorf("no data for %s", patience)) })
	defer stalled.Stop()

	said := &lastWords{moved: func() { stalled.Reset(patience) }}
	var printed io.Writer = &moving{out, said.moved}
	if pipe, is := out.(*os.File); is { // its readers have limits, and no time limit
		printed = pipe
		stalled.Stop()
	}
	err := subprocess.Command{Argv: append([]string{file}, args...), Stdout: printed, Stderr: said, Largest: r.Largest,
		Longest: cmp.Or(r.Longest, 12*time.Hour),
		Env: append(append(r.ofMachine(), "PATH="+strings.Join(r.Programs.Path, ":"), "LC_ALL=C.UTF-8", "TZ=UTC",
			"GIT_CONFIG_NOSYSTEM=1", "GIT_CONFIG_GLOBAL=/dev/null", "GIT_TERMINAL_PROMPT=0", "GIT_ASKPASS=/bin/false",
			"GIT_SSH_COMMAND=ssh -oBatchMode=yes", "GIT_ALLOW_PROTOCOL=https:http:ssh:git:file"), env...)}.Run(ctx)
	switch {
	case err == nil:
		return nil
	case ctx.Err() != nil:
		return context.Cause(ctx)
	case said.text() != "":
		return errors.New(said.text())
	}
	return fmt.Errorf("%s failed: %w", program, err)
}

type moving struct {
	w     io.Writer
	moved func()
}

func (m *moving) Write(p []byte) (int, error) {
	m.moved()
	return m.w.Write(p)
}

// lastWords keeps the end of a program's stderr.
type lastWords struct {
	moved func()
	tail  []byte
}

func (l *lastWords) Write(p []byte) (int, error) {
	const most = 4 << 10
	l.moved()
	l.tail = append(l.tail, p...)
	if len(l.tail) > most {
		l.tail = l.tail[len(l.tail)-most:]
	}
	return len(p), nil
}

// text is the first line that reports an error, or else the last one.
func (l *lastWords) text() string {
	last := ""
	for line := range strings.SplitSeq(strings.ReplaceAll(string(l.tail), "\r", "\n"), "\n") {
		line = strings.TrimSpace(line)
		for _, mark := range []string{"fatal: ", "error: ", "svn: "} {
			if rest, found := strings.CutPrefix(line, mark); found {
				return redactedText(rest)
			}
		}
		if line != "" {
			last = redactedText(line)
		}
	}
	return last
}

// git runs git in the copy of a repository.
func (r *Repositories) git(ctx context.Context, repository string, out io.Writer, args ...string) error {
	hardened := []string{"--git-dir=" + r.clone(repository), "-c", "core.hooksPath=/dev/null", "-c",
		"core.fsmonitor=false",
		"-c", "core.autocrlf=false", "-c", "gc.auto=0", "-c", "protocol.version=2", "-c", "safe.directory=*"}
	clean, env := r.authorized(repository)
	// A copy in a root of another user can be configured to run a program when an object is missing.
	// What only asks the copy needs no transport.
	if args[0] != "fetch" && args[0] != "ls-remote" {
		env = append(env, "GIT_ALLOW_PROTOCOL=")
	}
	args = slices.Clone(args)
	for i := range args {
		if args[i] == repository { // any user of the machine can read command lines
			args[i] = clean
		}
	}
	return r.run(ctx, out, env, "git", append(hardened, args...)...)
}

// authorized returns a URL without secrets, and the part of an environment through which git
// sends them to the host: to that host only, wherever it redirects.
func (r *Repositories) authorized(repository string) (clean string, env []string) {
	u, err := url.Parse(repository)
	if err != nil || u.Scheme != "https" {
		return repository, nil
	}
	header := r.Credentials.header(u)
	if u.User != nil {
		password, _ := u.User.Password()
		header = basic(u.User.Username(), password)
		u.User = nil
	}
	if header == "" {
		return repository, nil
	}
	return u.String(), []string{"GIT_CONFIG_COUNT=2",
		"GIT_CONFIG_KEY_0=http.https://" + u.Host + "/.extraHeader", "GIT_CONFIG_VALUE_0=Authorization: " + header,
		"GIT_CONFIG_KEY_1=http.followRedirects", "GIT_CONFIG_VALUE_1=false"}
}

// ask runs git and returns its output.
func (r *Repositories) ask(ctx context.Context, repository string, args ...string) (string, error) {
	var out bytes.Buffer
	err := r.git(ctx, repository, &out, args...)
	return strings.TrimSpace(out.String()), err
}

// commitHere reports whether a commit is in the copy of a repository.
func (r *Repositories) commitHere(ctx context.Context, repository, commit string) bool {
	if _, err := os.Stat(r.clone(repository)); err != nil {
		return false
	}
	_, err := r.ask(ctx, repository, "cat-file", "-e", commit+"^{commit}")
	return err == nil
}

// Precedes reports whether a commit is another one or among its ancestors. It asks the copy of
// the repository, and fails if that does not have the history.
func (r *Repositories) Precedes(ctx context.Context, repository, before, commit string) (bool, error) {
	if before == commit {
		return true, nil
	}
	if _, err := os.Stat(filepath.Join(r.clone(repository), "shallow")); err == nil ||
		!r.commitHere(ctx, repository, commit) {
		return false, fmt.Errorf("the history of %s is not here", Redacted(repository))
	}
	if _, err := recipe.CommitID(before); err != nil {
		return false, fmt.Errorf("%.60q is not a commit", before)
	}
	_, err := r.ask(ctx, repository, "merge-base", "--is-ancestor", "--end-of-options", before, commit)
	return err == nil, ctx.Err()
}

// complete reports whether a commit and all its submodules are stored.
func (r *Repositories) complete(ctx context.Context, repository, commit string, f following) bool {
	if f.again(repository, commit) {
		return true
	}
	if !r.commitHere(ctx, repository, commit) {
		return false
	}
	modules, err := r.submodules(ctx, repository, commit)
	return err == nil && !slices.ContainsFunc(modules, func(m submodule) bool {
		inside, err := f.into()
		return err != nil || !r.complete(ctx, m.url, m.commit, inside)
	})
}

// fetchGit fetches a commit and its submodules: only the commit, if the server allows that,
// otherwise everything.
func (r *Repositories) fetchGit(ctx context.Context, c Checkout, repository, tag, commit string, f following) error {
	if f.again(repository, commit) {
		return nil
	}
	err := r.alone(ctx, c, r.place("git", repository), repository, func() error {
		if r.commitHere(ctx, repository, commit) {
			return nil
		}
		return r.fetchCommit(ctx, repository, tag, commit)
	})
	if err != nil {
		return err
	}
	modules, err := r.submodules(ctx, repository, commit)
	if err != nil {
		return err
	}
	for _, m := range modules {
		inside, err := f.into()
		if err == nil {
			err = r.fetchGit(ctx, c, m.url, "", m.commit, inside)
		}
		if err != nil {
			return fmt.Errorf("submodule %s (%s): %w", m.path, Redacted(m.url), err)
		}
	}
	return nil
}

func (r *Repositories) fetchCommit(ctx context.Context, repository, tag, commit string) error {
	if err := r.initialise(ctx, repository); err != nil {
		return err
	}
	attempts := [][]string{{"--depth=1", "--no-tags", "--", repository, commit}, everything(repository)}
	if tag != "" {
		attempts = append([][]string{{"--depth=1", "--no-tags", "--", repository, "+refs/tags/" + tag + ":refs/tags/" + tag}},
			attempts...)
	}
	var failed error
	for _, args := range attempts {
		err := r.git(ctx, repository, io.Discard,
			append([]string{"fetch", "--force", "--progress", "--no-recurse-submodules"}, args...)...)
		if r.commitHere(ctx, repository, commit) {
			return nil
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
		failed = err
	}
	if failed != nil {
		return failed
	}
	return fmt.Errorf("the repository has no commit %s", commit)
}

// everything are the arguments that fetch all branches and tags.
func everything(repository string) []string {
	return []string{"--no-tags", "--", repository, "+refs/heads/*:refs/remotes/origin/*", "+refs/tags/*:refs/tags/*"}
}

func (r *Repositories) initialise(ctx context.Context, repository string) error {
	if _, err := os.Stat(filepath.Join(r.clone(repository), "HEAD")); err == nil {
		return nil
	}
	return r.run(ctx, io.Discard, nil, "git", "init", "--quiet", "--bare", "--template=", r.clone(repository))
}

// fetchAll fetches all branches and tags, with their history.
func (r *Repositories) fetchAll(ctx context.Context, repository string) error {
	args := everything(repository)
	if _, err := os.Stat(filepath.Join(r.clone(repository), "shallow")); err == nil {
		args = append([]string{"--unshallow"}, args...)
	}
	return r.git(ctx, repository, io.Discard,
		append([]string{"fetch", "--force", "--progress", "--no-recurse-submodules"}, args...)...)
}

// headGit finds the head of a branch. It fetches its history, for the latest tag in it.
func (r *Repositories) headGit(ctx context.Context, repository, branch string) (recipe.Pin, error) {
	if err := r.initialise(ctx, repository); err != nil {
		return recipe.Pin{}, err
	}
	if err := r.fetchAll(ctx, repository); err != nil {
		return recipe.Pin{}, err
	}
	commit, err := r.ask(ctx, repository, "rev-parse", "--verify", "--quiet", "refs/remotes/origin/"+branch+"^{commit}")
	if err != nil {
		return recipe.Pin{}, fmt.Errorf("the repository has no branch %q", branch)
	}
	tag, count := "", commit
	if last := r.lastTag(ctx, repository, commit); last != "" {
		tag, count = last, "refs/tags/"+last+".."+commit
	}
	number, err := r.ask(ctx, repository, "rev-list", "--count", count)
	if err != nil {
		return recipe.Pin{}, err
	}
	commits, _ := strconv.Atoi(number)
	return recipe.Pin{Commit: commit, Version: describedVersion(tag, commits, commit)}, nil
}

// A Snapshot is a commit of a repository that a recipe can be drafted from.
type Snapshot struct {
	Branch, Tag, Commit string // Tag is "" for a repository without tags
	Version             version.Version
}

// Snapshot finds the latest tag on a branch, or on the repository's default branch, and fetches
// its commit. Without a tag it is the head.
func (r *Repositories) Snapshot(ctx context.Context, repository, branch string) (Snapshot, error) {
	if r.Offline {
		return Snapshot{}, r.wrap(ctx, errOffline, repository, "")
	}
	if err := r.Credentials.Err(); err != nil {
		return Snapshot{}, err
	}
	c := Checkout{Package: path.Base(repository)}
	s := Snapshot{Branch: branch}
	err := r.alone(ctx, c, r.place("git", repository), repository, func() error { return r.snapshot(ctx, repository, &s) })
	if err == nil {
		err = r.fetchGit(ctx, c, repository, "", s.Commit, followed())
	}
	return s, r.wrap(ctx, err, repository, "")
}

// snapshot finds out which commit it is.
func (r *Repositories) snapshot(ctx context.Context, repository string, s *Snapshot) (err error) {
	if s.Branch == "" {
		if s.Branch, err = r.firstBranch(ctx, repository); err != nil {
			return err
		}
	}
	pin, err := r.headGit(ctx, repository, s.Branch)
	if err != nil {
		return err
	}
	s.Commit, s.Version = pin.Commit, pin.Version
	if tag := r.lastTag(ctx, repository, pin.Commit); tag != "" {
		if s.Commit, err = r.ask(ctx, repository, "rev-parse", "--verify", "refs/tags/"+tag+"^{commit}"); err != nil {
			return err
		}
		s.Tag = tag
		s.Version, _ = taggedVersion(tag)
	}
	return nil
}

// lastTag is the last tag in the history of a commit: of several on the same commit, the one
// with the highest version; "" if there is none.
func (r *Repositories) lastTag(ctx context.Context, repository, commit string) string {
	found, err := r.ask(ctx, repository, "describe", "--tags", "--abbrev=0", commit)
	if err != nil {
		return ""
	}
	beside, err := r.ask(ctx, repository, "tag", "--points-at", "refs/tags/"+found+"^{commit}")
	if err != nil {
		return found
	}
	best, highest := found, version.Version{}
	for tag := range strings.SplitSeq(beside, "\n") {
		if v, is := taggedVersion(tag); is && (highest.IsZero() || v.Compare(highest) > 0) {
			best, highest = tag, v
		}
	}
	return best
}

// firstBranch asks a repository for the branch of its HEAD.
func (r *Repositories) firstBranch(ctx context.Context, repository string) (string, error) {
	if err := r.initialise(ctx, repository); err != nil {
		return "", err
	}
	answer, err := r.ask(ctx, repository, "ls-remote", "--symref", "--", repository, "HEAD")
	if err != nil {
		return "", err
	}
	for line := range strings.SplitSeq(answer, "\n") {
		if rest, found := strings.CutPrefix(line, "ref: refs/heads/"); found {
			return strings.Fields(rest)[0], nil
		}
	}
	return "main", nil // old servers do not say
}

// checkTag verifies that a tag names the commit, and its signature.
func (r *Repositories) checkTag(ctx context.Context, c Checkout) (*signature.Good, error) {
	named, err := r.ask(ctx, c.Git, "rev-parse", "--verify", "--quiet", "refs/tags/"+c.Tag+"^{commit}")
	if err != nil {
		return nil, fmt.Errorf("the repository has no tag %q", c.Tag)
	}
	if named != c.Commit {
		return nil,
			fmt.Errorf("the tag %s names the commit %s, not %s as the recipe does; do not trust it before you know why", c.Tag,
				named, c.Commit)
	}
	if len(c.Keys) == 0 {
		return nil, nil
	}
	keys, err := readKeys(c.Keys)
	if err != nil {
		return nil, err
	}
	text, err := r.ask(ctx, c.Git, "cat-file", "tag", "refs/tags/"+c.Tag)
	if err != nil {
		return nil, fmt.Errorf("the tag %s is not signed, but there are keys for it", c.Tag)
	}
	good, err := verifyTag(text+"\n", keys, r.Now())
	if err != nil {
		return nil, fmt.Errorf("the tag %s: %w", c.Tag, err)
	}
	r.Events.Event(event.Event{Kind: event.Signed, Package: c.Package, Version: c.Version, Text: good.String()})
	return good, nil
}

// checkCommit verifies the signature of a commit.
func (r *Repositories) checkCommit(ctx context.Context, c Checkout) (*signature.Good, error) {
	keys, err := readKeys(c.Keys)
	if err != nil {
		return nil, err
	}
	text, err := r.ask(ctx, c.Git, "cat-file", "commit", c.Commit)
	if err != nil {
		return nil, err
	}
	good, err := verifyCommit(text+"\n", keys, r.Now())
	if err != nil {
		return nil, fmt.Errorf("the commit %s: %w", c.Commit, err)
	}
	r.Events.Event(event.Event{Kind: event.Signed, Package: c.Package, Version: c.Version, Text: good.String()})
	return good, nil
}

// verifyCommit verifies the signature in the header of a commit object, which covers everything
// else in it.
func verifyCommit(text string, keys *signature.Keys, now time.Time) (*signature.Good, error) {
	var signed, made strings.Builder
	within, header := false, true
	for line := range strings.Lines(text) {
		begins := header && (strings.HasPrefix(line, "gpgsig ") || strings.HasPrefix(line, "gpgsig-sha256 "))
		switch {
		case begins && made.Len() > 0:
			return nil, &signature.Bad{Reasons: []string{"it has two"}}
		case begins:
			within = true
			_, rest, _ := strings.Cut(line, " ")
			made.WriteString(rest)
		case within && strings.HasPrefix(line, " "):
			made.WriteString(line[1:])
		default:
			within = false
			header = header && line != "\n"
			signed.WriteString(line)
		}
	}
	if made.Len() == 0 {
		return nil, &signature.Bad{Reasons: []string{"it has none, but there are keys for it"}}
	}
	commit := signature.File{Open: func() (io.ReadCloser, error) {
		return io.NopCloser(strings.NewReader(signed.String())), nil
	}}
	return signature.VerifyFor(signature.GitNamespace, commit, []byte(made.String()), keys, now)
}

// Follows reports whether a commit is another one or comes after it, and fetches the history if it
// has to.
func (r *Repositories) Follows(ctx context.Context, c Checkout, before string) (bool, error) {
	if is, err := r.Precedes(ctx, c.Git, before, c.Commit); err == nil && is {
		return true, nil
	}
	if r.Offline {
		return false, r.wrap(ctx, errOffline, c.URL(), c.At)
	}
	err := r.alone(ctx, c, r.place("git", c.Git), c.Git, func() error { return r.fetchAll(ctx, c.Git) })
	if err != nil {
		return false, r.wrap(ctx, err, c.URL(), c.At)
	}
	return r.Precedes(ctx, c.Git, before, c.Commit)
}

// verifyTag verifies the signature at the end of a tag object, which covers everything before
// it.
func verifyTag(text string, keys *signature.Keys, now time.Time) (*signature.Good, error) {
	for _, begin := range []string{"-----BEGIN PGP SIGNATURE-----", "-----BEGIN SSH SIGNATURE-----"} {
		if i := strings.Index(text, "\n"+begin); i >= 0 {
			signed := text[:i+1]
			tag := signature.File{Open: func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(signed)), nil }}
			return signature.VerifyFor(signature.GitNamespace, tag, []byte(text[i+1:]), keys, now)
		}
	}
	return nil, &signature.Bad{Reasons: []string{"it has none, but there are keys for it"}}
}

// A submodule is a repository inside another.
type submodule struct{ path, url, commit string }

// submodules lists those of a stored commit.
func (r *Repositories) submodules(ctx context.Context, repository, commit string) ([]submodule, error) {
	list, err := r.ask(ctx, repository, "config", "--blob", commit+":.gitmodules", "--get-regexp",
		`^submodule\..*\.(path|url)$`)
	if err != nil {
		return nil, nil // there is no such file
	}
	paths, urls := map[string]string{}, map[string]string{}
	for line := range strings.SplitSeq(list, "\n") {
		key, value, _ := strings.Cut(line, " ")
		name := strings.TrimPrefix(key[:max(strings.LastIndex(key, "."), 0)], "submodule.")
		if strings.HasSuffix(key, ".path") {
			paths[name] = value
		} else {
			urls[name] = value
		}
	}
	var modules []submodule
	for name, at := range paths {
		entry, err := r.ask(ctx, repository, "ls-tree", commit, "--", at)
		words := strings.Fields(entry)
		if err != nil || len(words) < 3 || words[1] != "commit" {
			continue // named, but not there
		}
		m := submodule{path: at, url: relative(repository, urls[name]), commit: words[2]}
		// Nothing that came over the network may refer to this machine's own repositories.
		own := strings.HasPrefix(m.url, "file:") && !strings.HasPrefix(repository, "file:")
		if !filepath.IsLocal(m.path) || recipe.CheckRepository(m.url) != nil || own {
			return nil, fmt.Errorf("the submodule %q (%s) cannot be followed", at, urls[name])
		}
		modules = append(modules, m)
	}
	slices.SortFunc(modules, func(a, b submodule) int { return strings.Compare(a.path, b.path) })
	return modules, nil
}

// relative is the URL of a submodule, which may be relative to its repository's.
func relative(repository, to string) string {
	if !strings.HasPrefix(to, "./") && !strings.HasPrefix(to, "../") {
		return to
	}
	u, err := url.Parse(repository)
	if err != nil {
		return to
	}
	u.Path = path.Join(u.Path, to)
	return u.String()
}

// exportGit fills a directory with a commit and its submodules.
func (r *Repositories) exportGit(ctx context.Context, c Checkout, repository, commit, dir string, limits Limits,
	f following) (Unpacked, error) {
	got, err := r.exportCommit(ctx, c, repository, commit, dir, limits)
	if err != nil {
		return got, err
	}
	modules, err := r.submodules(ctx, repository, commit)
	if err != nil {
		return got, err
	}
	for _, m := range modules {
		inside, err := f.into()
		if err != nil {
			return got, err
		}
		below := filepath.Join(dir, filepath.FromSlash(m.path))
		if err := os.MkdirAll(below, 0o755); err != nil {
			return got, err
		}
		left := limits // which all of them share
		left.Entries, left.Bytes = left.Entries-got.Entries, left.Bytes-got.Bytes
		more, err := r.exportGit(ctx, c, m.url, m.commit, below, left, inside)
		if err != nil {
			return got, err
		}
		got.Entries += more.Entries
		got.Bytes += more.Bytes
		if more.Newest.After(got.Newest) {
			got.Newest = more.Newest
		}
	}
	return got, nil
}

// exportCommit fills a directory with a commit, while no process deletes the copy of its
// repository.
func (r *Repositories) exportCommit(ctx context.Context, c Checkout, repository, commit, dir string,
	limits Limits) (Unpacked, error) {
	unlock, err := r.lock(ctx, r.place("git", repository), c.Package, c.Version)
	if err != nil {
		return Unpacked{}, err
	}
	defer unlock()
	// As a tar file, it is checked like any other source.
	reader, writer, err := os.Pipe()
	if err != nil {
		return Unpacked{}, err
	}
	ended := make(chan error, 1)
	go func() {
		err := r.git(ctx, repository, writer, "archive", "--format=tar", commit)
		ended <- errors.Join(err, writer.Close())
	}()
	got, err := unpackTar(ctx, repository, reader, dir, limits)
	if err == nil { // the padding of the last block
		_, err = io.Copy(io.Discard, reader)
	}
	reader.Close() // and no more is needed
	if gitErr := <-ended; gitErr != nil && (err == nil || errors.As(gitErr, new(*subprocess.Exceeded))) {
		err = gitErr
	}
	return got, err
}
