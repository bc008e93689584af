package draft

import (
	"context"
	"os"
	"path"
	"path/filepath"
	"strings"

	"fernladder/core/machine"
	"fernladder/core/pattern"
	"fernladder/core/problem"
	"fernladder/core/recipe"
	"fernladder/core/safefs"
	"fernladder/core/signature"
	"fernladder/core/source"
)

// Wanted is a source to draft a recipe from.
type Wanted struct {
	From       string // a URL or file of an archive, a repository, or a folder
	Branch     string // of a git repository; "": the one that it offers first
	Subversion bool   // it is a Subversion repository, whatever its URL says
}

// Brought is a source that was fetched and unpacked.
type Brought struct {
	Dir    string
	Name   string // its name at its origin
	Origin Origin
	Done   func() // deletes its temporary files
}

// repositoryURL matches URLs that cannot be those of archives.
var repositoryURL = pattern.New(`\.git/?$|^(git|ssh|svn|svn\+ssh)://`)

// Bring fetches and unpacks a source: an archive, with a signature found beside it; of a git
// repository, the last tag on its branch; or a folder, as it is. It runs nothing of the source.
// Errors have the code BadSource, or are those of fetching and unpacking.
func Bring(ctx context.Context, m *machine.Machine, w Wanted) (*Brought, error) {
	b := &Brought{Name: strings.TrimSuffix(path.Base(filepath.ToSlash(filepath.Clean(w.From))), ".git"), Done: func() {}}
	url := w.From
	if !strings.Contains(w.From, "://") {
		info, err := os.Stat(w.From)
		if err != nil {
			return nil, problem.New(problem.Usage, "", "there is no %s", w.From).Coded(BadSource)
		}
		file, err := filepath.Abs(w.From)
		if err != nil {
			return nil, err
		}
		if info.IsDir() {
			b.Dir, b.Origin = file, cloned(file)
			if b.Origin.Git != "" {
				b.Name = strings.TrimSuffix(path.Base(b.Origin.Git), ".git")
			}
			return b, nil
		}
		url = "file://" + file
	}
	repository := w.Branch != "" || w.Subversion || repositoryURL.MatchString(url)
	check := recipe.CheckURL
	if repository {
		check = recipe.CheckRepository
	}
	if err := check(url); err != nil {
		return nil, problem.New(problem.Usage, "", "%v", err).Coded(BadSource)
	}
	if err := m.Store.Prepare(); err != nil {
		return nil, err
	}
	work, done, err := m.Store.Scratch("draft")
	if err != nil {
		return nil, m.Store.Wrap(err)
	}
	b.Dir, b.Done = work, done
	if repository {
		b.Origin, err = exported(ctx, m, url, w, work)
	} else if b.Dir, b.Origin, err = unpacked(ctx, m, url, work); err == nil {
		top := ""
		if b.Dir != work {
			top = filepath.Base(b.Dir)
		}
		b.Name = titled(url, top)
	} else if strings.HasPrefix(url, "http") && !archiveSuffix.MatchString(url) { // it may be a repository
		if empty := safefs.Empty(work); empty == nil {
			if o, other := exported(ctx, m, url, w, work); other == nil {
				b.Dir, b.Origin, err = work, o, nil
			}
		}
	}
	if err != nil {
		done()
		return nil, m.Stored(err)
	}
	return b, nil
}

// unpacked fetches and unpacks an archive, and looks for a signature beside it.
func unpacked(ctx context.Context, m *machine.Machine, url, work string) (string, Origin, error) {
	file, digest, err := m.Archives.FetchUnpinned(ctx, url)
	if err != nil {
		return "", Origin{}, err
	}
	o := Origin{URL: url, SHA256: digest.Hex}
	if info, err := os.Stat(file); err == nil { // good to know, no more
		o.Size = info.Size()
	}
	if o.Signature = m.Archives.SignatureOf(ctx, url); o.Signature != "" {
		if text, err := m.Archives.FetchSmall(ctx, o.Signature); err == nil {
			o.Signers = signature.SignersOf(text)
		}
	}
	if len(o.Signers) == 0 { // the server's answer is no signature
		o.Signature = ""
	}
	if _, err := source.Unpack(ctx, file, work, m.Unpacking); err != nil {
		return "", o, err
	}
	dir, err := source.Top(work)
	return dir, o, err
}

// exported exports the latest tag of a repository.
func exported(ctx context.Context, m *machine.Machine, url string, w Wanted, work string) (Origin, error) {
	checkout := source.Checkout{Package: path.Base(url)}
	var o Origin
	if w.Subversion || strings.HasPrefix(url, "svn") {
		pin, err := m.Repositories.Head(ctx, &recipe.Release{Svn: url}, path.Base(url), url)
		if err != nil {
			return o, err
		}
		o = Origin{Svn: url, Revision: pin.Commit}
		checkout.Svn, checkout.Revision = url, pin.Commit
		if _, err := m.Repositories.Fetch(ctx, checkout); err != nil {
			return o, err
		}
	} else {
		snapshot, err := m.Repositories.Snapshot(ctx, url, w.Branch)
		if err != nil {
			return o, err
		}
		o = Origin{Git: url, Branch: snapshot.Branch, Tag: snapshot.Tag, Commit: snapshot.Commit,
			Version: snapshot.Version.String()}
		checkout.Git, checkout.Commit = url, snapshot.Commit
	}
	_, err := m.Repositories.Export(ctx, checkout, work, m.Unpacking)
	return o, err
}

// BadSource is the problem of something that cannot be a source.
const BadSource problem.Code = "bad_source"
