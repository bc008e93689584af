package build

import (
	"context"
	"strings"

	"fernladder/core/host"
	"fernladder/core/machine"
	"fernladder/core/recipe"
	"fernladder/core/store"
)

// A Target is all of a machine that jobs depend on, as plain values: with the same
// target, the same ladder gives the same jobs.
type Target struct {
	Store         *store.Store // for its paths
	System        host.Machine
	Path          []string                                    // of the operating system's programs
	Jobs          int                                         // slots, for FL_JOBS
	Prefix        string                                      // the directory that what is asked for is built for; "" for trees of their own
	TrustedOwners []string                                    // packages that may give files to others
	TrustedEnv    []string                                    // packages that may set any variable for everybody
	Program       func(name string) string                    // of the operating system, by its name; nil: there are none
	MayRead       func(*recipe.Recipe, *recipe.Release) error // its repository, where that is on this machine; nil: it may
	Compilers     map[string]string
	Patches       map[string]Patch // by their files
}

// A Patch is what a patch file is.
type Patch struct {
	Digest recipe.Digest
	Err    error // why it cannot be read
}

// NewTarget says what a machine is, but for what it has to be asked: see Ask.
func NewTarget(m *machine.Machine) Target {
	return Target{Store: m.Store, System: m.System, Path: m.Settings.Path, Jobs: m.Jobs, TrustedEnv: m.Settings.TrustedEnv, TrustedOwners: m.Settings.TrustedOwners, MayRead: m.MayRead, Program: m.Rules().Program,
		Compilers: map[string]string{}, Patches: map[string]Patch{}}
}

// Ask asks for what these recipes could need to be known: their compilers, and what
// their patches are.
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
	return ctx.Err()
}

// compilerOf is the command by which a recipe's build calls the C compiler.
func compilerOf(r *recipe.Recipe) string {
	for _, pair := range r.Build.Env {
		if pair.Name == "CC" && strings.TrimSpace(pair.Values[0]) != "" {
			return pair.Values[0]
		}
	}
	return "cc"
}
