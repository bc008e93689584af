package tinker

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"fernladder/core/compare"
	"fernladder/core/durable"
	"fernladder/core/install"
	"fernladder/core/machine"
	"fernladder/core/recipe"
	"fernladder/core/store"
	"fernladder/core/tomlfile"
)

// Unchanged is the error for a folder in which nothing was changed.
type Unchanged struct{ Folder string }

func (e *Unchanged) Error() string { return "nothing is changed in " + e.Folder }

// BadPatch is the error for a patch that cannot be.
type BadPatch struct{ Message string }

func (e *BadPatch) Error() string { return e.Message }

// Kept is what came of keeping a change.
type Kept struct {
	Patch       string              `json:"patch"`       // the file, beside the recipe
	Recipe      string              `json:"recipe"`      // the file that names it now
	Lines       int                 `json:"lines"`       // of the patch
	Build       store.Ref           `json:"build"`       // of the recipe as it is now
	Differences []compare.Different `json:"differences"` // of that build to what was tinkered
}

// Keep writes the changes of the folder as a patch beside the recipe, adds it to the
// release in the recipe, builds the package by that recipe, and compares what comes of it
// with what was tinkered. Where the patched recipe does not build, recipe and patches are
// as they were. Errors are of type *Unchanged, *BadPatch, or those of builds.
func (b *Bench) Keep(ctx context.Context, m *machine.Machine, name string) (*Kept, error) {
	name, err := patchName(name)
	if err != nil {
		return nil, err
	}
	git := m.Programs.Find("git")
	text, err := difference(ctx, git, b.Folder, b.Base)
	if err != nil {
		return nil, err
	}
	if text == "" {
		return nil, &Unchanged{b.Folder}
	}
	for line := range strings.Lines(text) {
		if names, is := strings.CutPrefix(line, "Binary files "); is {
			return nil, &BadPatch{"a patch cannot have what is no text: " + strings.TrimSpace(strings.TrimSuffix(strings.TrimSpace(names), " differ"))}
		}
	}
	t, _, err := b.Build(ctx, m) // what is compared is what is in the folder now
	if err != nil {
		return nil, err
	}
	r, err := m.Shelves.Find(b.Name)
	if err != nil {
		return nil, err
	}
	if strings.HasPrefix(r.Dir, filepath.Join(m.Store.Root, "shelves")+"/") {
		return nil, &BadPatch{r.File + " is of a shelf that is a repository, and stays as that has it; copy its folder to a shelf of your own, before that one, and keep the change there"}
	}
	release := releaseOf(r, b)
	if release == nil {
		return nil, &BadPatch{fmt.Sprintf("%s has no release %s any more", r.File, b.release())}
	}
	k := &Kept{Patch: filepath.Join(r.Dir, "patches", name), Recipe: r.File, Lines: strings.Count(text, "\n")}
	before, err := r.OnShelf(recipe.FileName).ReadFile(recipe.Largest)
	if err != nil {
		return nil, err
	}
	if err := b.addPatch(r, slices.Index(r.Releases, release), release, name, text); err != nil {
		return nil, err
	}
	undo := func(err error) (*Kept, error) {
		back := r.Rewrite(func([]byte) ([]byte, error) { return before, nil })
		return nil, errors.Join(err, back, durable.Remove(k.Patch))
	}
	again, err := m.With(func(*machine.Config) {}) // which reads the recipe as it is now
	if err != nil {
		return undo(err)
	}
	p, job, err := b.job(ctx, again)
	if err != nil {
		return undo(err)
	}
	if _, err := install.Run(ctx, again, p); err != nil {
		return undo(err)
	}
	k.Build = job.Ref
	if k.Differences, err = compare.Trees(compare.Place{Dir: t.Placed(), Tree: t.Job.Tree}, compare.Place{Dir: job.Tree, Tree: job.Tree}); err != nil {
		return k, err
	}
	if b.Base, err = commit(ctx, git, b.Folder, "Kept as patches/"+name); err != nil {
		return k, err
	}
	b.Kept = append(b.Kept, name)
	return k, b.write(m.Store)
}

// patchName is the name of a patch beside a recipe.
func patchName(name string) (string, error) {
	name = strings.TrimPrefix(name, "patches/")
	if name != filepath.Base(name) || !strings.HasSuffix(name, ".patch") || strings.HasPrefix(name, ".") || strings.ContainsAny(name, "\\\"'\n$") {
		return "", &BadPatch{fmt.Sprintf("%q cannot be the name of a patch; it goes into patches, beside the recipe, for example: thirsty-seedlings.patch", name)}
	}
	return name, nil
}

func releaseOf(r *recipe.Recipe, b *Bench) *recipe.Release {
	for _, x := range r.Releases {
		if b.release() == "tip" && x.Track == recipe.Tip || x.Track != recipe.Tip && x.Version.String() == b.Version {
			return x
		}
	}
	return nil
}

// addPatch writes a patch, and then its name into the recipe.
func (b *Bench) addPatch(r *recipe.Recipe, index int, release *recipe.Release, name, text string) error {
	file := filepath.Join(r.Dir, "patches", name)
	if err := os.Mkdir(filepath.Dir(file), 0o755); err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	if _, err := os.Lstat(file); err == nil {
		return &BadPatch{file + " is there already; give the patch another name"}
	}
	if err := durable.WriteFile(file, []byte(text), 0o644); err != nil {
		return err
	}
	patches := append(slices.Clone(release.Patches), "patches/"+name)
	err := r.Change(func(e *tomlfile.Edit) { e.SetInList("release", index, "patches", tomlfile.QuoteList(patches)) })
	if err != nil {
		return errors.Join(err, durable.Remove(file))
	}
	return nil
}
