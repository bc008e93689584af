package build

import (
	"context"
	"os"
	"path/filepath"
	"strings"

	"fernladder/core/keyfile"
	"fernladder/core/recipe"
	"fernladder/core/source"
)

// CheckPatches applies the patches of a recipe's releases to those archives
// that are here, in a temporary directory below dir, and returns a doubt for
// each that does not apply. Releases whose archive is not here are passed over.
func (w *Workshop) CheckPatches(ctx context.Context, r *recipe.Recipe, dir string) (keyfile.Problems, error) {
	var doubts keyfile.Problems
	archives := source.Archives{Dir: w.Store.Archives()}
	for _, x := range r.Releases {
		if len(x.Patches) == 0 || x.Repository() != "" || !archives.Has(x.Digest) {
			continue
		}
		failed, says, err := w.tryPatches(ctx, r, x, archives.Path(x.Digest), dir)
		if err != nil {
			return doubts, err
		}
		if failed != "" {
			at := x.Position
			at.File = r.File
			doubts = append(doubts, keyfile.Problem{Position: at, Source: "[[release]]",
				Message: "the patch " + failed + " does not apply to " + x.Version.String() + ": " + says, Advice: "its archive is here, so this was tried"})
		}
	}
	return doubts, nil
}

// tryPatches returns the first patch that does not apply, and what patch says.
func (w *Workshop) tryPatches(ctx context.Context, r *recipe.Recipe, x *recipe.Release, archive, dir string) (failed, says string, err error) {
	fresh, err := os.MkdirTemp(dir, "patches-")
	if err != nil {
		return "", "", w.Store.Wrap(err)
	}
	defer os.RemoveAll(fresh)
	if _, err := source.Unpack(ctx, archive, fresh, w.Limits); err != nil {
		return "", "", err
	}
	top, err := source.Top(fresh)
	if err != nil {
		return "", "", err
	}
	log, err := os.Create(filepath.Join(dir, filepath.Base(fresh)+".log"))
	if err != nil {
		return "", "", err
	}
	defer os.Remove(log.Name())
	defer log.Close()
	for _, patch := range x.Patches {
		argv := patchCommand(filepath.Join(r.Dir, patch))
		env := []string{"PATH=" + strings.Join(w.Programs.Path, ":"), "LC_ALL=C"}
		if err := (process{dir: top, argv: argv, env: env, output: log}).run(ctx); err != nil {
			if ctx.Err() != nil {
				return "", "", ctx.Err()
			}
			return patch, strings.Join(lastLines(log.Name(), 2), "; "), nil
		}
	}
	return "", "", nil
}

func lastLines(file string, most int) []string {
	lines := excerpt(file, most)
	return lines[max(0, len(lines)-most):]
}

// patchCommand applies a patch in the directory it runs in.
func patchCommand(file string) []string {
	return []string{"patch", "-p1", "--batch", "--forward", "--input=" + file}
}
