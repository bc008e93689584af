package build

import (
	"context"
	"path/filepath"
	"slices"

	"fernladder/core/host"
	"fernladder/core/recipe"
)

// HostNeeds lists what the jobs need of the operating system, each thing once:
// the programs that their stages run, and what their recipes name.
func (w *Workshop) HostNeeds(jobs []*Job) []host.Need {
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
		for _, name := range j.Programs() {
			if !j.provides(name) {
				add(host.Need{Question: host.Question{Kind: host.Program, Name: name}}, j.Name)
			}
		}
		for _, n := range j.Package.Recipe.HostNeeds {
			if n.When.Holds(j.Package.Facts(w.Machine)) {
				add(host.Need{Question: n.Question(), Range: n.Range, Packages: n.PackagesOf(w.Machine.Family), At: n.Position.String()}, j.Name)
			}
		}
	}
	return needs
}

// HostFiles is the index of the files of the operating system's packages.
func (w *Workshop) HostFiles() host.Files {
	return host.Files{Dir: filepath.Join(w.Store.Root, "host-files")}
}

// CheckHost returns a *host.Missing error when the operating system lacks what
// the jobs need of it.
func (w *Workshop) CheckHost(ctx context.Context, jobs []*Job) error {
	findings := w.Programs.Check(ctx, "cc", w.HostNeeds(jobs), false)
	if missing := host.Lacking(findings, w.Programs.Path, w.Machine); missing != nil {
		missing.LookUp(w.HostFiles())
		return missing
	}
	return ctx.Err()
}

// provides tells whether a tool that the job needs could be the program: one
// package is often called like its program, and it is not built yet.
func (j *Job) provides(program string) bool {
	for i, link := range j.Package.Needs {
		if link.Role == recipe.Tool && (j.Needs[i].Name == program || slices.Contains(link.Package.Recipe.Offers.Programs, program)) {
			return true
		}
	}
	return false
}
