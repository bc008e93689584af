package build

import (
	"context"
	"slices"

	"fernladder/core/host"
	"fernladder/core/machine"
	"fernladder/core/recipe"
)

// HostNeeds lists, each thing once, what the jobs need of the operating system: the programs
// that their stages run, and what their recipes name.
func HostNeeds(m *machine.Machine, jobs []*Job) []host.Need {
	var needs []host.Need
	add := func(n host.Need, by string) {
		i := slices.IndexFunc(needs, func(other host.Need) bool {
			return other.Question == n.Question && other.Range.String() == n.Range.String()
		})
		if i < 0 {
			i = len(needs)
			needs = append(needs, n)
		}
		if len(needs[i].Packages) == 0 {
			needs[i].Packages = n.Packages
		}
		if !slices.Contains(needs[i].By, by) {
			needs[i].By = append(needs[i].By, by)
		}
	}
	for _, j := range jobs {
		for _, name := range j.programs() {
			if !j.provides(name) {
				add(host.Need{Question: host.Question{Kind: host.Program, Name: name}}, j.Name)
			}
		}
		for _, n := range j.Recipe.HostNeeds {
			q := n.Question()
			add(host.Need{Question: q, Range: n.Range, Packages: n.PackagesOf(m.System.Family), At: n.Position.String(),
				Or: j.insteadOf(q)}, j.Name)
		}
	}
	return needs
}

// insteadOf returns the alternatives to a chosen thing.
func (j *Job) insteadOf(chosen host.Question) (others []host.Question) {
	for _, n := range j.Package.Recipe.HostNeeds {
		if slices.ContainsFunc(n.Either, func(one *recipe.HostNeed) bool { return one.Question() == chosen }) {
			for _, one := range n.Either {
				if q := one.Question(); q != chosen {
					others = append(others, q)
				}
			}
		}
	}
	return others
}

// LookAtHost looks for everything that the jobs need of the operating system, and returns what
// it lacks, or nil. versions asks for the versions of all programs.
func LookAtHost(ctx context.Context, m *machine.Machine, jobs []*Job, versions bool) ([]host.Finding, *host.Missing) {
	findings := m.Programs.Check(ctx, "cc", HostNeeds(m, jobs), versions)
	missing := host.Lacking(findings, m.Programs.Path, m.System)
	if missing != nil {
		missing.LookUp(m.HostFiles)
	}
	return findings, missing
}

// CheckHost returns a *host.Missing error when the operating system lacks what
// the jobs need of it.
func CheckHost(ctx context.Context, m *machine.Machine, jobs []*Job) error {
	if _, missing := LookAtHost(ctx, m, jobs, false); missing != nil {
		return missing
	}
	return ctx.Err()
}

// provides reports whether a tool that the job needs could have the program: a package often has
// the name of its program, and may not be built yet.
func (j *Job) provides(program string) bool {
	for i, link := range j.Package.Needs {
		if link.Role == recipe.Tool &&
			(j.Needs[i].Name == program || slices.Contains(link.Package.Recipe.Offers.Programs, program)) {
			return true
		}
	}
	return false
}
