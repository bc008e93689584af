package plan

import (
	"cmp"
	"maps"
	"slices"

	"fernladder/core/landing"
	"fernladder/core/store"
)

// A Step is what a plan changes about one package that is on the landing, or that such a package
// was built with.
type Step struct {
	Name     string               `json:"name"`
	From     store.Ref            `json:"from"`
	To       store.Ref            `json:"to"`
	Lands    bool                 `json:"lands"`    // it is on the landing
	Why      []string             `json:"why"`      // the differences from a build of the same release
	Came     []string             `json:"came"`     // options that the release from did not have, as NAME=VALUE
	Went     []string             `json:"went"`     // those that the release to has not any more, as they were set
	Set      []string             `json:"set"`      // those that are set otherwise, as NAME=VALUE
	Build    bool                 `json:"to_build"` // it is not there yet
	Size     int64                `json:"size"`     // bytes, of the tree from
	Expected int64                `json:"expected"` // bytes of the tree to; 0: not known
	Configs  []store.ConfigStatus `json:"configs"`  // that it has
	Because  []string             `json:"because"`  // packages that change, and that it is built again for
}

// Steps are what a plan changes about existing packages, in the order of the ladder.
func (p *Plan) Steps(s *store.Store) ([]Step, error) {
	after := landing.State{Members: p.After}
	var steps []Step
	for _, j := range p.Jobs {
		was := p.Was[j.Name]
		if was == nil || was.Ref == j.Ref || !p.Needed[j] && !p.Installed[j.Ref] {
			continue
		}
		step := Step{Name: j.Name, From: was.Ref, To: j.Ref, Build: p.Needed[j], Size: was.Size,
			Expected: p.Estimates[j.Ref].Size, Lands: after.Has(j.Ref) != nil}
		before, now := was.Options, j.Package.Options
		for _, name := range slices.Sorted(maps.Keys(now)) {
			switch old, had := before[name]; {
			case !had:
				step.Came = append(step.Came, name+"="+now[name])
			case old != now[name]:
				step.Set = append(step.Set, name+"="+now[name])
			}
		}
		for _, name := range slices.Sorted(maps.Keys(before)) {
			if _, has := now[name]; !has {
				step.Went = append(step.Went, name+"="+before[name])
			}
		}
		if was.Version == j.Version {
			step.Why = j.Made().Against(was.Made())
			for _, need := range j.Needs {
				if old := p.Was[need.Name]; old != nil && old.Ref != need.Ref {
					step.Because = append(step.Because, need.Name)
				}
			}
		}
		var err error
		if step.Configs, err = s.Configs(was); err != nil {
			return nil, err
		}
		if r, err := s.Receipt(j.Ref); err == nil {
			step.Expected = r.Size
		}
		steps = append(steps, step)
	}
	slices.SortStableFunc(steps, func(a, b Step) int { return cmp.Compare(onTop(b), onTop(a)) })
	return steps, nil
}

// onTop sorts packages on the landing first.
func onTop(s Step) int {
	if s.Lands {
		return 1
	}
	return 0
}
