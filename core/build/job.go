// Package build turns the packages of a ladder into trees.
//
// Plan makes plain values first: for each package a Job with its build id, its directories and
// the commands of its stages. A Builder runs them. Of other packages, a build sees only the
// trees of its declared needs, and its own tree appears only when all its stages have succeeded.
package build

import (
	"path/filepath"
	"slices"
	"strings"

	"fernladder/core/depot"
	"fernladder/core/recipe"
	"fernladder/core/resolve"
	"fernladder/core/store"
	"fernladder/core/tomlfile"
)

// A Job is one package of a ladder, ready to be built.
type Job struct {
	store.Ref
	Package  *resolve.Package
	Recipe   *recipe.Recipe // as it counts here: recipe.Effective
	Needs    []*Job         // the builds that it needs, in the order of Package.Needs
	Asked    bool           // a person has asked for it, rather than something that needs it
	Tree     string
	Prefix   string // the directory that its files are for: its tree, unless it is built for another place
	Parts    []Part // of the source; the release itself is the first
	Patches  []store.Source
	Compiler string
	Stages   []Stage
	Preset   string // the named set of options that it is built by, or ""
	Watch    bool   // every file that it reads is recorded
	Edited   EditedPolicy
	From     []*depot.Offer // depots that have it; it is taken from the first that has it intact
	Until    string         // the stage that it is built up to, or "": all of it
}

// Away reports whether a job's files are for another directory than its tree.
func (j *Job) Away() bool { return j.Prefix != j.Tree }

// away is the directory that a job's files are for, if that is not its tree.
func (j *Job) away() string {
	if j.Away() {
		return j.Prefix
	}
	return ""
}

// A copyFor is a package as built for a directory; "" is its own tree.
type copyFor struct {
	pkg    *resolve.Package
	prefix string
}

// copies lists the builds that each package needs: what was requested, with its runtime and
// library needs, for a prefix; tools for their own trees.
func copies(ladder *resolve.Ladder, prefix string) map[copyFor]bool {
	wanted := map[copyFor]bool{}
	var want func(c copyFor)
	want = func(c copyFor) {
		if wanted[c] {
			return
		}
		wanted[c] = true
		for _, link := range c.pkg.Needs {
			want(c.need(link))
		}
	}
	for _, p := range ladder.Packages {
		if prefix == "" || p.Asked {
			want(copyFor{p, prefix})
		}
	}
	return wanted
}

// need is the copy of another package that a copy needs.
func (c copyFor) need(link resolve.Link) copyFor {
	if link.Role == recipe.Tool {
		return copyFor{link.Package, ""}
	}
	return copyFor{link.Package, c.prefix}
}

// Plan makes a job for each package of the ladder, in its order; two if a package is needed both
// in its own tree and for the target's prefix. Ask has to be called first, with the ladder's
// recipes.
func Plan(ladder *resolve.Ladder, t Target) ([]*Job, error) {
	jobs := make([]*Job, 0, len(ladder.Packages))
	of := map[copyFor]*Job{}
	wanted := copies(ladder, t.Prefix)
	for _, p := range ladder.Packages {
		if problems := p.Recipe.TakesOver(t.Program); len(problems) > 0 && !slices.Contains(t.TrustedEnv, p.Name()) {
			return nil, problems
		}
		if problems := p.Recipe.GivesAway(); len(problems) > 0 && !slices.Contains(t.TrustedOwners, p.Name()) {
			return nil, problems
		}
		if t.MayRead != nil {
			if err := t.MayRead(p.Recipe, p.Release); err != nil {
				return nil, err
			}
		}
		for _, prefix := range slices.Compact([]string{"", t.Prefix}) {
			c := copyFor{p, prefix}
			if !wanted[c] {
				continue
			}
			job := &Job{Package: p, Recipe: p.Recipe.Effective(p.Facts(t.System)), Compiler: t.Compilers[compilerOf(p.Recipe)],
				Prefix: prefix, Asked: p.Asked && prefix == t.Prefix}
			job.Recipe.HostNeeds = t.onHost(job.Recipe.HostNeeds)
			of[c] = job
			for _, link := range p.Needs {
				job.Needs = append(job.Needs, of[c.need(link)])
			}
			if err := t.plan(job); err != nil {
				return nil, err
			}
			jobs = append(jobs, job)
		}
	}
	return jobs, nil
}

// plan fills in a job.
func (t Target) plan(job *Job) error {
	p := job.Package
	for _, name := range p.Release.Patches {
		patch := t.Patches[filepath.Join(p.Recipe.Dir, name)]
		if patch.Err != nil {
			return tomlfile.Problems{{Position: p.Release.Position, Message: "a patch cannot be read: " + patch.Err.Error()}}
		}
		job.Patches = append(job.Patches, store.Source{File: name, Digest: patch.Digest})
	}
	job.Name, job.Version = p.Name(), p.Release.Version.String()
	job.Parts = parts(job)
	job.ID = identify(job, t.System)
	job.Tree = t.Store.Tree(job.Ref)
	if job.Prefix == "" {
		job.Prefix = job.Tree
	}
	job.Stages = stages(t, job, dirsOf(t.Store, job, false))
	return nil
}

// programs returns the programs of the operating system that the stages run, so that a missing
// one is noticed before anything begins.
func (j *Job) programs() []string {
	programs := []string{"sh"}
	if len(j.Patches) > 0 {
		programs = append(programs, "patch")
	}
	if c := j.Parts[0].Checkout; c != nil {
		programs = append(programs, c.Program())
	}
	cc := strings.Fields(compilerOf(j.Recipe))[0]
	switch j.Recipe.Build.Method {
	case recipe.Configure, recipe.Make:
		programs = append(programs, cc, "make")
	case recipe.CMake:
		programs = append(programs, cc, "cmake", "make")
	case recipe.Meson:
		programs = append(programs, cc, "meson", "ninja")
	}
	return programs
}

// Sources returns the digest, commit or revision of each part of the source.
func (j *Job) Sources() []string {
	var sources []string
	for _, part := range j.Parts {
		if part.Checkout != nil {
			sources = append(sources, part.Checkout.Program()+":"+part.Checkout.ID())
		} else {
			sources = append(sources, part.Archive.Digest.String())
		}
	}
	return sources
}

// hostCopies names the copies of the operating system that the build uses.
func (j *Job) hostCopies() []string {
	var copies []string
	for _, link := range j.Package.ByHost {
		copies = append(copies, link.String())
	}
	return copies
}

// Made is what the build is made from.
func (j *Job) Made() store.Made {
	m := store.Made{Options: j.Package.Options, Needs: j.Links(), Compiler: j.Compiler}
	for _, part := range j.Parts {
		if part.Checkout != nil {
			m.Sources = append(m.Sources, part.Checkout.ID())
		} else {
			m.Sources = append(m.Sources, part.Archive.Digest.Hex)
		}
	}
	for _, p := range j.Patches {
		m.Patches = append(m.Patches, p.Digest.Hex)
	}
	return m
}

// Links returns the build's needs, as its receipt states them.
func (j *Job) Links() []store.Link {
	links := []store.Link{}
	for i, need := range j.Needs {
		links = append(links, store.Link{Ref: need.Ref, Role: j.Package.Needs[i].Role})
	}
	return links
}
