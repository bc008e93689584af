package session

import (
	"cmp"
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"fernladder/core/advice"
	"fernladder/core/build"
	"fernladder/core/clean"
	"fernladder/core/compare"
	"fernladder/core/host"
	"fernladder/core/landing"
	"fernladder/core/problem"
	"fernladder/core/safefs"
	"fernladder/core/source"
	"fernladder/core/store"
)

// Find is the installed build that a person names.
func (s *Session) Find(text string) (*store.Receipt, error) { return landing.FindBuild(s.Store, text) }

// A ListRequest says which builds to list. The zero value: all.
type ListRequest struct {
	Landing bool          // only builds on the landing
	Unused  bool          // only builds that no state of the landing needs
	Older   time.Duration // only older builds
	Larger  int64         // only larger builds, in bytes
	BySize  bool          // the largest first
}

// ListReport is the builds that exist.
type ListReport struct {
	Root    string        `json:"root"`
	Landing int           `json:"landing"`
	Builds  []ListedBuild `json:"builds"`

	All      []*store.Receipt `json:"-"` // of the root
	Receipts []*store.Receipt `json:"-"` // of the builds
}

// A ListedBuild is a build whose tree exists.
type ListedBuild struct {
	store.Ref
	Summary string `json:"summary"`
	Landing string `json:"landing"` // asked, needed, beside or no
	Preset  string `json:"preset,omitempty"`
	Size    int64  `json:"size"`
	Began   string `json:"built"`
	Tree    string `json:"tree"`
	Prefix  string `json:"prefix,omitempty"` // the directory it was built for, where that is not its tree
}

// List lists the builds whose trees exist.
func (s *Session) List(r ListRequest) (*ListReport, error) {
	all, err := s.Store.Receipts()
	if err != nil {
		return nil, err
	}
	current, err := landing.Current(s.Store)
	if err != nil {
		return nil, err
	}
	unused := map[store.Ref]bool{}
	if r.Unused {
		found, err := clean.Find(s.Machine, clean.What{Trees: true})
		if err != nil {
			return nil, err
		}
		for _, x := range found.Trees {
			unused[x.Ref] = true
		}
	}
	on := current.ByRef()
	report := &ListReport{Root: s.Store.Root, Landing: current.Number, Builds: []ListedBuild{}, All: all}
	report.Receipts = slices.DeleteFunc(slices.Clone(all), func(x *store.Receipt) bool {
		return r.Landing && on[x.Ref] == nil || r.Unused && !unused[x.Ref] || s.Since(x.Began) < r.Older ||
			x.Size < r.Larger
	})
	if r.BySize {
		slices.SortStableFunc(report.Receipts, func(a, b *store.Receipt) int { return cmp.Compare(b.Size, a.Size) })
	}
	for _, x := range report.Receipts {
		preset := x.Preset // as known when it was built, or as requested last
		if m := on[x.Ref]; m != nil && m.Preset != "" {
			preset = m.Preset
		}
		report.Builds = append(report.Builds, ListedBuild{x.Ref, x.Summary, on[x.Ref].How(), preset, x.Size,
			x.Began.Format(time.RFC3339), x.Tree, x.Prefix})
	}
	return report, nil
}

// FilesReport is the files of an installed build.
type FilesReport struct {
	Tree  string       `json:"tree"`
	Files []store.File `json:"files"`
}

// Files lists the files of an installed build.
func (s *Session) Files(name string) (*FilesReport, error) {
	if strings.Contains(name, "/") {
		return nil, problem.New(problem.Usage, name, "%s is a path; name a package, to see its files", name)
	}
	r, err := s.Find(name)
	if err != nil {
		return nil, err
	}
	files, err := s.Store.Files(r.Ref)
	if err != nil {
		return nil, err
	}
	return &FilesReport{r.Tree, slices.DeleteFunc(files, func(f store.File) bool { return f.Mode&fs.ModeDir != 0 })}, nil
}

// An Owner is what a file belongs to.
type Owner struct {
	File    string    `json:"file"` // as it was asked for
	Package string    `json:"package,omitempty"`
	Build   store.Ref `json:"build,omitzero"`
	InTree  string    `json:"in_tree,omitempty"` // the path below the tree
	Config  bool      `json:"config,omitempty"`
	Foreign bool      `json:"foreign,omitempty"`        // in the tree, but not part of the build
	System  string    `json:"system_package,omitempty"` // of the operating system
	On      string    `json:"landing,omitempty"`        // asked, needed, beside or no
}

// Owners says which builds files belong to. Its error names the files that belong to none;
// missing are those of them that do not exist.
func (s *Session) Owners(ctx context.Context, files []string) (owners []Owner, missing []string, err error) {
	current, err := landing.Current(s.Store)
	if err != nil {
		return nil, nil, err
	}
	owners = []Owner{}
	var none []string
	for _, file := range files {
		found, err := s.owner(file)
		if errors.Is(err, fs.ErrNotExist) {
			missing, none = append(missing, file), append(none, file)
			continue
		}
		if err != nil {
			return nil, nil, err
		}
		for i := range found {
			if found[i].Build.Name != "" {
				found[i].On = current.How(found[i].Build)
			}
		}
		if len(found) == 0 {
			found = []Owner{{File: file, System: s.systemOwner(ctx, file)}}
			none = append(none, file)
		}
		owners = append(owners, found...)
	}
	switch len(none) {
	case 0:
		return owners, missing, nil
	case 1:
		return owners, missing, problem.New(problem.Other, none[0], "%s belongs to no package of Fern Ladder", none[0]).
			Coded(problem.Verdict)
	}
	return owners, missing, problem.New(problem.Other, none[0], "%s belong to no package of Fern Ladder",
		strings.Join(none, ", ")).Coded(problem.Verdict)
}

// owner finds what a file belongs to. A name without a slash is a program of the landing, or
// else any file of that name in a tree.
func (s *Session) owner(file string) ([]Owner, error) {
	path, err := filepath.Abs(file)
	if err != nil {
		return nil, err
	}
	_, here := os.Lstat(path)
	if !strings.Contains(file, "/") && here != nil {
		for _, dir := range []string{"bin", "sbin"} {
			if program := filepath.Join(s.Used(), dir, file); safefs.Exists(program) {
				path, here = program, nil
				break
			}
		}
	}
	if !strings.Contains(file, "/") && here != nil {
		found, err := s.Store.Named(file)
		if err != nil {
			return nil, err
		}
		var all []Owner
		for _, o := range found {
			all = append(all, Owner{File: file, Package: o.Name, Build: o.Build, InTree: o.File})
		}
		return all, nil
	}
	o, ours, err := s.Store.OwnerOf(path)
	if err != nil || !ours {
		return nil, err
	}
	return []Owner{{File: file, Package: o.Name, Build: o.Build, InTree: o.File, Config: o.Config,
		Foreign: !o.Listed}}, nil
}

// systemOwner is the operating system's package that has a file, or "".
func (s *Session) systemOwner(ctx context.Context, file string) string {
	path, err := filepath.Abs(file)
	if err != nil || s.Packages == nil {
		return ""
	}
	paths := host.Spellings(path)
	owners, err := s.Packages.Owning(ctx, paths)
	if err != nil {
		return ""
	}
	for _, p := range paths {
		if owners[p] != "" {
			return owners[p]
		}
	}
	return ""
}

// Compare sets two builds side by side. Each is a name, or the directory of a tree.
func (s *Session) Compare(a, b string) (*compare.Report, [2]compare.Side, error) {
	var sides [2]compare.Side
	for i, text := range []string{a, b} {
		var err error
		if sides[i], err = s.side(text); err != nil {
			return nil, sides, err
		}
	}
	r, err := compare.Compare(sides[0], sides[1])
	return r, sides, err
}

func (s *Session) side(text string) (compare.Side, error) {
	if !strings.Contains(text, "/") {
		r, err := s.Find(text)
		if err != nil {
			return compare.Side{}, err
		}
		return compare.Installed(s.Store, r)
	}
	dir, err := filepath.Abs(text)
	if err != nil {
		return compare.Side{}, err
	}
	if real, err := filepath.EvalSymlinks(dir); err == nil {
		dir = real
	}
	side, err := compare.Elsewhere(dir)
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, os.ErrInvalid) {
		return side, problem.New(problem.Usage, text, "%s is not a tree: it has no share/fernladder/receipt.json", text)
	}
	return side, err
}

// Tried is what came of the tries of a build.
type Tried struct {
	Package string            `json:"package"`
	Version string            `json:"version"`
	Tries   []build.TryResult `json:"tries"`
}

// Try runs the tries of installed builds again. Its error counts those that failed. Done is
// called after each build; nil: it is not.
func (s *Session) Try(ctx context.Context, names []string, done func(Tried)) ([]Tried, error) {
	if err := s.Store.Prepare(); err != nil {
		return nil, err
	}
	var all []Tried
	failed, tries := 0, 0
	for _, name := range names {
		r, err := s.Find(name)
		if err != nil {
			return all, err
		}
		results, err := build.Tries(ctx, s.Machine, r)
		if err != nil {
			return all, s.Store.Wrap(err)
		}
		x := Tried{r.Name, r.Version, listed(results)}
		all = append(all, x)
		for _, result := range results {
			tries++
			if result.Problem != "" {
				failed++
			}
		}
		if done != nil {
			done(x)
		}
	}
	if failed > 0 {
		return all, triesFailed(failed, tries)
	}
	return all, nil
}

// SupplyReport is which supplies of a recipe were brought, and which are missing.
type SupplyReport struct {
	Brought map[string]string `json:"brought"` // file to its path in the root
	Missing []string          `json:"missing"`

	About map[string]string `json:"-"` // the type of each file
	Order []string          `json:"-"` // of those that were brought
}

// Supply copies files that a recipe asks for into the root. Of a folder, it takes the files
// that the recipe asks for.
func (s *Session) Supply(ctx context.Context, name string, files []string) (*SupplyReport, error) {
	wanted, err := landing.ParseName(name)
	if err != nil {
		return nil, err
	}
	r, err := s.Shelves.Find(wanted.Name)
	if err != nil {
		return nil, err
	}
	if len(r.Supplies) == 0 {
		return nil, problem.New(problem.Usage, name, "%s needs no supplies (%s)", name, r.File)
	}
	if err := s.Store.Prepare(); err != nil {
		return nil, err
	}
	report := &SupplyReport{Brought: map[string]string{}, Missing: []string{}, About: map[string]string{}}
	for _, file := range files {
		found, err := s.Supplies.Add(ctx, file, r.Supplies)
		if errors.As(err, new(*source.WrongSupply)) || errors.As(err, new(*source.StoreError)) {
			return report, s.Stored(err)
		}
		if err != nil {
			return report, problem.New(problem.Usage, file, "%v", err)
		}
		for _, x := range found {
			report.Brought[x.File] = s.Supplies.Path(x.Digest)
			report.Order = append(report.Order, x.File)
		}
	}
	for _, x := range r.Supplies {
		report.About[x.File] = x.About
		if !s.Supplies.Has(x.Digest) {
			report.Missing = append(report.Missing, x.File)
		}
	}
	return report, nil
}

// Uses is what the last builds of packages used of the operating system without declaring
// it. With write, their recipes declare it.
func (s *Session) Uses(names []string, write bool) ([]*build.Used, error) {
	if len(names) == 0 {
		return nil, problem.New(problem.Usage, "", "the name of a package that was built is missing")
	}
	var builds []store.Ref
	for _, name := range names {
		if _, err := s.lastLogged(name); err != nil {
			return nil, err
		}
		last, found, err := landing.LastLogged(s.Store, name, func(r store.Ref) bool {
			_, err := build.UsedBy(s.Store, r)
			return err == nil
		})
		if err == nil && !found {
			err = problem.New(problem.Usage, name, "no build of %s recorded what it used", name).Remedy(problem.WatchBuild, name)
		}
		if err != nil {
			return nil, err
		}
		builds = append(builds, last)
	}
	return s.UsesOf(builds, write)
}

// UsesOf is the same of builds.
func (s *Session) UsesOf(builds []store.Ref, write bool) ([]*build.Used, error) {
	all := []*build.Used{}
	for _, b := range builds {
		u, err := build.UsedBy(s.Store, b)
		if errors.Is(err, fs.ErrNotExist) {
			continue // it was not built
		}
		if err != nil {
			return all, s.Store.Wrap(err)
		}
		r, err := s.Shelves.Find(b.Name)
		if err == nil {
			u.Uses = advice.Undeclared(r, u, s.System.Family)
		}
		all = append(all, u)
		if write && err == nil && len(u.Uses) > 0 {
			err = advice.WriteUses(r, u.Uses, s.System.Family)
		}
		if write && err != nil {
			return all, err
		}
	}
	return all, nil
}

// lastLogged is the build of a package that wrote a log last, whether it succeeded, failed or
// was interrupted.
func (s *Session) lastLogged(name string) (store.Ref, error) {
	last, found, err := landing.LastLogged(s.Store, name, func(store.Ref) bool { return true })
	if err == nil && !found {
		err = landing.NotBuilt(name, s.Store.Root)
	}
	return last, err
}

// Why says why an installed build is there, and what would go with it.
func (s *Session) Why(name string) (*store.Receipt, *clean.Reasons, error) {
	r, err := s.Find(name)
	if err != nil {
		return nil, nil, err
	}
	why, err := clean.Why(s.Machine, r.Ref)
	return r, why, err
}

// History returns the last builds of a package, or of all; the newest first.
func (s *Session) History(name string, most int) ([]store.Record, error) {
	records, err := s.Store.History().Latest(name, most)
	return append([]store.Record{}, records...), err
}

// ShowReport is the receipt of an installed build.
type ShowReport struct {
	*store.Receipt

	Landing     landing.State  `json:"-"` // that is in use
	Earlier     []store.Record `json:"-"` // the last builds of the package, the newest first
	ConfigFiles []string       `json:"-"` // its configuration files on this machine
}

// Show finds an installed build.
func (s *Session) Show(name string) (*ShowReport, error) {
	r, err := s.Find(name)
	if err != nil {
		return nil, err
	}
	report := &ShowReport{Receipt: r}
	if report.Landing, err = landing.Current(s.Store); err != nil {
		return nil, err
	}
	if r.Prefix == "" {
		for _, c := range r.Configs {
			report.ConfigFiles = append(report.ConfigFiles, s.Store.ConfigFile(r.Name, c.File))
		}
	}
	const few = 5
	report.Earlier, err = s.History(r.Name, few)
	return report, err
}
