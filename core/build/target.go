package build

import (
	"cmp"
	"context"
	"path"
	"slices"
	"strings"

	"fernladder/core/host"
	"fernladder/core/machine"
	"fernladder/core/recipe"
	"fernladder/core/store"
)

// A Target is everything about a machine that jobs depend on, as plain values: with the same
// target, the same ladder gives the same jobs.
type Target struct {
	Store  *store.Store // for its paths
	System host.Machine
	Path   []string // of the operating system's programs
	Jobs   int      // slots, for FL_JOBS
	// The directory that requested packages are built for; "" for trees of their own.
	Prefix        string
	TrustedOwners []string                                    // packages that may give files to others
	TrustedEnv    []string                                    // packages that may set any variable for everyone
	Program       func(name string) string                    // of the operating system, by its name; nil: there are none
	MayRead       func(*recipe.Recipe, *recipe.Release) error // its repository, where that is on this machine; nil: it may
	Compilers     map[string]string
	Patches       map[string]Patch // by their files
	Prefer        []string         // names of things of the operating system, the preferred first
	// The chosen alternative of each need with either, by its first alternative.
	Chosen map[*recipe.HostNeed]*recipe.HostNeed
}

// A Patch is a patch file.
type Patch struct {
	Digest recipe.Digest
	Err    error // why it cannot be read
}

// NewTarget describes a machine, except for what has to be asked: see Ask.
func NewTarget(m *machine.Machine) Target {
	return Target{Store: m.Store, System: m.System, Path: m.Settings.Path, Jobs: m.Jobs, TrustedEnv: m.Settings.TrustedEnv,
		TrustedOwners: m.Settings.TrustedOwners, MayRead: m.MayRead, Program: m.Rules().Program,
		Compilers: map[string]string{}, Patches: map[string]Patch{}, Chosen: map[*recipe.HostNeed]*recipe.HostNeed{}}
}

// Ask finds out what these recipes may require to be known: their compilers, and their patches.
func (t Target) Ask(ctx context.Context, programs host.Programs, recipes []*recipe.Recipe) error {
	for _, r := range recipes {
		if cc := compilerOf(r); t.Compilers[cc] == "" {
			t.Compilers[cc] = programs.Compiler(ctx, cc)
		}
		for _, x := range r.Releases {
			for _, name := range x.Patches {
				file := r.OnShelf(name)
				if _, known := t.Patches[file.Path()]; known {
					continue
				}
				data, err := file.ReadFile(largestPatch)
				t.Patches[file.Path()] = Patch{digestOf(data), err}
			}
		}
	}
	t.choose(ctx, programs, recipes)
	return ctx.Err()
}

// Adopt takes the compilers of another machine in the place of this one's: by the name with which
// recipes call them, or the only one.
func (t Target) Adopt(compilers []string) {
	for name := range t.Compilers {
		command := path.Base(strings.Fields(name)[0])
		i := slices.IndexFunc(compilers, func(c string) bool { return slices.Contains(strings.Fields(c), command) })
		if i < 0 && len(compilers) == 1 {
			i = 0
		}
		if i >= 0 {
			t.Compilers[name] = compilers[i]
		}
	}
}

// choose picks an alternative for each need with either: the first one that exists, in the order
// of preference; otherwise the first.
func (t Target) choose(ctx context.Context, programs host.Programs, recipes []*recipe.Recipe) {
	var needs []host.Need
	var asked [][2]*recipe.HostNeed // the first alternative, and the one that the need with this index asks for
	for _, r := range recipes {
		for _, n := range r.HostNeeds {
			if n.Either == nil {
				continue
			}
			order := slices.Clone(n.Either)
			slices.SortStableFunc(order, func(a, b *recipe.HostNeed) int { return t.preference(a) - t.preference(b) })
			t.Chosen[n.Either[0]] = order[0]
			for _, one := range order {
				needs, asked = append(needs, host.Need{Question: one.Question(), Range: one.Range}),
					append(asked, [2]*recipe.HostNeed{n.Either[0], one})
			}
		}
	}
	if len(needs) == 0 {
		return
	}
	found := map[*recipe.HostNeed]bool{}
	for i, f := range programs.Check(ctx, "cc", needs, false) {
		if first := asked[i][0]; !f.Lacking() && !found[first] {
			found[first], t.Chosen[first] = true, asked[i][1]
		}
	}
}

// preference ranks alternatives: smaller is preferred.
func (t Target) preference(n *recipe.HostNeed) int {
	if i := slices.Index(t.Prefer, n.Question().Name); i >= 0 {
		return i
	}
	return len(t.Prefer)
}

// onHost replaces needs with either by their chosen alternatives.
func (t Target) onHost(needs []*recipe.HostNeed) (all []*recipe.HostNeed) {
	for _, n := range needs {
		if n.Either != nil {
			one := *cmp.Or(t.Chosen[n.Either[0]], n.Either[0])
			one.Runtime = n.Runtime
			n = &one
		}
		all = append(all, n)
	}
	return all
}

// compilerOf is the command with which a recipe's build calls the C compiler.
func compilerOf(r *recipe.Recipe) string {
	for _, pair := range r.Build.Env {
		if pair.Name == "CC" && strings.TrimSpace(pair.Values[0]) != "" {
			return pair.Values[0]
		}
	}
	return "cc"
}
