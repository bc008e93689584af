package plan

import (
	"slices"

	"fernladder/core/build"
	"fernladder/core/lock"
	"fernladder/core/problem"
)

// Entries are the builds of the plan in the form of the lock file, with their compilers.
func (p *Plan) Entries() (builds []*lock.Build, compilers []string) { return entries(p.Jobs) }

func entries(jobs []*build.Job) (builds []*lock.Build, compilers []string) {
	for _, j := range jobs {
		b := &lock.Build{Name: j.Name, Version: j.Package.Release.Version, ID: j.ID, Source: j.Sources(),
			Options: j.Package.Changed(),
			Asked:   j.Package.Asked, Apart: j.Package.Apart}
		for _, need := range j.Needs {
			b.Needs = append(b.Needs, need.Name)
		}
		builds = append(builds, b)
		compilers = append(compilers, j.Compiler)
	}
	slices.Sort(compilers)
	return builds, slices.Compact(compilers)
}

// holdTo returns an error if the ladder is not the locked one.
func (p *Plan) holdTo(f facts) error {
	if !f.Lock.There || len(f.Lock.Builds) == 0 {
		return problem.New(problem.Usage, f.Lock.Shown, "%s has no ladder", f.Lock.Shown).Remedy(problem.WriteLock)
	}
	jobs := p.Jobs
	if f.Target.Prefix != "" { // the lock covers packages in trees of their own
		target := f.Target
		target.Prefix = ""
		var err error
		if jobs, err = build.Plan(p.Ladder, target); err != nil {
			return err
		}
	}
	builds, compilers := entries(jobs)
	return f.Lock.Compare(builds, f.Target.System.Arch, compilers)
}
