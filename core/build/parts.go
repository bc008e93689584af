package build

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"fernladder/core/ground"
	"fernladder/core/recipe"
	"fernladder/core/signature"
	"fernladder/core/source"
	"fernladder/core/store"
)

// A Part is something that the source is put together from: an archive, or a
// checkout of a repository.
type Part struct {
	Archive  source.Wanted
	Checkout *source.Checkout // instead of an archive
	Name     string           // of an extra
	Into     string           // the directory of the source that an extra goes into
	Size     int64            // of the archive in bytes; 0 where the recipe does not say
}

// parts are the release itself and the extras that count.
func parts(job *Job, facts recipe.Facts) []Part {
	p := job.Package
	r, x := p.Recipe, p.Release
	keys := make([]string, len(r.Keys))
	for i, name := range r.Keys {
		keys[i] = filepath.Join(r.Dir, name)
	}
	signed := func(urls []string) *source.Signed {
		if len(urls) == 0 {
			return nil
		}
		return &source.Signed{URLs: urls, Keys: keys}
	}
	main := Part{Size: int64(x.Size), Archive: source.Wanted{
		Package: job.Name, Version: job.Version, URLs: r.Sources(x), Digest: x.Digest, At: x.Position.String(), Signed: signed(r.Signatures(x)),
	}}
	if url := x.Repository(); url != "" {
		url = r.ExpandURL(url, job.Version)
		c := &source.Checkout{Package: job.Name, Version: job.Version, Commit: x.Commit, Revision: x.Revision, Tag: x.Tag, Keys: keys, At: x.Position.String()}
		if x.Git != "" {
			c.Git = url
		} else {
			c.Svn = url
		}
		main = Part{Checkout: c}
	}
	all := []Part{main}
	for _, e := range r.Extras {
		if e.When.Holds(facts) {
			all = append(all, Part{Name: e.Name, Into: e.Into, Size: int64(e.Size), Archive: source.Wanted{
				Package: job.Name, Version: job.Version, URLs: r.Inside(x, e.Archive), Digest: e.Digest, At: e.Position.String(), Signed: signed(r.Inside(x, e.Signature)),
			}})
		}
	}
	return all
}

// supplies are those that count.
func supplies(r *recipe.Recipe, facts recipe.Facts) []*recipe.Supply {
	var all []*recipe.Supply
	for _, s := range r.Supplies {
		if s.When.Holds(facts) {
			all = append(all, s)
		}
	}
	return all
}

// source is how a part stands in a receipt.
func (p Part) source(url string, signed *signature.Good) store.Source {
	s := store.Source{URL: url, Digest: p.Archive.Digest, Into: p.Into, Signed: signed}
	if p.Checkout != nil {
		s.URL, s.Commit = source.Redacted(p.Checkout.URL()), p.Checkout.ID()
	}
	return s
}

// Fetched tells whether all parts of a job are here.
func (w *Workshop) Fetched(ctx context.Context, job *Job) bool {
	archives := source.Archives{Dir: w.Store.Archives()}
	for _, p := range job.Parts {
		if p.Checkout != nil && !w.Repositories().Has(ctx, *p.Checkout) || p.Checkout == nil && !archives.Has(p.Archive.Digest) {
			return false
		}
	}
	return true
}

// Supplies are those that were brought to the root.
func (w *Workshop) Supplies() source.Supplies {
	return source.Supplies{Dir: filepath.Join(w.Store.Root, "supplies")}
}

// CheckSupplies returns a source.MissingSupplies error when jobs need files
// that nobody has brought.
func (w *Workshop) CheckSupplies(jobs []*Job) error {
	var missing source.MissingSupplies
	for _, j := range jobs {
		for _, s := range j.Supplies {
			if !w.Supplies().Has(s.Digest) {
				missing = append(missing, source.MissingSupply{Package: j.Name, Supply: s})
			}
		}
	}
	if len(missing) > 0 {
		return missing
	}
	return nil
}

// CheckOffline returns an error that lists all that would have to be fetched.
func (w *Workshop) CheckOffline(ctx context.Context, jobs []*Job) error {
	if !w.Offline {
		return nil
	}
	missing := source.NotHere{}
	archives := source.Archives{Dir: w.Store.Archives()}
	for _, j := range jobs {
		for _, p := range j.Parts {
			switch {
			case p.Checkout != nil && !w.Repositories().Has(ctx, *p.Checkout):
				missing = append(missing, source.Missing{Package: j.Name, Version: j.Version, What: source.Redacted(p.Checkout.URL()) + " at " + p.Checkout.ID()})
			case p.Checkout == nil && !archives.Has(p.Archive.Digest) && !slices.ContainsFunc(p.Archive.URLs, local):
				missing = append(missing, source.Missing{Package: j.Name, Version: j.Version, What: source.Redacted(p.Archive.URLs[0])})
			}
		}
	}
	if len(missing) > 0 {
		return missing
	}
	return nil
}

// local tells whether a URL is that of a file on this machine.
func local(url string) bool { return strings.HasPrefix(url, "file://") }

// unpack puts the source together, where no build can see it, and then gives it to
// the build.
func (g *building) unpack(ctx context.Context) error {
	aside := filepath.Join(g.dirs.work, "unpacked")
	if err := ground.Remove(aside); err != nil {
		return err
	}
	if err := os.Mkdir(aside, 0o700); err != nil {
		return err
	}
	source := filepath.Join(aside, "source")
	for _, part := range g.job.Parts {
		if err := g.unpackPart(ctx, part, source); err != nil {
			return err
		}
	}
	if err := g.handOver(source, g.dirs.source); err != nil {
		return err
	}
	if len(g.job.Supplies) > 0 {
		supply := filepath.Join(aside, "supply")
		if err := g.Supplies().Lay(ctx, g.job.Supplies, supply); err != nil {
			return err
		}
		if err := g.handOver(supply, g.dirs.supply); err != nil {
			return err
		}
	}
	return ground.Remove(aside)
}

// handOver gives a directory, that the program has filled, to the build, at a place
// in its box.
func (g *building) handOver(from, to string) error {
	if g.user.Other() {
		if err := ground.Give(from, ground.Ours, g.user.UID, g.user.GID); err != nil {
			return err
		}
	}
	if err := ground.Remove(to); err != nil {
		return err
	}
	return os.Rename(from, to)
}

// unpackPart unpacks beside the source, then moves what came to where it belongs:
// what is in the archive's only directory, if it has one only, else what is in the
// archive.
func (g *building) unpackPart(ctx context.Context, part Part, into string) error {
	fresh := into + ".part"
	if err := os.Mkdir(fresh, 0o755); err != nil {
		return err
	}
	top := fresh
	var got source.Unpacked
	var err error
	from := ""
	if part.Checkout != nil {
		from = source.Redacted(part.Checkout.URL())
		if got, err = g.Repositories().Export(ctx, *part.Checkout, fresh, g.Limits); err == nil {
			err = g.noteExport(fresh)
		}
	} else {
		from = part.Archive.URLs[0]
		archive := g.Archives.Path(part.Archive.Digest)
		if !g.Archives.Has(part.Archive.Digest) { // it was deleted since it was fetched
			if _, err := g.Archives.Fetch(ctx, part.Archive); err != nil {
				return err
			}
		}
		if name, single := singleFile(from); single {
			got, err = source.CopyOut(ctx, archive, fresh, name, g.Limits)
		} else if got, err = source.Unpack(ctx, archive, fresh, g.Limits); err == nil {
			top, err = source.Top(fresh)
		}
	}
	var bad *source.UnpackError
	if errors.As(err, &bad) {
		return g.failure(StageUnpack, fmt.Sprintf("%v (%s)", bad, source.Redacted(from)), "")
	}
	var repository *source.RepositoryError
	if errors.As(err, &repository) {
		return g.failure(StageUnpack, repository.Error(), "")
	}
	if err != nil {
		return err
	}
	if got.Newest.After(g.Newest) {
		g.Newest = got.Newest
	}
	if part.Into == "" {
		err = os.Rename(top, into)
	} else {
		err = g.layInside(top, into, part)
	}
	return errors.Join(err, ground.Remove(fresh))
}

// noteExport writes down for the receipt what came out of a repository.
func (g *building) noteExport(dir string) error {
	digest, err := source.DigestTree(dir)
	if err == nil && len(g.Sources) > 0 {
		g.Sources[0].Digest = digest
	}
	return err
}

var (
	archiveName     = regexp.MustCompile(`\.(tar(\.\w+)?|t[gbx]z2?|tlz|tzst|zip)$`)
	compressionName = regexp.MustCompile(`\.(gz|bz2|xz|zst|lz)$`)
)

// singleFile tells from a URL whether it is that of a single file rather than an
// archive, and what the file is called. A URL without a file name that says
// anything is that of an archive.
func singleFile(url string) (name string, single bool) {
	base, _, _ := strings.Cut(path.Base(url), "?")
	if archiveName.MatchString(base) || path.Ext(base) == "" {
		return "", false
	}
	name = compressionName.ReplaceAllString(base, "")
	return name, filepath.IsLocal(name)
}

// layInside moves the contents of an extra into a directory of the source.
func (g *building) layInside(top, base string, part Part) error {
	into := base
	for name := range strings.SplitSeq(part.Into, "/") {
		into = filepath.Join(into, name)
		info, err := os.Lstat(into)
		if errors.Is(err, fs.ErrNotExist) {
			err = os.Mkdir(into, 0o755)
		} else if err == nil && !info.IsDir() {
			return g.failure(StageUnpack, fmt.Sprintf("the extra %s goes into %s, where the source has something that is no directory", part.Name, part.Into), "")
		}
		if err != nil {
			return err
		}
	}
	clash, err := merge(top, into)
	if clash != "" {
		return g.failure(StageUnpack, fmt.Sprintf("the extra %s and the source both have %s", part.Name, strings.TrimPrefix(clash, base+"/")), "")
	}
	return err
}

// merge moves what is in a directory into another. It stops at a file that is
// in both, and returns its path.
func merge(from, into string) (clash string, err error) {
	entries, err := os.ReadDir(from)
	if err != nil {
		return "", err
	}
	for _, e := range entries {
		source, target := filepath.Join(from, e.Name()), filepath.Join(into, e.Name())
		info, err := os.Lstat(target)
		switch {
		case errors.Is(err, fs.ErrNotExist):
			err = os.Rename(source, target)
		case err == nil && info.IsDir() && e.IsDir():
			clash, err = merge(source, target)
		case err == nil:
			return target, nil
		}
		if err != nil || clash != "" {
			return clash, err
		}
	}
	return "", nil
}
