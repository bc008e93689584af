package source

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"fernladder/core/filelock"
	"fernladder/core/safefs"
)

// A Stored file is an archive or a repository in the store.
type Stored struct {
	File  string
	Stem  string // the digest, or the id of a repository, that it is named by
	Size  int64
	Wrote time.Time

	lock string // that whoever brings it holds
}

// All lists the store, including what is being fetched.
func (a *Archives) All() ([]Stored, error) {
	var all []Stored
	for pattern, locks := range map[string]string{"sha*/*": a.partials(), "partial/*": a.partials(),
		"git/*": filepath.Join(a.Dir, "git"), "svn/*": filepath.Join(a.Dir, "svn")} {
		files, err := filepath.Glob(filepath.Join(a.Dir, pattern))
		if err != nil {
			return nil, err
		}
		for _, file := range files {
			info, err := os.Lstat(file)
			if strings.HasSuffix(file, ".lock") || err != nil {
				continue
			}
			base := stem(filepath.Base(file))
			size := info.Size()
			if info.IsDir() {
				size = safefs.Size(file)
			}
			all = append(all, Stored{file, base, size, info.ModTime(), filepath.Join(locks, base+".lock")})
		}
	}
	slices.SortFunc(all, func(a, b Stored) int { return strings.Compare(a.File, b.File) })
	return all, nil
}

// Delete deletes files of the store that no process is fetching. It returns the number of bytes
// freed, and of files that another process is fetching. Locks stay.
func (a *Archives) Delete(ctx context.Context, files []Stored) (freed int64, kept int, err error) {
	for _, f := range files {
		if ctx.Err() != nil {
			return freed, kept, ctx.Err()
		}
		if err := os.MkdirAll(filepath.Dir(f.lock), 0o777); err != nil {
			return freed, kept, err
		}
		unlock, err := filelock.Now(f.lock)
		if errors.Is(err, filelock.ErrHeld) {
			kept++
			continue
		}
		if err != nil {
			return freed, kept, err
		}
		err = safefs.Remove(f.File)
		unlock()
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return freed, kept, err
		}
		freed += f.Size
	}
	return freed, kept, nil
}

func (a *Archives) partials() string { return filepath.Join(a.Dir, "partial") }

// stem is the digest, or the id of a repository, in the name of a file of the store.
func stem(base string) string {
	base, _, _ = strings.Cut(strings.TrimPrefix(base, "."), ".")
	return base
}
