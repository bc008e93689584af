// Package lock reads and writes ladder.lock, the file that says exactly what a
// ladder resolved to: the release of each package, the digests and commits of
// its sources, its options, and the build id that all this makes on one kind of
// machine; and which commit the head of a branch is taken to be.
//
// The file is TOML in a stable order, so that it is kept under version control
// with small differences. It is replaced as a whole or not at all.
package lock

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"

	"fernladder/core/durable"
	"fernladder/core/problem"
	"fernladder/core/recipe"
	"fernladder/core/safefs"
	"fernladder/core/tomlfile"
	"fernladder/core/version"
)

// FileName is the name of a lock file.
const FileName = "ladder.lock"

// largestFile is more than any ladder takes.
const largestFile = 64 << 20

// A File is the contents of a lock file.
type File struct {
	Path, Shown string
	There       bool     // there is such a file
	Tips        []*Tip   // by name
	Builds      []*Build // by name, those apart last
	Shelves     []*Shelf // with keys, as they were last accepted
	Arch        string   // of the machine that the build ids are for
	Compilers   []string // of the machine that the build ids are for, sorted
}

// A Tip is the head of a branch as it was when it was pinned.
type Tip struct {
	tomlfile.Position
	Name       string
	Repository string
	Branch     string // "" for Subversion
	Commit     string // or revision
	Version    version.Version
}

// A Shelf is the commit of a shelf with keys that was last accepted.
type Shelf struct {
	tomlfile.Position
	Git, Dir, Commit string
}

// Accepted is the last accepted commit of a shelf; "" if there is none.
func (f *File) Accepted(git, dir string) string {
	for _, s := range f.Shelves {
		if s.Git == git && s.Dir == dir {
			return s.Commit
		}
	}
	return ""
}

// Accept notes the accepted commit of a shelf.
func (f *File) Accept(git, dir, commit string) {
	f.Shelves = slices.DeleteFunc(f.Shelves, func(s *Shelf) bool { return s.Git == git && s.Dir == dir })
	f.Shelves = append(f.Shelves, &Shelf{Git: git, Dir: dir, Commit: commit})
}

// A Build is one package of a ladder.
type Build struct {
	tomlfile.Position
	Name    string
	Version version.Version
	ID      string
	Source  []string // digest, commit or revision of each part
	Options []string // those that are changed from default, as NAME=VALUE
	Needs   []string // names of the packages it is built with
	Asked   bool     // by a person, rather than needed by another
	Apart   bool     // a tool of one package, beside another build for the others
}

func keys(f *File) []tomlfile.Key {
	format := 0
	return []tomlfile.Key{
		tomlfile.Number("format", &format, 1, 1, "The version of this format. It is 1.").Must(),
		tomlfile.Text("arch", &f.Arch, "The architecture that the build ids are for."),
		tomlfile.Texts("compilers", &f.Compilers, "The compilers that the build ids are for."),
		tomlfile.Tables("tip", &f.Tips, func(t *Tip) []tomlfile.Key {
			return []tomlfile.Key{
				tomlfile.Text("name", &t.Name, "The package.").Must().Check(recipe.CheckName),
				tomlfile.Text("repository", &t.Repository, "The URL of its repository.").Must().Check(recipe.CheckRepository),
				tomlfile.Text("branch", &t.Branch, "The branch."),
				tomlfile.Text("commit", &t.Commit, "The commit or revision.").Must(),
				tomlfile.Parsed("version", "version", &t.Version, version.Parse, "Its version.").Must(),
			}
		}, "The head of a branch."),
		tomlfile.Tables("shelf", &f.Shelves, func(s *Shelf) []tomlfile.Key {
			return []tomlfile.Key{
				tomlfile.Text("git", &s.Git, "The URL of its repository.").Must(),
				tomlfile.Text("dir", &s.Dir, "Its folder of the repository."),
				tomlfile.Text("commit", &s.Commit, "The commit.").Must(),
			}
		}, "A shelf with keys, at the commit that was last accepted."),
		tomlfile.Tables("build", &f.Builds, func(b *Build) []tomlfile.Key {
			return []tomlfile.Key{
				tomlfile.Text("name", &b.Name, "The package.").Must().Check(recipe.CheckName),
				tomlfile.Parsed("version", "version", &b.Version, version.Parse, "Its version.").Must(),
				tomlfile.Text("id", &b.ID, "The build id.").Must(),
				tomlfile.Texts("source", &b.Source, "The digest, commit or revision of each part of its source.").Must(),
				tomlfile.Texts("options", &b.Options, "Options that differ from the default.").Check(mustBeSetting),
				tomlfile.Texts("needs", &b.Needs, "The packages it is built with.").Check(recipe.CheckName),
				tomlfile.Flag("asked", &b.Asked, "True for packages that were requested."),
				tomlfile.Flag("apart", &b.Apart, "True for a tool of one package, beside another build for the others."),
			}
		}, "A package of a ladder."),
	}
}

func mustBeSetting(text string) error {
	if name, _, is := strings.Cut(text, "="); !is || name == "" {
		return fmt.Errorf("%q should be NAME=VALUE", text)
	}
	return nil
}

// Read reads a lock file; one that is not there is empty. Errors are
// tomlfile.Problems.
func Read(path, shown string) (*File, error) {
	f := &File{Path: path, Shown: shown, There: true}
	data, err := safefs.ReadFile(path, largestFile)
	if errors.Is(err, fs.ErrNotExist) {
		f.There = false
		return f, nil
	}
	if err != nil {
		return nil, tomlfile.Problems{{Position: tomlfile.Position{File: shown},
			Message: fmt.Sprintf("this lock file cannot be read: %v", err)}}
	}
	if err := f.parse(data); err != nil {
		return nil, err
	}
	return f, nil
}

// parse reads what a lock file says.
func (f *File) parse(data []byte) error {
	if err := tomlfile.Read(f.Shown, data, keys(f)).Err(); err != nil {
		return err
	}
	for i, t := range f.Tips {
		if slices.ContainsFunc(f.Tips[:i], func(other *Tip) bool { return other.Name == t.Name }) {
			return twice(t.Position, "[[tip]]", "the tip of %s is pinned twice", t.Name)
		}
	}
	for i, b := range f.Builds {
		if slices.ContainsFunc(f.Builds[:i], func(other *Build) bool {
			return other.Name == b.Name && !other.Apart && !b.Apart
		}) {
			return twice(b.Position, "[[build]]", "%s is locked twice", b.Name)
		}
	}
	return nil
}

func twice(at tomlfile.Position, source, format, name string) error {
	return tomlfile.Problems{{Position: at, Message: fmt.Sprintf(format, name), Advice: "delete one of them",
		Source: source}}
}

// Pin returns the pin for the tip of a recipe. A pin for another repository or
// branch than the recipe's does not count.
func (f *File) Pin(r *recipe.Recipe) (recipe.Pin, bool) {
	tip := r.Tip()
	for _, t := range f.Tips {
		if tip != nil && t.Name == r.Name && t.Repository == tip.Repository() && t.Branch == tip.Branch {
			return recipe.Pin{Commit: t.Commit, Version: t.Version}, true
		}
	}
	return recipe.Pin{}, false
}

// SetTip pins the tip of a recipe.
func (f *File) SetTip(r *recipe.Recipe, p recipe.Pin) {
	tip := r.Tip()
	f.Tips = slices.DeleteFunc(f.Tips, func(t *Tip) bool { return t.Name == r.Name })
	f.Tips = append(f.Tips, &Tip{Name: r.Name, Repository: tip.Repository(), Branch: tip.Branch, Commit: p.Commit,
		Version: p.Version})
}

// find returns the entry that b takes the place of, or nil. A tool apart takes
// the place of one in the same version.
func (f *File) find(b *Build) *Build {
	for _, other := range f.Builds {
		if other.Name == b.Name && other.Apart == b.Apart && (!b.Apart || other.Version.Compare(b.Version) == 0) {
			return other
		}
	}
	return nil
}

// SetBuilds locks the builds of a ladder. Entries of the same packages are
// replaced; those of other packages stay, unless only these are to.
func (f *File) SetBuilds(builds []*Build, only bool) {
	for _, b := range builds {
		b.Asked = b.Asked || !only && slices.Contains(f.Asked(), b.Name)
	}
	f.Builds = slices.DeleteFunc(slices.Clone(f.Builds), func(old *Build) bool {
		return only || slices.ContainsFunc(builds, func(b *Build) bool { return b.Name == old.Name })
	})
	f.Builds = append(f.Builds, builds...)
}

// Asked are the names of what is locked because a person has asked for it.
func (f *File) Asked() []string {
	var names []string
	for _, b := range f.Builds {
		if b.Asked {
			names = append(names, b.Name)
		}
	}
	return names
}

// Drop takes packages out, with what is locked only because they need it. A file that
// does not say what was asked for, as older ones do not, loses them alone.
func (f *File) Drop(names []string) {
	gone := func(name string) bool { return slices.Contains(names, name) }
	asked := f.Asked()
	f.Tips = slices.DeleteFunc(f.Tips, func(t *Tip) bool { return gone(t.Name) })
	f.Builds = slices.DeleteFunc(f.Builds, func(b *Build) bool { return gone(b.Name) })
	if len(asked) == 0 {
		return
	}
	stays := map[string]bool{}
	for queue := f.Asked(); len(queue) > 0; queue = queue[1:] {
		if stays[queue[0]] {
			continue
		}
		stays[queue[0]] = true
		for _, b := range f.Builds {
			if b.Name == queue[0] {
				queue = append(queue, b.Needs...)
			}
		}
	}
	f.Builds = slices.DeleteFunc(f.Builds, func(b *Build) bool { return !stays[b.Name] })
}

// Write replaces the file, if anything in it has changed. One that is not there is not
// made to say nothing.
func (f *File) Write() error {
	if !f.There && len(f.Builds)+len(f.Tips)+len(f.Shelves) == 0 {
		return nil
	}
	text := f.text()
	if old, err := safefs.ReadFile(f.Path, largestFile); err == nil && string(old) == text {
		return nil
	}
	if len(text) > largestFile {
		return fmt.Errorf("%s would have %d MiB, and at most %d are read", f.Shown, len(text)>>20, largestFile>>20)
	}
	if err := (&File{Path: f.Path, Shown: f.Shown}).parse([]byte(text)); err != nil {
		return err
	}
	f.There = true
	return durable.WriteFile(f.Path, []byte(text), 0o644)
}

// text is the file as it is written.
func (f *File) text() string {
	slices.SortFunc(f.Tips, func(a, b *Tip) int { return strings.Compare(a.Name, b.Name) })
	slices.SortStableFunc(f.Builds, func(a, b *Build) int {
		apart := map[bool]int{true: 1}
		return cmp.Or(strings.Compare(a.Name, b.Name), apart[a.Apart]-apart[b.Apart], a.Version.Compare(b.Version),
			strings.Compare(a.ID, b.ID))
	})
	var b strings.Builder
	b.WriteString("# What was resolved where the recipes leave it open. Fern Ladder writes this\n# file; keep it with " +
		"the recipes.\nformat = 1\n")
	line := func(key, value string) {
		if value != "" {
			fmt.Fprintf(&b, "%-10s = %s\n", key, tomlfile.Quote(value))
		}
	}
	list := func(key string, values []string) {
		if len(values) == 0 && key != "source" { // which has to be there
			return
		}
		quoted := make([]string, len(values))
		for i, v := range values {
			quoted[i] = tomlfile.Quote(v)
		}
		fmt.Fprintf(&b, "%-10s = [%s]\n", key, strings.Join(quoted, ", "))
	}
	if len(f.Builds) > 0 {
		line("arch", f.Arch)
		list("compilers", f.Compilers)
	}
	slices.SortFunc(f.Shelves, func(a, b *Shelf) int { return strings.Compare(a.Git+" "+a.Dir, b.Git+" "+b.Dir) })
	for _, s := range f.Shelves {
		b.WriteString("\n[[shelf]]\n")
		line("git", s.Git)
		line("dir", s.Dir)
		line("commit", s.Commit)
	}
	for _, t := range f.Tips {
		b.WriteString("\n[[tip]]\n")
		line("name", t.Name)
		line("repository", t.Repository)
		line("branch", t.Branch)
		line("commit", t.Commit)
		line("version", t.Version.String())
	}
	for _, e := range f.Builds {
		b.WriteString("\n[[build]]\n")
		line("name", e.Name)
		line("version", e.Version.String())
		line("id", e.ID)
		list("source", e.Source)
		list("options", e.Options)
		list("needs", e.Needs)
		if e.Asked {
			b.WriteString("asked      = true\n")
		}
		if e.Apart {
			b.WriteString("apart      = true\n")
		}
	}
	return b.String()
}

// Differs is the error for a ladder that is not the locked one.
type Differs struct {
	File  string
	Where []string // a sentence for each package that is different by itself
	Above int      // packages that differ only because of their needs
}

func (e *Differs) Error() string {
	text := fmt.Sprintf("This ladder differs from %s:", e.File)
	for _, where := range e.Where {
		text += "\n    " + where
	}
	if e.Above > 0 {
		text += fmt.Sprintf("\n    %d more would be built differently, because they depend on these", e.Above)
	}
	return text + "\n  Restore the shelves, or lock this ladder."
}

// Compare returns a *Differs error where the builds of a ladder, those that need
// others after those, are not the locked ones. Build ids count where the file
// has them for a machine of the same kind.
func (f *File) Compare(builds []*Build, arch string, compilers []string) error {
	e := &Differs{File: f.Shown}
	same := arch == f.Arch && !slices.ContainsFunc(compilers, func(c string) bool {
		return !slices.Contains(f.Compilers, c)
	})
	changed := map[string]bool{}
	for _, b := range builds {
		locked := f.find(b)
		switch {
		case locked == nil:
			e.Where = append(e.Where, fmt.Sprintf("%s %s is not locked", b.Name, b.Version))
		case locked.Version.Compare(b.Version) != 0:
			e.Where = append(e.Where, fmt.Sprintf("%s would be %s, but is locked to %s (%s)", b.Name, b.Version, locked.Version,
				locked.Position))
		case !slices.Equal(locked.Source, b.Source):
			e.Where = append(e.Where, fmt.Sprintf("the source of %s %s would be %s, but is locked to %s (%s)",
				b.Name, b.Version, strings.Join(b.Source, ", "), strings.Join(locked.Source, ", "), locked.Position))
		case !slices.Equal(locked.Options, b.Options):
			e.Where = append(e.Where, fmt.Sprintf("%s %s would be built with %s, but is locked to %s (%s)", b.Name, b.Version,
				settings(b.Options), settings(locked.Options), locked.Position))
		case same && locked.ID != b.ID && slices.ContainsFunc(b.Needs, func(n string) bool { return changed[n] }):
			e.Above++
		case same && locked.ID != b.ID:
			e.Where = append(e.Where,
				fmt.Sprintf("%s %s would be built differently: its recipe, patches or supplies have changed (%s)", b.Name,
					b.Version, locked.Position))
		default:
			continue
		}
		changed[b.Name] = true
	}
	if len(e.Where) == 0 && e.Above == 0 {
		return nil
	}
	return e
}

func settings(options []string) string {
	if len(options) == 0 {
		return "its default options"
	}
	return strings.Join(options, ", ")
}

// ProblemKind is the kind of the error.
func (e *Differs) ProblemKind() problem.Kind { return problem.NoLadder }

// ProblemRemedies are to move the lock.
func (e *Differs) ProblemRemedies() []problem.Remedy {
	return []problem.Remedy{problem.Do(problem.MoveLock)}
}
