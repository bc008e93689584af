package tinker

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"fernladder/core/compare"
	"fernladder/core/durable"
	"fernladder/core/install"
	"fernladder/core/machine"
	"fernladder/core/problem"
	"fernladder/core/recipe"
	"fernladder/core/store"
	"fernladder/core/tomlfile"
)

// Kept is the outcome of keeping a change.
type Kept struct {
	Patch       string              `json:"patch"`       // the file, beside the recipe
	Recipe      string              `json:"recipe"`      // the file that names it now
	Lines       int                 `json:"lines"`       // of the patch
	Build       store.Ref           `json:"build"`       // of the current recipe
	Differences []compare.Different `json:"differences"` // of that build from the tinkered one
}

// Keep writes the changes of the folder as a patch beside the recipe, adds it to the release in
// the recipe, builds the package from that recipe, and compares the result with the tinkered
// build. If the patched recipe does not build, recipe and patches are restored.
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
		return nil, problem.New(problem.Usage, b.Folder, "nothing is changed in %s", b.Folder)
	}
	for line := range strings.Lines(text) {
		if names, is := strings.CutPrefix(line, "Binary files "); is {
			return nil, problem.New(problem.Usage, "", "a patch can only have text: %s",
				strings.TrimSpace(strings.TrimSuffix(strings.TrimSpace(names), " differ")))
		}
	}
	t, _, err := b.Build(ctx, m) // the current contents of the folder are compared
	if err != nil {
		return nil, err
	}
	r, err := m.Shelves.Find(b.Name)
	if err != nil {
		return nil, err
	}
	if strings.HasPrefix(r.Dir, filepath.Join(m.Store.Root, "shelves")+"/") {
		return nil, problem.New(problem.Usage, r.File,
			"%s is on a shelf that is a repository, and cannot be changed here; copy its folder to a shelf of your own, "+
				"before that one, and keep the change there", r.File)
	}
	release := releaseOf(r, b)
	if release == nil {
		return nil, problem.New(problem.Usage, r.File, "%s no longer has release %s", r.File, b.release())
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
	again, err := m.With(func(*machine.Config) {}) // which reads the current recipe
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
	if k.Differences, err = compare.Trees(compare.Place{Dir: t.Placed(), Tree: t.Job.Tree},
		compare.Place{Dir: job.Tree, Tree: job.Tree}); err != nil {
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
	if name != filepath.Base(name) || !strings.HasSuffix(name, ".patch") || strings.HasPrefix(name, ".") ||
		strings.ContainsAny(name, "\\\"'\n$") {
		return "", problem.New(problem.Usage, name,
			"%q cannot be the name of a patch; it goes into patches, beside the recipe, for example: thirsty-seedlings.patch",
			name)
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
		return problem.New(problem.Usage, file, "%s already exists; give the patch another name", file)
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
