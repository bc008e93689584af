package build

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"fernladder/core/machine"
	"fernladder/core/pattern"
	"fernladder/core/safefs"
	"fernladder/core/signature"
	"fernladder/core/source"
	"fernladder/core/store"
)

// A Part is an archive, or a checkout of a repository, that the source is made from.
type Part struct {
	Archive  source.Wanted
	Checkout *source.Checkout // instead of an archive
	Name     string           // of an extra
	Into     string           // the directory of the source that an extra goes into
	Gather   string           // shell text that gathers an extra with the network, if its archive is not stored; or ""
	Size     int64            // of the archive in bytes; 0 where the recipe does not say
}

// parts are the release itself, and the extras whose conditions hold.
func parts(job *Job) []Part {
	p := job.Package
	r, x := job.Recipe, p.Release
	keys := r.KeyFiles()
	signed := func(urls []string) *source.Signed {
		if len(urls) == 0 {
			return nil
		}
		return &source.Signed{URLs: urls, Keys: keys}
	}
	main := Part{Size: int64(x.Size), Archive: source.Wanted{
		Package: job.Name, Version: job.Version, URLs: r.Sources(x), Digest: x.Digest, At: x.Position.String(),
		Signed: signed(r.Signatures(x)),
	}}
	if url := x.Repository(); url != "" {
		url = r.ExpandURL(url, job.Version)
		c := &source.Checkout{Package: job.Name, Version: job.Version, Commit: x.Commit, Revision: x.Revision, Tag: x.Tag,
			Keys: keys, At: x.Position.String()}
		if x.Git != "" {
			c.Git = url
		} else {
			c.Svn = url
		}
		main = Part{Checkout: c}
	}
	all := []Part{main}
	for _, e := range r.Extras {
		urls := r.Inside(x, e.Archive)
		if e.Gather != "" {
			urls = []string{"gathered:" + e.Name}
		}
		all = append(all, Part{Name: e.Name, Into: e.Into, Gather: e.Gather, Size: int64(e.Size), Archive: source.Wanted{
			Package: job.Name, Version: job.Version, URLs: urls, Digest: e.Digest, At: e.Position.String(),
			Signed: signed(r.Inside(x, e.Signature)),
		}})
	}
	return all
}

// alone is the name of a part that is a single file rather than an archive, or "".
func (p Part) alone() string {
	if p.Checkout != nil {
		return ""
	}
	name, _ := singleFile(p.Archive.URLs[0])
	return name
}

// source is the part's entry in a receipt.
func (p Part) source(url string, signed *signature.Good) store.Source {
	s := store.Source{URL: url, Digest: p.Archive.Digest, Into: p.Into, Signed: signed}
	if p.Checkout != nil {
		s.URL, s.Commit = source.Redacted(p.Checkout.URL()), p.Checkout.ID()
	}
	return s
}

// Fetched reports whether all parts of a job are stored.
func Fetched(ctx context.Context, m *machine.Machine, job *Job) bool {
	return !slices.ContainsFunc(job.Parts, func(p Part) bool { return !p.here(ctx, m) })
}

// here reports whether a part need not be fetched.
func (p Part) here(ctx context.Context, m *machine.Machine) bool {
	if p.Checkout != nil {
		return m.Repositories.Has(ctx, *p.Checkout)
	}
	return m.Archives.Has(p.Archive.Digest)
}

// CheckSupplies returns a source.MissingSupplies error when jobs need files
// that were not supplied.
func CheckSupplies(m *machine.Machine, jobs []*Job) error {
	var missing source.MissingSupplies
	for _, j := range jobs {
		for _, s := range j.Recipe.Supplies {
			if !m.Supplies.Has(s.Digest) {
				missing = append(missing, source.MissingSupply{Package: j.Name, Supply: s})
			}
		}
	}
	if len(missing) > 0 {
		return missing
	}
	return nil
}

// CheckOffline returns an error that lists everything that would have to be fetched.
func CheckOffline(ctx context.Context, m *machine.Machine, jobs []*Job) error {
	if !m.Offline {
		return nil
	}
	missing := source.NotHere{}
	for _, j := range jobs {
		for _, p := range j.Parts {
			switch {
			case p.here(ctx, m):
			case p.Gather != "":
				missing = append(missing, source.Missing{Package: j.Name, Version: j.Version, What: "the files that the extra " +
					p.Name + " gathers"})
			case p.Checkout != nil:
				missing = append(missing,
					source.Missing{Package: j.Name, Version: j.Version, What: source.Redacted(p.Checkout.URL()) + " at " +
						p.Checkout.ID()})
			case !slices.ContainsFunc(p.Archive.URLs, local):
				missing = append(missing,
					source.Missing{Package: j.Name, Version: j.Version, What: source.Redacted(p.Archive.URLs[0])})
			}
		}
	}
	if len(missing) > 0 {
		return missing
	}
	return nil
}

// local reports whether a URL is that of a file on this machine.
func local(url string) bool { return strings.HasPrefix(url, "file://") }

// unpack assembles the source where no build can see it, and then gives it to the build.
func (a *attempt) unpack(ctx context.Context) error {
	aside := filepath.Join(a.dirs.work, "unpacked")
	if err := safefs.Remove(aside); err != nil {
		return err
	}
	if err := os.Mkdir(aside, 0o700); err != nil {
		return err
	}
	source := filepath.Join(aside, "source")
	gathering := false
	for _, part := range a.job.Parts {
		if part.Gather != "" && !part.here(ctx, a.m) {
			gathering = true
			continue
		}
		if err := a.unpackPart(ctx, part, source); err != nil {
			return err
		}
	}
	if err := a.handOver(source, a.dirs.source); err != nil {
		return err
	}
	if gathering {
		// Commands with network access do not see supplies, which must not be redistributed.
		if err := errors.Join(safefs.Remove(aside), safefs.Remove(a.dirs.supply)); err != nil {
			return err
		}
		if err := a.gather(ctx); err != nil {
			return err
		}
		return a.unpack(ctx) // of archives alone, as every later build
	}
	if len(a.job.Recipe.Supplies) > 0 {
		supply := filepath.Join(aside, "supply")
		if err := a.m.Supplies.Lay(ctx, a.job.Recipe.Supplies, supply); err != nil {
			return err
		}
		if err := a.handOver(supply, a.dirs.supply); err != nil {
			return err
		}
	}
	return safefs.Remove(aside)
}

// handOver gives a directory that the program has filled to the build, at a place in its box.
func (a *attempt) handOver(from, to string) error {
	if a.room.user.Other() {
		if err := safefs.Give(from, safefs.Ours, a.room.user.UID, a.room.user.GID); err != nil {
			return err
		}
	}
	if err := safefs.Remove(to); err != nil {
		return err
	}
	return os.Rename(from, to)
}

// unpackPart unpacks beside the source, then moves the contents into place: those of the
// archive's only directory, if it has just one, otherwise those of the archive.
func (a *attempt) unpackPart(ctx context.Context, part Part, into string) error {
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
		if !a.m.Repositories.Has(ctx, *part.Checkout) { // it was deleted since it was fetched
			_, err = a.m.Repositories.Fetch(ctx, *part.Checkout)
		}
		if err == nil {
			got, err = a.m.Repositories.Export(ctx, *part.Checkout, fresh, a.m.Unpacking)
		}
		if err == nil {
			err = a.noteExport(fresh)
		}
	} else {
		from = part.Archive.URLs[0]
		err = a.m.Archives.Use(ctx, part.Archive, func(archive string) (err error) {
			if name := part.alone(); name != "" {
				got, err = source.CopyOut(ctx, archive, fresh, name, a.m.Unpacking)
			} else if got, err = source.Unpack(ctx, archive, fresh, a.m.Unpacking); err == nil {
				top, err = source.Top(fresh)
			}
			return err
		})
	}
	var bad *source.UnpackError
	if errors.As(err, &bad) {
		return a.failure(StageUnpack, fmt.Sprintf("%v (%s)", bad, source.Redacted(from)), "")
	}
	var repository *source.RepositoryError
	if errors.As(err, &repository) {
		return a.failure(StageUnpack, repository.Error(), "")
	}
	if err != nil {
		return err
	}
	if got.Newest.After(a.journal.Newest) {
		a.journal.Newest = got.Newest
	}
	if part.Into == "" {
		err = os.Rename(top, into)
	} else {
		err = a.layInside(top, into, part)
	}
	return errors.Join(err, safefs.Remove(fresh))
}

// noteExport records the checkout of a repository for the receipt.
func (a *attempt) noteExport(dir string) error {
	digest, err := source.DigestTree(dir)
	if err == nil && len(a.journal.Sources) > 0 {
		a.journal.Sources[0].Digest = digest
	}
	return err
}

var (
	archiveName     = pattern.New(`\.(tar(\.\w+)?|t[gbx]z2?|tlz|tzst|zip)$`)
	compressionName = pattern.New(`\.(gz|bz2|xz|zst|lz)$`)
)

// singleFile reports whether a URL is that of a single file rather than of an archive, and the
// file's name. A URL without a telling file name is that of an archive.
func singleFile(url string) (name string, single bool) {
	base, _, _ := strings.Cut(path.Base(url), "?")
	if archiveName.MatchString(base) || path.Ext(base) == "" {
		return "", false
	}
	name = compressionName.ReplaceAllString(base, "")
	return name, filepath.IsLocal(name)
}

// layInside moves the contents of an extra into a directory of the source.
func (a *attempt) layInside(top, base string, part Part) error {
	into := base
	for name := range strings.SplitSeq(part.Into, "/") {
		into = filepath.Join(into, name)
		info, err := os.Lstat(into)
		if errors.Is(err, fs.ErrNotExist) {
			err = os.Mkdir(into, 0o755)
		} else if err == nil && !info.IsDir() {
			return a.failure(StageUnpack,
				fmt.Sprintf("the extra %s goes into %s, where the source has something that is not a directory", part.Name,
					part.Into), "")
		}
		if err != nil {
			return err
		}
	}
	clash, err := merge(top, into)
	if clash != "" {
		return a.failure(StageUnpack, fmt.Sprintf("the extra %s and the source both have %s", part.Name,
			strings.TrimPrefix(clash, base+"/")), "")
	}
	return err
}

// merge moves the contents of a directory into another. It stops at a file that both have, and
// returns its path.
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
