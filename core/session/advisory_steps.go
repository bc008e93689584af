package session

import (
	"context"
	"errors"
	"maps"
	"path"
	"slices"
	"strings"

	"fernladder/core/advisory"
	"fernladder/core/problem"
	"fernladder/core/recipe"
	"fernladder/core/source"
	"fernladder/core/store"
	"fernladder/core/upstream"
	"fernladder/core/version"
)

// A Step is the smallest that ends a hole of a build.
type Step struct {
	Kind    StepKind         `json:"kind"`
	Version string           `json:"version,omitempty"` // of upgrade and bump
	Option  string           `json:"option,omitempty"`  // NAME=VALUE
	Patch   string           `json:"patch,omitempty"`   // of rebuild
	Build   store.Ref        `json:"build,omitzero"`    // of remove
	Remedy  []problem.Remedy `json:"remedies,omitempty"`
}

// StepKind is the kind of a step.
type StepKind string

// The kinds, the smallest first.
const (
	StepRebuild StepKind = "rebuild" // the recipe has a patch for the release, which the build lacks
	StepUpgrade StepKind = "upgrade" // a release on the shelf does not have the hole
	StepBump    StepKind = "bump"    // one that is announced upstream does not have it
	StepOption  StepKind = "option"  // with another value of an option, it does not concern the build
	StepRemove  StepKind = "remove"  // only a build that is beside another uses it
	StepNone    StepKind = "none"
)

// End says in words what ends the hole.
func (b AffectedBuild) End() string {
	switch s := b.Step; s.Kind {
	case StepRebuild:
		return "ends with the patch " + s.Patch + " of the recipe, which this build does not have"
	case StepUpgrade:
		return "ends with release " + s.Version + ", which is on the shelf"
	case StepBump:
		return "ends with release " + s.Version + ", which is announced upstream"
	case StepRemove:
		return "ends without " + s.Build.Name + " " + s.Build.Version + ", which is beside another build"
	case StepOption:
		return "ends with " + s.Option
	}
	if len(b.Fixed) > 0 {
		return "nothing here ends it yet; the advisory names as fixed: " + strings.Join(b.Fixed, ", ")
	}
	return "nothing ends it yet"
}

// stepper finds steps. It asks upstream once for each package.
type stepper struct {
	s     *Session
	ctx   context.Context
	newer map[string][]version.Version
}

func (s *Session) stepper(ctx context.Context) *stepper {
	return &stepper{s, ctx, map[string][]version.Version{}}
}

func (t *stepper) step(h *advisory.Hole, x *holder) (Step, error) {
	if x.recipe == nil || x.part != "" {
		return Step{Kind: StepNone}, nil
	}
	ids := append([]string{h.ID}, h.Aliases...)
	if release := x.recipe.Release(x.facts.Version); release != nil {
		for _, p := range release.Patches {
			if anyOf(x.recipe.FixesOf(p), ids) {
				return Step{Kind: StepRebuild, Patch: p, Remedy: []problem.Remedy{problem.Do(problem.UpgradePackage, x.Name)}}, nil
			}
		}
	}
	var has []version.Version
	for _, release := range x.recipe.Releases {
		if release.Track == recipe.Stable {
			has = append(has, release.Version)
		}
	}
	if v := t.mended(h, x, has); v != "" {
		return Step{Kind: StepUpgrade, Version: v,
			Remedy: []problem.Remedy{problem.Do(problem.UpgradePackage, x.Name)}}, nil
	}
	announced, err := t.announced(x.recipe)
	if err != nil {
		return Step{}, err
	}
	if v := t.mended(h, x, announced); v != "" {
		return Step{Kind: StepBump, Version: v,
			Remedy: []problem.Remedy{problem.Do(problem.BumpPackage, x.Name, v)}}, nil
	}
	if option := t.option(ids, x); option != "" {
		return Step{Kind: StepOption, Option: option,
			Remedy: []problem.Remedy{problem.Do(problem.InstallWith, x.Name, option)}}, nil
	}
	return Step{Kind: StepNone}, nil
}

// mended is the lowest of some versions above that of the build that does not have the hole.
func (t *stepper) mended(h *advisory.Hole, x *holder, all []version.Version) string {
	all = slices.Clone(all)
	slices.SortFunc(all, version.Version.Compare)
	for _, v := range all {
		if v.Compare(x.facts.Version) <= 0 || v.Preview() {
			continue
		}
		subject := *x.subject
		subject.Version, subject.Commit = v.String(), ""
		if o, _ := h.Judge(&subject, t.s.ancestry(t.ctx)); o.Verdict == advisory.Unaffected {
			return v.String()
		}
	}
	return ""
}

// announced are newer releases upstream; none where that cannot be found out.
func (t *stepper) announced(r *recipe.Recipe) ([]version.Version, error) {
	if known, asked := t.newer[r.Name]; asked || t.s.Offline || r.Upstream.Pattern == nil {
		return known, nil
	}
	newer, err := upstream.Newer(t.ctx, t.s.Machine, r)
	if err != nil && !errors.As(err, new(*source.FetchError)) {
		return nil, err
	}
	t.newer[r.Name] = newer
	return newer, t.ctx.Err()
}

// option is the value of one option with which a statement holds.
func (t *stepper) option(ids []string, x *holder) string {
	var conditions []recipe.Condition
	for _, n := range x.recipe.NotAffected {
		if slices.Contains(ids, n.ID) {
			conditions = append(conditions, n.When)
		}
	}
	for _, n := range t.s.Settings.NotAffected {
		if slices.Contains(ids, n.ID) && (n.Package == "" || n.Package == x.Name) {
			conditions = append(conditions, n.When)
		}
	}
	for _, when := range conditions {
		for _, o := range x.recipe.OptionsOf(x.facts) {
			for _, choice := range o.Choices() {
				facts := x.facts
				facts.Options = maps.Clone(facts.Options)
				facts.Options[o.Name] = choice
				if when.Mentions(o.Name) && when.Holds(facts) {
					return o.Name + "=" + choice
				}
			}
		}
	}
	return ""
}

// standOn fills in what uses builds with holes: what needs them, directly or not, and which of
// that has a library of theirs inside.
func (s *Session) standOn(report *AdvisoriesReport) error {
	users := map[store.Ref][]*store.Receipt{}
	for _, r := range report.all {
		for _, need := range r.Needs {
			users[need.Ref] = append(users[need.Ref], r)
		}
	}
	known := map[store.Ref][2][]store.Ref{}
	for i := range report.Holes {
		for j := range report.Holes[i].Builds {
			b := &report.Holes[i].Builds[j]
			if _, done := known[b.Ref]; !done {
				again := slices.DeleteFunc(above(b.Ref, users, map[store.Ref]bool{}), func(r store.Ref) bool {
					return !report.inUse[r]
				})
				copied, err := s.copiedInto(b.Ref, users[b.Ref])
				if err != nil {
					return err
				}
				known[b.Ref] = [2][]store.Ref{again, copied}
			}
			b.Again, b.Copied = known[b.Ref][0], known[b.Ref][1]
		}
	}
	return nil
}

func above(r store.Ref, users map[store.Ref][]*store.Receipt, seen map[store.Ref]bool) (all []store.Ref) {
	for _, user := range users[r] {
		if !seen[user.Ref] {
			seen[user.Ref] = true
			all = append(append(all, user.Ref), above(user.Ref, users, seen)...)
		}
	}
	return all
}

// copiedInto are the builds with a copy of a static library of a build: they have it as a
// library, it has static libraries, and none of their files asks for a shared one of it.
func (s *Session) copiedInto(r store.Ref, users []*store.Receipt) (all []store.Ref, err error) {
	files, err := s.Store.Files(r)
	if err != nil && !errors.Is(err, store.ErrGone) {
		return nil, err
	}
	static, shared := false, map[string]bool{}
	for _, f := range files {
		base := path.Base(f.Path)
		static = static || strings.HasSuffix(base, ".a")
		if strings.Contains(base, ".so") {
			shared[base] = true
		}
	}
	for _, user := range users {
		if !static || !slices.ContainsFunc(user.Needs, func(l store.Link) bool {
			return l.Ref == r && l.Role == recipe.Library
		}) {
			continue
		}
		libraries, compiled, err := s.librariesOf(user.Ref)
		if err != nil && !errors.Is(err, store.ErrGone) {
			return nil, err
		}
		links := slices.ContainsFunc(slices.Collect(maps.Keys(libraries)), func(name string) bool { return shared[name] })
		if compiled && !links {
			all = append(all, user.Ref)
		}
	}
	return all, nil
}
