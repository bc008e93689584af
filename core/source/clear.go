package source

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"fernladder/core/filelock"
	"fernladder/core/ground"
)

// Clear deletes everything in the store that nobody is bringing there, and says how
// many files somebody is. Locks stay.
func (a *Archives) Clear(ctx context.Context) (kept int, err error) {
	// What is deleted, and the lock that whoever brings it holds.
	lockOf := map[string]string{}
	for pattern, lock := range map[string]func(base string) string{
		"sha*/*":    func(base string) string { return filepath.Join(a.partials(), stem(base)+".lock") },
		"partial/*": func(base string) string { return filepath.Join(a.partials(), stem(base)+".lock") },
		"git/*":     func(base string) string { return filepath.Join(a.Dir, "git", stem(base)+".lock") },
		"svn/*":     func(base string) string { return filepath.Join(a.Dir, "svn", stem(base)+".lock") },
	} {
		files, err := filepath.Glob(filepath.Join(a.Dir, pattern))
		if err != nil {
			return 0, err
		}
		for _, file := range files {
			if !strings.HasSuffix(file, ".lock") {
				lockOf[file] = lock(filepath.Base(file))
			}
		}
	}
	for file, lock := range lockOf {
		if ctx.Err() != nil {
			return kept, ctx.Err()
		}
		if err := os.MkdirAll(filepath.Dir(lock), 0o755); err != nil {
			return kept, err
		}
		unlock, err := filelock.Now(lock)
		if errors.Is(err, filelock.ErrHeld) {
			kept++
			continue
		}
		if err != nil {
			return kept, err
		}
		err = ground.Remove(file)
		unlock()
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return kept, err
		}
	}
	return kept, nil
}

func (a *Archives) partials() string { return filepath.Join(a.Dir, "partial") }

// stem is the digest, or the id of a repository, that a file of the store is named
// by.
func stem(base string) string {
	base, _, _ = strings.Cut(strings.TrimPrefix(base, "."), ".")
	return base
}
