// Package build turns the packages of a ladder into trees.
//
// Plan makes plain values first: for each package a Job with its build id, its
// directories and the commands of its stages. A Builder runs them. A build sees
// of other packages only the trees of its declared needs, and a tree appears
// when all its stages have succeeded and not before.
package build

import (
	"context"
	"path/filepath"
	"slices"
	"strings"

	"fernladder/core/event"
	"fernladder/core/host"
	"fernladder/core/recipe"
	"fernladder/core/resolve"
	"fernladder/core/seal"
	"fernladder/core/source"
	"fernladder/core/store"
)

// A Job is one package of a ladder, ready to be built.
type Job struct {
	store.Ref
	Package  *resolve.Package
	Needs    []*Job // the builds it stands on, in the order of Package.Needs
	Tree     string
	Parts    []Part // of the source; the release itself is the first
	Supplies []*recipe.Supply
	Patches  []store.Source
	Compiler string
	Stages   []Stage
	Watch    bool // every file that it reads is recorded
}

// The stages of a build that need no recipe to know what they do. The others
// are configure, compile, check and place.
const (
	StageUnpack = "unpack"
	StagePatch  = "patch"
	StagePlace  = "place"
	StageTry    = "try"
)

// A Stage is a part of a build that is done as a whole or not done.
type Stage struct {
	Name     string
	Commands []Command
}

// A Command runs in a directory, with the environment of its build.
type Command struct {
	Dir  string
	Argv []string
	Jobs Jobs

	Named bool // it only finds job slots that have a name in the file system
}

// Jobs says how a command runs several jobs at once.
type Jobs int

// The ways to run jobs.
const (
	One    Jobs = iota // it does not
	Shared             // it takes slots from the pool by the jobserver protocol
	Leased             // it is told how many, as $FL_JOBS in its arguments
)

// Workshop is what builds are planned for: a machine and a root.
type Workshop struct {
	Store    *store.Store
	Machine  host.Machine
	Programs host.Programs
	Jobs     int // slots, for FL_JOBS
	Events   event.Sink
	Offline  bool // what is not here is not fetched
	Limits   source.Limits

	Credentials *source.Credentials // for repositories; nil: none

	// Isolation is how far builds and tries are kept apart from the machine.
	// The zero value is seal.Open.
	Isolation seal.Level

	// Users are lent to builds and tries when root runs them.
	Users seal.Users
	// Most is what a build or a try may take.
	Most seal.Limits
	// TrustedEnv are packages that may set any variable for everybody.
	TrustedEnv []string
	// LargestLog is the most bytes that a stage may print; 0 is no limit.
	LargestLog int64
	// LargestTree is the most bytes that a build may place; 0 is no limit.
	LargestTree int64

	again bool // what is built is built already, and only compared
}

func (w *Workshop) isolation() seal.Level {
	if w.Isolation == "" {
		return seal.Open
	}
	return w.Isolation
}

// Repositories are the copies of git and Subversion repositories in the root.
func (w *Workshop) Repositories() *source.Repositories {
	return &source.Repositories{Dir: w.Store.Archives(), Programs: w.Programs, Events: w.Events, Offline: w.Offline, Credentials: w.Credentials}
}

// Plan makes a job for each package of the ladder, in its order.
func (w *Workshop) Plan(ctx context.Context, ladder *resolve.Ladder) ([]*Job, error) {
	jobs := make([]*Job, 0, len(ladder.Packages))
	of := map[*resolve.Package]*Job{}
	compilers := map[string]string{}
	for _, p := range ladder.Packages {
		if problems := p.Recipe.TakesOver(); len(problems) > 0 && !slices.Contains(w.TrustedEnv, p.Name()) {
			return nil, problems
		}
		job := &Job{Package: p}
		of[p] = job
		for _, link := range p.Needs {
			job.Needs = append(job.Needs, of[link.Package])
		}
		cc := compilerOf(p.Recipe)
		if _, known := compilers[cc]; !known {
			compilers[cc] = w.Programs.Compiler(ctx, cc)
		}
		job.Compiler = compilers[cc]
		if err := w.plan(job); err != nil {
			return nil, err
		}
		jobs = append(jobs, job)
	}
	return jobs, ctx.Err()
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

func (w *Workshop) plan(job *Job) error {
	p := job.Package
	patches, err := digestPatches(p.Recipe, p.Release)
	if err != nil {
		return err
	}
	job.Patches = patches
	job.Name, job.Version = p.Name(), p.Release.Version.String()
	job.Parts = parts(job, p.Facts(w.Machine))
	job.Supplies = supplies(p.Recipe, p.Facts(w.Machine))
	job.ID = identify(job, w.Machine)
	job.Tree = w.Store.Tree(job.Ref)
	job.Stages = w.stages(job)
	return nil
}

// Programs returns the operating system's programs that the stages run, so
// that their absence is known before anything is begun.
func (j *Job) Programs() []string {
	programs := []string{"sh"}
	if len(j.Patches) > 0 {
		programs = append(programs, "patch")
	}
	if c := j.Parts[0].Checkout; c != nil {
		programs = append(programs, c.Program())
	}
	cc := strings.Fields(compilerOf(j.Package.Recipe))[0]
	switch j.Package.Recipe.Build.Method {
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

// hostCopies names the operating system's copies that the build uses.
func (j *Job) hostCopies() []string {
	var copies []string
	for _, link := range j.Package.ByHost {
		copies = append(copies, link.String())
	}
	return copies
}

// Links returns what the build needs, as its receipt will say.
func (j *Job) Links() []store.Link {
	links := []store.Link{}
	for i, need := range j.Needs {
		links = append(links, store.Link{Ref: need.Ref, Role: j.Package.Needs[i].Role})
	}
	return links
}

// workDirs are the directories of a build. Those of the program itself are in the
// work directory: no build sees them. The box and what stands in for the tree are
// the build's, to do with as it likes, and foreign ground to the program.
type workDirs struct {
	work   string
	room   string // an empty directory to put a sealed room together on
	given  string // what the build is given to read
	tries  string
	placed string // what becomes the tree: files that the program has made itself

	box                                     string
	source, build, stage, home, tmp, supply string // in the box
	traces                                  string // in the box
	prefix                                  string // stands in for the tree in a sealed room

	system string // what the build system is in: the source, or a directory of it
}

func (w *Workshop) dirs(job *Job) workDirs {
	work := w.Store.Work(job.Ref)
	if w.again {
		work += ".again"
	}
	box := boxOf(work)
	d := workDirs{
		work: work, room: filepath.Join(work, "room"), given: filepath.Join(work, "given"), tries: filepath.Join(work, "tries"),
		placed: filepath.Join(work, "placed"), prefix: filepath.Join(work, "prefix"), box: box,
		source: filepath.Join(box, "source"), build: filepath.Join(box, "build"), stage: filepath.Join(box, "stage"),
		home: filepath.Join(box, "home"), tmp: filepath.Join(box, "tmp"), supply: filepath.Join(box, "supply"), traces: filepath.Join(box, "traces"),
	}
	b := job.Package.Recipe.Build
	d.system = filepath.Join(d.source, b.Dir)
	if b.InTree || b.Method == recipe.Make || b.Method == recipe.Script {
		d.build = d.system
	}
	return d
}

// below is a path of the box as it is named below it.
func (d workDirs) below(path string) string { return strings.TrimPrefix(path, d.box+"/") }

func boxOf(work string) string { return filepath.Join(work, "box") }
