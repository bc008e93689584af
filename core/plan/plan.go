package plan

import (
	"context"
	"slices"
	"strings"

	"fernladder/core/build"
	"fernladder/core/landing"
	"fernladder/core/lock"
	"fernladder/core/machine"
	"fernladder/core/recipe"
	"fernladder/core/resolve"
	"fernladder/core/store"
	"fernladder/core/version"
)

// A Plan is what will be done, as a value. Nothing of it has been done.
type Plan struct {
	*resolve.Ladder
	Ask       Ask
	AllWanted bool         // it is about everything that is wanted on this machine
	Jobs      []*build.Job // of all packages, in the order of the ladder
	Needed    map[*build.Job]bool
	Installed map[store.Ref]bool
	Lock      *lock.File // as it was
	Slots     int        // jobs that can run at once

	Before landing.State    // the landing as it was
	After  []landing.Member // what is on it after the plan was carried out
	Clash  error            // why it cannot be landed, a *landing.Clash, or nil

	Was       map[string]*store.Receipt    // builds on the landing and the needs they were built with, by package
	Orphans   []landing.Member             // asked for once, and no shelf has a recipe for them any more
	Estimates map[store.Ref]store.Estimate // of the builds to make, once computed
}

// Make makes a plan from facts, and from nothing else. Errors are those of resolve.Solve, a
// *lock.Differs, or tomlfile.Problems of a recipe.
func Make(ctx context.Context, f facts) (*Plan, error) {
	ladder, err := resolve.Solve(ctx, f.Shelves, f.Request)
	if err != nil {
		return nil, err
	}
	p := &Plan{Ladder: ladder, Ask: f.Ask, AllWanted: f.AllWanted, Installed: f.Installed, Lock: f.Lock,
		Slots: f.Target.Jobs, Before: f.Landing, Orphans: f.Orphans}
	if p.Jobs, err = build.Plan(ladder, f.Target); err != nil {
		return nil, err
	}
	for _, j := range p.Jobs {
		j.Edited, j.Preset = f.Ask.Edited, f.presets.of(j.Package)
	}
	for _, j := range p.Asked() {
		if ref, named := f.Exactly[j.Name]; named && ref != j.Ref {
			return nil, badAsk("%s %s (%s) exists, but its recipe or needs have changed since: built now, it would be %s",
				ref.Name, ref.Version, ref.ID, j.ID)
		}
	}
	if f.Ask.Locked {
		if err := p.holdTo(f); err != nil {
			return nil, err
		}
	}
	p.Needed = build.Needed(p.Jobs, func(r store.Ref) bool { return f.Installed[r] })
	if err := p.until(f.Ask.Until); err != nil {
		return nil, err
	}
	p.Was = map[string]*store.Receipt{}
	for _, r := range f.Receipts {
		// Of several, the one with the plain names, or the newest, is replaced.
		old, front := p.Was[r.Name], f.Landing.Find(r.Name)
		if old == nil || front != nil && front.Ref == r.Ref ||
			(front == nil || front.Ref != old.Ref) && version.CompareTexts(r.Version, old.Version) > 0 {
			p.Was[r.Name] = r
		}
	}
	if f.Ask.Prefix != "" { // which does not change the landing
		p.After = f.Landing.Members
		return p, nil
	}
	p.After, p.Clash = landing.Members(p.Landing(f.Landing), func(r store.Ref) ([]store.Link, error) {
		for _, j := range p.Jobs {
			if j.Ref == r {
				return j.Links(), nil
			}
		}
		if receipt := f.Receipts[r]; receipt != nil {
			return receipt.Needs, nil
		}
		return nil, nil // it was removed
	})
	return p, nil
}

// until limits the requested builds to a stage.
func (p *Plan) until(stage string) error {
	for _, j := range p.Asked() {
		if stage == "" || !p.Needed[j] {
			continue
		}
		for _, other := range p.Todo() {
			if slices.Contains(other.Needs, j) {
				return badAsk("%s needs %s, which has to be built completely for it; name one of them", other.Name, j.Name)
			}
		}
		var stages []string
		for _, s := range j.Stages {
			stages = append(stages, s.Name)
		}
		if !slices.Contains(stages, stage) {
			return badAsk("%s %s has no stage %s; its stages are %s", j.Name, j.Version, stage, strings.Join(stages, ", "))
		}
		j.Until = stage
	}
	return nil
}

// For gathers the facts for a request, and makes the plan.
func For(ctx context.Context, m *machine.Machine, ask Ask) (*Plan, error) {
	facts, err := Gather(ctx, m, ask)
	if err != nil {
		return nil, err
	}
	return Make(ctx, facts)
}

// Todo are the jobs that have to be built or taken from depots, in the order of the ladder.
func (p *Plan) Todo() []*build.Job {
	return slices.DeleteFunc(slices.Clone(p.Jobs), func(j *build.Job) bool { return !p.Needed[j] })
}

// ToBuild are the jobs that have to be built here.
func (p *Plan) ToBuild() []*build.Job {
	return slices.DeleteFunc(p.Todo(), func(j *build.Job) bool { return len(j.From) > 0 })
}

// Asked are the jobs of requested packages.
func (p *Plan) Asked() []*build.Job {
	return slices.DeleteFunc(slices.Clone(p.Jobs), func(j *build.Job) bool { return !j.Asked })
}

// The states of a job.
const (
	ToBuild   = "to_build"
	ToTake    = "to_take"    // from a depot
	Built     = "built"      // its tree is there
	NotNeeded = "not_needed" // by anything that is still to be built
)

// State says which of these states a job is in.
func (p *Plan) State(j *build.Job) string {
	switch {
	case p.Needed[j] && len(j.From) > 0:
		return ToTake
	case p.Needed[j]:
		return ToBuild
	case p.Installed[j.Ref]:
		return Built
	}
	return NotNeeded
}

// Landing are the requested builds of the landing after the plan: those of now, and those of the
// plan, which replace the build of the same name that has the plain names or, if the plan puts
// them beside it, leave it those. Builds beside others stay. A plan of everything that is wanted
// leaves no other package.
func (p *Plan) Landing(current landing.State) []landing.Asked {
	var asked []landing.Asked
	of := func(name string) bool {
		return slices.ContainsFunc(asked, func(a landing.Asked) bool { return a.Name == name })
	}
	for _, j := range p.Asked() {
		front, preset := current.Find(j.Name), j.Preset
		if on := current.Has(j.Ref); on != nil && on.Preset != "" && len(p.Ask.Presets) == 0 {
			preset = on.Preset // as it was called when it came
		}
		asked = append(asked, landing.Asked{Ref: j.Ref, Beside: p.Ask.Beside && front != nil && front.Ref != j.Ref,
			Preset: preset})
	}
	for _, a := range current.Asked() {
		mine := slices.ContainsFunc(asked, func(b landing.Asked) bool { return b.Ref == a.Ref })
		switch {
		case mine, p.AllWanted && !of(a.Name):
		case !of(a.Name), a.Beside, p.Ask.Beside:
			asked = append(asked, a)
		}
	}
	return asked
}

// Lands reports whether landing the plan changes the landing.
func (p *Plan) Lands() bool { return p.Clash == nil && !slices.Equal(p.Before.Members, p.After) }

// Newer are the newest stable releases of the requested packages, if they are newer than what
// stays on the ladder.
func (p *Plan) Newer() []*resolve.Package {
	var newer []*resolve.Package
	for _, pkg := range p.Packages {
		if pkg.Asked && pkg.Kept && Newest(pkg) != pkg.Release {
			newer = append(newer, pkg)
		}
	}
	return newer
}

// Newest is the newest stable release of a package's recipe, or the one on the ladder if none is
// newer.
func Newest(p *resolve.Package) *recipe.Release {
	if x := p.Recipe.Newest(); x != nil && x.Version.Compare(p.Release.Version) > 0 {
		return x
	}
	return p.Release
}

// WayTo returns the shortest path from a requested package to another, as names.
func (p *Plan) WayTo(target *resolve.Package) []string {
	from := map[*resolve.Package]*resolve.Package{}
	seen := map[*resolve.Package]bool{}
	var queue []*resolve.Package
	for _, pkg := range p.Packages {
		if pkg.Asked {
			queue = append(queue, pkg)
			seen[pkg] = true
		}
	}
	for ; len(queue) > 0; queue = queue[1:] {
		at := queue[0]
		if at == target {
			var way []string
			for ; at != nil; at = from[at] {
				way = append([]string{at.Name()}, way...)
			}
			return way
		}
		for _, link := range at.Needs {
			if !seen[link.Package] {
				seen[link.Package], from[link.Package] = true, at
				queue = append(queue, link.Package)
			}
		}
	}
	return nil
}
