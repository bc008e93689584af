package repository

import (
	"cmp"
	"context"
	"crypto/md5"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"fernladder/core/durable"
	"fernladder/core/ospackage"
	"fernladder/core/pattern"
	"fernladder/core/problem"
	"fernladder/core/safefs"
	"fernladder/core/signature"
)

// Changed is the outcome of a change, and the packages after it.
type Changed struct{ Added, Gone, Now []Entry }

// Add adds packages, in files of either format, to a suite of apt's; keep is the number of
// newest versions of each to keep; 0: all.
func (r *Repository) Add(ctx context.Context, key signature.Key, files []string, suite string,
	keep int) (*Changed, error) {
	c := &Changed{}
	return c, r.Change(ctx, key, func(entries []Entry) ([]Entry, error) {
		for _, file := range files {
			e, err := r.take(file, suite, key, entries)
			if err != nil {
				return nil, err
			}
			if e != nil {
				entries, c.Added = append(entries, *e), append(c.Added, *e)
			}
		}
		if keep > 0 {
			entries, c.Gone = trimmed(entries, keep)
		}
		c.Now = entries
		return entries, nil
	})
}

// Drop removes packages, by NAME or NAME=VERSION, with trees that nothing depends on any more.
func (r *Repository) Drop(ctx context.Context, key signature.Key, names []string) (*Changed, error) {
	if _, err := r.Entries(); err != nil {
		return nil, err
	}
	c := &Changed{}
	return c, r.Change(ctx, key, func(entries []Entry) ([]Entry, error) {
		for _, text := range names {
			name, version, one := strings.Cut(text, "=")
			left := slices.DeleteFunc(slices.Clone(entries), func(e Entry) bool {
				return e.Name == name && (!one || e.Version == version)
			})
			if len(left) == len(entries) {
				return nil, problem.New(problem.Other, text, "the repository has no package %s", text)
			}
			c.Gone = append(c.Gone, difference(entries, left)...)
			entries = left
		}
		left, more := trimmed(entries, 0)
		c.Gone, c.Now = append(c.Gone, more...), left
		return left, nil
	})
}

func difference(all, left []Entry) []Entry {
	return slices.DeleteFunc(slices.Clone(all), func(e Entry) bool {
		return slices.ContainsFunc(left, func(o Entry) bool { return o.File == e.File && o.Suite == e.Suite })
	})
}

// treeName matches the packages of trees, which are named by their build ids.
var treeName = pattern.New(`-[0-9a-f]{12}(?:-dev|-devel)?$`)

// trimmed keeps so many versions of each package, and removes trees that nothing else needs.
func trimmed(entries []Entry, keep int) (left, gone []Entry) {
	all := entries
	slices.SortFunc(entries, compareEntries)
	newer := map[string][]Entry{} // of each package, those that were come by
	left = slices.DeleteFunc(slices.Clone(entries), func(e Entry) bool {
		key := string(e.Format) + " " + e.Suite + " " + e.Name
		versions := map[string]bool{}
		for _, o := range newer[key] {
			if o.Arch == e.Arch || forAll(o.Arch) || forAll(e.Arch) {
				versions[o.Version] = true
			}
		}
		newer[key] = append(newer[key], e)
		return keep > 0 && len(versions) >= keep && !versions[e.Version]
	})
	for {
		needed := map[string]bool{}
		for _, e := range left {
			for _, name := range e.Needs {
				needed[name] = needed[name] || name != stemOf(e.Name)
			}
		}
		less := slices.DeleteFunc(slices.Clone(left), func(e Entry) bool {
			// A package for building against a tree is removed together with it.
			stem := stemOf(e.Name)
			return treeName.MatchString(e.Name) && !needed[stem] && !needed[e.Name] ||
				treeName.MatchString(e.Name) && stem != e.Name &&
					!slices.ContainsFunc(left, func(o Entry) bool { return o.Name == stem })
		})
		if len(less) == len(left) {
			return left, difference(all, left)
		}
		left = less
	}
}

// stemOf is the name of the package that a development package belongs to; its own name for
// others.
func stemOf(name string) string {
	return strings.TrimSuffix(strings.TrimSuffix(name, "-devel"), "-dev")
}

// take brings a package into the pool. It is nil if the pool has it.
func (r *Repository) take(file, suite string, key signature.Key, entries []Entry) (*Entry, error) {
	f, err := safefs.Open(file)
	if errors.Is(err, safefs.ErrNotRegular) {
		return nil, ospackage.Bad(file, "it is not a file")
	}
	if err != nil {
		return nil, ospackage.Bad(file, "it cannot be read: "+cmp.Or(errors.Unwrap(err), err).Error())
	}
	defer f.Close()
	e := &Entry{}
	var headers *ospackage.RPMFile
	switch filepath.Ext(file) {
	case ".deb":
		err = e.deb(f, suite)
	case ".rpm":
		headers, err = e.rpm(f)
	default:
		return nil, ospackage.Bad(file, "it is neither a .deb nor a .rpm")
	}
	if err != nil {
		return nil, err
	}
	e.File = filepath.Join("pool", e.Name, safeName(e))
	if slices.ContainsFunc(entries, e.takesPlaceOf) {
		return nil, taken(e.Name, e.Version)
	}
	// A file in the pool is one package, in any number of suites.
	there := slices.IndexFunc(entries, func(o Entry) bool { return o.File == e.File })
	if err := r.copyIn(f, headers, e, key, there >= 0); err != nil {
		return nil, err
	}
	if there >= 0 {
		if old := entries[there]; old.SHA256 != e.SHA256 && (headers == nil || old.MD5 != e.MD5) {
			return nil, taken(e.Name, e.Version)
		}
		if slices.ContainsFunc(entries, func(o Entry) bool { return o.File == e.File && o.Suite == e.Suite }) {
			return nil, nil
		}
	}
	if headers != nil {
		describe(e, headers)
		e.Signer = key.Fingerprint()
	}
	return e, nil
}

// takesPlaceOf reports whether a machine could not distinguish two packages: one is for all
// machines, the other for those of one kind.
func (e *Entry) takesPlaceOf(o Entry) bool {
	return o.Format == e.Format && o.Suite == e.Suite && o.Name == e.Name && o.Version == e.Version &&
		forAll(o.Arch) != forAll(e.Arch)
}

// forAll reports whether packages of an architecture are for all machines.
func forAll(arch string) bool { return arch == "all" || arch == "noarch" }

// safeName is the name of a package's file in the pool.
func safeName(e *Entry) string {
	version := e.Version
	if _, rest, is := strings.Cut(version, ":"); is {
		version = rest
	}
	if e.Format == ospackage.Deb {
		return e.Name + "_" + version + "_" + e.Arch + ".deb"
	}
	return e.Name + "-" + version + "." + e.Arch + ".rpm"
}

var (
	poolName    = pattern.New(`^[A-Za-z0-9][A-Za-z0-9.+_-]*$`)
	poolVersion = pattern.New(`^[A-Za-z0-9][A-Za-z0-9.+~^:_-]*$`)
)

// named refuses names that would lead out of the pool, or that no package has.
func (e *Entry) named(file string) error {
	if !poolName.MatchString(e.Name) || !poolVersion.MatchString(e.Version) || !poolName.MatchString(e.Arch) {
		return ospackage.Bad(file, fmt.Sprintf("%q %q %q are no name, version and architecture of a package", e.Name,
			e.Version, e.Arch))
	}
	return nil
}

// paragraphs matches what any reader may take for the end of a paragraph.
var paragraphs = pattern.New(`\r|\n[ \t]*\n`)

func (e *Entry) deb(f *os.File, suite string) error {
	control, err := ospackage.ReadDeb(f)
	if err != nil {
		return err
	}
	names, fields := ospackage.Fields(control)
	e.Format, e.Suite, e.Name, e.Version, e.Arch = ospackage.Deb, suite, fields["Package"], fields["Version"],
		fields["Architecture"]
	// Fields that a list adds are not taken from the package.
	seen := map[string]bool{"filename": true, "size": true, "md5sum": true, "sha1": true, "sha256": true, "sha512": true}
	for _, name := range names {
		if seen[strings.ToLower(name)] {
			return ospackage.Bad(f.Name(), "its control file has the field "+name+" twice, or it is one that only a list has")
		}
		seen[strings.ToLower(name)] = true
	}
	if paragraphs.MatchString(control) {
		return ospackage.Bad(f.Name(), "its control file has more than one paragraph")
	}
	e.Control = control
	for _, field := range []string{"Depends", "Pre-Depends"} {
		for part := range strings.FieldsFuncSeq(fields[field], func(c rune) bool { return c == ',' || c == '|' }) {
			if words := strings.Fields(part); len(words) > 0 {
				e.Needs = append(e.Needs, words[0])
			}
		}
	}
	return e.named(f.Name())
}

func (e *Entry) rpm(f *os.File) (*ospackage.RPMFile, error) {
	headers, err := ospackage.ReadRPM(f)
	if err != nil {
		return nil, err
	}
	e.Format, e.Name, e.Arch = ospackage.RPM, headers.Text(ospackage.TagName), headers.Text(ospackage.TagArch)
	e.Version = headers.Text(ospackage.TagVersion) + "-" + headers.Text(ospackage.TagRelease)
	if epoch := headers.Number(ospackage.TagEpoch); epoch > 0 {
		e.Version = fmt.Sprintf("%d:%s", epoch, e.Version)
	}
	return headers, e.named(f.Name())
}

// copyIn copies a package into the pool, completely or not at all; it signs a .rpm. look only
// finds out what it would be.
func (r *Repository) copyIn(f *os.File, headers *ospackage.RPMFile, e *Entry, key signature.Key, look bool) error {
	to := filepath.Join(r.Dir, e.File)
	if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
		return err
	}
	if info, err := os.Lstat(filepath.Dir(to)); err != nil || !info.IsDir() {
		return errors.Join(err, foreign(filepath.Dir(to), "is a link; nothing is written through it"))
	}
	out, err := os.CreateTemp(filepath.Dir(to), ".new-")
	if err != nil {
		return err
	}
	defer os.Remove(out.Name())
	defer out.Close()
	if err := out.Chmod(0o644); err != nil {
		return err
	}
	// The identity of a .rpm, apart from its signature.
	plain := md5.New()
	if headers != nil {
		if err := headers.Payload(f, plain); err != nil {
			return err
		}
		err = headers.Signed(f, out, key)
	} else if _, err = f.Seek(0, io.SeekStart); err == nil {
		_, err = io.Copy(io.MultiWriter(out, plain), f)
	}
	if err != nil {
		return err
	}
	sum := sha256.New()
	if _, err := out.Seek(0, io.SeekStart); err != nil {
		return err
	}
	if e.Size, err = io.Copy(sum, out); err != nil {
		return err
	}
	e.SHA256, e.MD5 = fmt.Sprintf("%x", sum.Sum(nil)), fmt.Sprintf("%x", plain.Sum(nil))
	if look {
		return nil
	}
	if err := out.Sync(); err != nil {
		return err
	}
	return durable.Rename(out.Name(), to)
}

// Wrong is something that differs from what the repository says.
type Wrong struct {
	File string `json:"file"`
	What string `json:"what"`
}

// Check reads every package, and the published files, and reports what is wrong.
func (r *Repository) Check(ctx context.Context) (wrong []Wrong, packages int, err error) {
	if err := r.ours(); err != nil {
		return nil, 0, err
	}
	entries, number, err := r.inUse()
	if err != nil {
		return nil, 0, err
	}
	for _, e := range entries {
		if err := ctx.Err(); err != nil {
			return wrong, len(entries), err
		}
		f, err := safefs.Open(filepath.Join(r.Dir, e.File))
		if errors.Is(err, fs.ErrNotExist) {
			wrong = append(wrong, Wrong{e.File, "it is gone"})
			continue
		}
		if errors.Is(err, safefs.ErrNotRegular) {
			wrong = append(wrong, Wrong{e.File, "it is not a file"})
			continue
		}
		if err != nil {
			return wrong, len(entries), err
		}
		sum := sha256.New()
		_, err = io.Copy(sum, f)
		f.Close()
		if err != nil {
			return wrong, len(entries), err
		}
		if fmt.Sprintf("%x", sum.Sum(nil)) != e.SHA256 {
			wrong = append(wrong, Wrong{e.File, "it is not the package that was added"})
		}
	}
	return append(wrong, r.published(number, entries)...), len(entries), nil
}

func taken(name, version string) error {
	return problem.New(problem.Other, name, "the repository already has another package %s %s", name, version).
		Remedy(problem.RaiseRebuild, "rename")
}
