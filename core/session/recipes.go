package session

import (
	"context"
	"errors"
	"path/filepath"

	"fernladder/core/build"
	"fernladder/core/draft"
	"fernladder/core/install"
	"fernladder/core/lock"
	"fernladder/core/plan"
	"fernladder/core/problem"
	"fernladder/core/recipe"
	"fernladder/core/signature"
	"fernladder/core/tomlfile"
	"fernladder/core/upstream"
	"fernladder/core/version"
)

// A CheckRequest names recipes to check; none: all on the shelves.
type CheckRequest struct {
	Names  []string
	Online bool // ask the sites that archives come from
	Fix    bool // write a need where a recipe uses the system's copy of another recipe's package

	// Fixed is called for each need that was written; nil: it is not.
	Fixed func(*recipe.Recipe, tomlfile.Problem)
}

// CheckReport is what is wrong with recipes.
type CheckReport struct {
	Recipes  int                 `json:"recipes"`
	Problems tomlfile.Problems   `json:"problems"`
	Warnings tomlfile.Problems   `json:"warnings"` // allowed, but probably not meant
	Hidden   map[string][]string `json:"hidden"`   // recipes that earlier shelves hide
	Nameless []string            `json:"nameless"` // packages of which no name elsewhere is known
}

// Check reads recipes and reports every mistake. Its error is the mistakes.
func (s *Session) Check(ctx context.Context, r CheckRequest) (*CheckReport, error) {
	if len(s.Settings.Shelves) == 0 {
		return nil, s.noShelf()
	}
	names, all := r.Names, len(r.Names) == 0
	var err error
	if all {
		if names, err = s.Shelves.Names(); err != nil {
			return nil, err
		}
	}
	var known *draft.Known
	if all || r.Fix { // it reads all recipes
		known, err = draft.Survey(s.Shelves, s.Store)
	} else {
		s.Shelves.ReadAll(names)
	}
	if err != nil {
		return nil, err
	}
	report := &CheckReport{Recipes: len(names), Problems: tomlfile.Problems{}, Warnings: tomlfile.Problems{},
		Nameless: []string{}}
	for _, name := range names {
		x, err := s.Shelves.Find(name)
		var found tomlfile.Problems
		if errors.As(err, &found) {
			report.Problems = append(report.Problems, found...)
			continue
		}
		if err != nil {
			return nil, err
		}
		warnings, err := s.warnings(ctx, x, r.Online)
		if err != nil {
			return nil, err
		}
		report.Warnings = append(report.Warnings, warnings...)
		if x.KnownAs.IsZero() {
			report.Nameless = append(report.Nameless, name)
		}
		if known == nil {
			continue
		}
		upward := known.Upward(x)
		if r.Fix && len(upward) > 0 {
			if err := x.Change(func(e *tomlfile.Edit) { known.Raise(x, e) }); err != nil {
				return nil, err
			}
			for _, p := range upward {
				if r.Fixed != nil {
					r.Fixed(x, p)
				}
			}
			continue
		}
		report.Warnings = append(report.Warnings, upward...)
	}
	if all {
		_, more := s.Causes()
		report.Problems = append(report.Problems, more...)
		if report.Hidden, err = s.Shelves.Shadowed(); err != nil {
			return nil, err
		}
	}
	return report, report.Problems.Err()
}

// warnings are what is allowed in a recipe and probably not meant.
func (s *Session) warnings(ctx context.Context, r *recipe.Recipe, online bool) (tomlfile.Problems, error) {
	warnings := append(r.Warnings(), s.Shelves.UnknownNeeds(r)...)
	if build.HasPatched(s.Machine, r) {
		if err := s.Store.Prepare(); err != nil {
			return nil, err
		}
		more, err := build.CheckPatches(ctx, s.Machine, r)
		if err != nil {
			return nil, err
		}
		warnings = append(warnings, more...)
	}
	if online {
		more, err := upstream.Warnings(ctx, s.Machine, r)
		if err != nil {
			return nil, err
		}
		warnings = append(warnings, more...)
	}
	warnings.Sort()
	return warnings, nil
}

func (s *Session) noShelf() error {
	file := s.Settings.File
	if file == "" {
		file = "fernladder.toml"
	}
	return problem.New(problem.Usage, file, "no shelf is set: name one in %s", file).Remedy(problem.MakeFolder)
}

// A Shelf is a shelf and what it has.
type Shelf struct {
	Dir     string   `json:"dir"`
	Git     string   `json:"git,omitempty"`
	Commit  string   `json:"commit,omitempty"`
	Here    bool     `json:"here"`
	Recipes int      `json:"recipes"`
	Hidden  []string `json:"hidden"` // names that an earlier shelf has, too
	// Who signed it; nil for a shelf without keys.
	Signed *signature.Good `json:"signed,omitempty"`

	Shown string `json:"-"` // the directory, as people name it
}

// A ShelvesRequest says what is done before the shelves are listed.
type ShelvesRequest struct {
	Fetch bool // bring those that are repositories to the root
	Older bool // accept commits that do not come after the ones before
}

// accept brings a shelf that is a repository to the root. The lock file notes the commit of one with
// keys, which has to come after the one before.
func (s *Session) accept(ctx context.Context, shelf recipe.Shelf, older bool) error {
	if err := s.BringShelf(ctx, shelf); err != nil || len(shelf.Keys) == 0 {
		return err
	}
	file, err := plan.ReadLock(s.Machine)
	if err != nil {
		return err
	}
	before := file.Accepted(shelf.Git, shelf.Inside)
	if before == shelf.Commit {
		return nil
	}
	if before != "" && !older {
		follows, err := s.ShelfFollows(ctx, shelf, before)
		if err != nil {
			return err
		}
		if !follows {
			return problem.New(problem.Recipe, shelf.Git,
				"the shelf %s would go back: %s does not come after %s, which was used before (%s)", shelf.Git, shelf.Commit[:12],
				before[:min(12, len(before))], file.Shown).
				Instead(before, shelf.Commit).Remedy(problem.AcceptOlder)
		}
	}
	_, err = install.ChangeLock(ctx, s.Machine, func(now *lock.File) { now.Accept(shelf.Git, shelf.Inside, shelf.Commit) })
	return err
}

// ListShelves lists the shelves in the order in which they are searched.
func (s *Session) ListShelves(ctx context.Context, r ShelvesRequest) ([]Shelf, error) {
	if len(s.Settings.Shelves) == 0 {
		return nil, s.noShelf()
	}
	seen := map[string]bool{}
	all := []Shelf{}
	for _, shelf := range s.Settings.Shelves {
		if r.Fetch && shelf.Git != "" {
			if err := s.accept(ctx, shelf, r.Older); err != nil {
				return nil, err
			}
		}
		l := Shelf{Dir: shelf.Dir, Git: shelf.Git, Commit: shelf.Commit, Hidden: []string{}, Shown: shelf.Shown,
			Signed: s.ShelfSigned(shelf)}
		names, err := shelf.Names()
		if err != nil && shelf.Git == "" {
			return nil, err
		}
		l.Here, l.Recipes = err == nil, len(names)
		for _, name := range names {
			if seen[name] {
				l.Hidden = append(l.Hidden, name)
			}
			seen[name] = true
		}
		all = append(all, l)
	}
	return all, nil
}

// News is what is new upstream of a package.
type News struct {
	Name  string            `json:"name"`
	Has   string            `json:"newest_in_recipe"`
	Newer []version.Version `json:"newer"` // the newest first
	Error string            `json:"error,omitempty"`

	Branch *BranchNews `json:"branch,omitempty"`
}

// BranchNews is what is new on the branch that a package was built from.
type BranchNews struct {
	Built    string   `json:"built"`
	Now      string   `json:"now"`
	Commits  int      `json:"commits"`
	Messages []string `json:"messages"` // the first lines of the newest
	Gone     bool     `json:"gone,omitempty"`
}

// News looks for newer releases of packages upstream; without names, of all recipes that say
// where they are announced. Without names, sites that fail are reported, and the error is the
// last of theirs.
func (s *Session) News(ctx context.Context, names []string) (found []News, failed error) {
	all := len(names) == 0
	if all {
		var err error
		if names, err = s.Shelves.Names(); err != nil {
			return nil, err
		}
	}
	found = []News{}
	for _, name := range names {
		r, err := s.Shelves.Find(name)
		if err != nil {
			return nil, err
		}
		n := News{Name: name, Has: upstream.Newest(r).String()}
		n.Newer, err = upstream.Newer(ctx, s.Machine, r)
		branch, wrong := upstream.OnBranch(ctx, s.Machine, r)
		if branch != nil && wrong == nil {
			n.Branch = &BranchNews{branch.Built.Version, branch.Now.Version.String(), branch.Commits, listed(branch.Messages),
				branch.Gone}
		}
		if errors.Is(err, upstream.Unannounced) && (branch != nil || wrong != nil) {
			err = nil // its branch announces it
		}
		if err == nil {
			err = wrong
		}
		switch {
		case err == nil:
		case all && errors.Is(err, upstream.Unannounced):
			continue
		case ctx.Err() != nil || !all:
			return nil, err
		default:
			n.Error, failed = err.Error(), err
		}
		found = append(found, n)
	}
	return found, failed
}

// BumpReport is a release that was added to a recipe.
type BumpReport struct {
	Recipe  string           `json:"recipe"`
	Newest  *version.Version `json:"newest,omitempty"` // already in the recipe; nothing was added
	Version *version.Version `json:"version,omitempty"`
	Track   recipe.Track     `json:"track,omitempty"`
	SHA256  string           `json:"sha256,omitempty"`
	Signed  string           `json:"signed"` // by whom; "": by no key of the recipe

	Shown string         `json:"-"` // the recipe, as people name it
	Added upstream.Added `json:"-"`
}

// Bump adds a release to a recipe; without a version, the newest that is announced.
func (s *Session) Bump(ctx context.Context, name, wanted string) (*BumpReport, error) {
	r, err := s.Shelves.Find(name)
	if err != nil {
		return nil, err
	}
	var v version.Version
	if wanted != "" {
		if v, err = version.Parse(wanted); err != nil {
			return nil, problem.New(problem.Usage, wanted, "%v", err)
		}
	} else {
		newer, err := upstream.Newer(ctx, s.Machine, r)
		if err != nil {
			return nil, err
		}
		if len(newer) == 0 {
			newest := upstream.Newest(r)
			return &BumpReport{Recipe: r.File, Newest: &newest, Shown: r.File}, nil
		}
		v = newer[0]
	}
	added, err := upstream.Add(ctx, s.Machine, r, v)
	if err != nil {
		return nil, err
	}
	return &BumpReport{filepath.Join(r.Dir, recipe.FileName), nil, &v, added.Track, added.Digest.Hex, added.Signed, r.File,
		added}, nil
}

// Offers is what an installed package has for others. With write, its recipe says so.
func (s *Session) Offers(name string, write bool) (recipe.Offers, *recipe.Recipe, error) {
	built, err := s.Find(name)
	if err != nil {
		return recipe.Offers{}, nil, err
	}
	files, err := s.Store.Files(built.Ref)
	if err != nil {
		return recipe.Offers{}, nil, err
	}
	o := draft.Offered(s.Store.Tree(built.Ref), files)
	if !write {
		return o, nil, nil
	}
	r, err := s.Shelves.Find(built.Name)
	if err != nil {
		return o, nil, err
	}
	return o, r, r.Change(func(e *tomlfile.Edit) { recipe.SetOffers(e, o) })
}
