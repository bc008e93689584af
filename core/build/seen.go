package build

import (
	"cmp"
	"context"
	"maps"
	"slices"
	"strings"

	"fernladder/core/host"
)

// Seen is what the build of a job sees of a machine and what can change the result, as values by
// plain names: the architecture, the compiler, what its recipe names and, if builds see only
// what they declare, the version of each visible package. If two machines agree in it, they
// build the same.
type Seen map[string]string

const ofPackage = "package "

// Seen looks at this machine for a job.
func (b *Builder) Seen(ctx context.Context, job *Job) (Seen, error) {
	seen := Seen{"architecture": b.m.System.Arch, "operating system": b.m.System.Release, "compiler": job.Compiler}
	findings, _ := LookAtHost(ctx, b.m, []*Job{job}, true)
	for _, f := range findings {
		if f.There {
			seen[f.Question.String()] = cmp.Or(f.Version, "there")
		}
	}
	sight, _, err := b.begin(job, nil).bareRoom(ctx)
	if err != nil {
		return nil, err
	}
	if sight == nil { // it sees everything, so this has the best answer
		library := host.Question{Kind: host.Program, Name: "ldd"}
		seen["C library"] = b.m.Programs.Ask(ctx, "", []host.Question{library},
			func(host.Question) bool { return true })[library].Version
		return seen, nil
	}
	versions, err := b.m.Packages.Versions(ctx)
	for _, name := range sight.Packages {
		seen[ofPackage+name] = versions[name]
	}
	return seen, err
}

// A Difference is a value that differs between two machines.
type Difference struct {
	What  string `json:"what"`
	Here  string `json:"here"` // "" where it is not
	There string `json:"there"`
}

// Differs compares this machine with another, in the order of names. It ignores packages if one
// of the two builds with everything visible.
func (here Seen) Differs(there Seen) (all []Difference) {
	_, whole := here["C library"]
	_, wholeThere := there["C library"]
	counts := func(name string) bool {
		return whole == wholeThere || !strings.HasPrefix(name, ofPackage) && name != "C library"
	}
	names := slices.Concat(slices.Collect(maps.Keys(here)), slices.Collect(maps.Keys(there)))
	slices.Sort(names)
	for _, name := range slices.Compact(names) {
		if here[name] != there[name] && counts(name) {
			all = append(all, Difference{name, here[name], there[name]})
		}
	}
	return all
}
