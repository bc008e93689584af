package build

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"fernladder/core/durable"
	"fernladder/core/event"
	"fernladder/core/host"
	"fernladder/core/inspect"
	"fernladder/core/problem"
	"fernladder/core/recipe"
	"fernladder/core/safefs"
	"fernladder/core/sandbox"
	"fernladder/core/store"
	"fernladder/core/traces"
)

// ErrNotWatched is the error for watching a build without isolation.
var ErrNotWatched error = problem.New(problem.Host, "isolation",
	"only sealed builds can be watched: the room of a build watches it")

// Used is what a build has used of the operating system without declaring it. It is kept beside
// the build's logs, not in the tree, because it is about the machine.
type Used struct {
	Build   store.Ref    `json:"build"`
	Watched bool         `json:"watched"` // the build's every file was recorded
	Bare    bool         `json:"bare"`    // the build saw nothing that is not declared
	Files   int          `json:"files"`   // of the operating system that it has used, as far as is known
	Uses    []traces.Use `json:"uses"`
	Others  []string     `json:"others,omitempty"` // packages of which only files were opened that no recipe asks for
	Record  string       `json:"record,omitempty"` // the file that has every file
}

// The traces of a build: the first two in the box, the last in the work directory.
const (
	includedFile = "included" // by compilers that were not otherwise told to record it
	modulesFile  = "modules"  // that pkg-config was asked for
	openedFile   = "opened"   // what a watched build has read and run
)

// traceEnv makes compilers and pkg-config record what they find. gcc and clang know
// SUNPRO_DEPENDENCIES, unless a makefile makes them write such a file itself; their output does
// not depend on it. It is only set for real compilation.
func (a *attempt) traceEnv(stage string) []string {
	env := []string{"PKG_CONFIG_LOG=" + filepath.Join(a.dirs.traces, modulesFile)}
	if stage != StageConfigure && a.cache == nil { // which does not work with it
		env = append(env, "SUNPRO_DEPENDENCIES="+filepath.Join(a.dirs.traces, includedFile))
	}
	return env
}

// findUsed finds out, after everything is placed, what the build has used, and reports it. The
// libraries are those of the operating system that placed files need at run time. If that cannot
// be found out, a successful build does not fail, unless it is watched.
func (a *attempt) findUsed(ctx context.Context, libraries []string) error {
	if a.bare() && !a.job.Watch { // only declared things were visible
		a.journal.Used = &Used{Build: a.job.Ref, Bare: true}
		return nil
	}
	files, err := a.traced(ctx, libraries)
	var uses []traces.Use
	var others []string
	if err == nil {
		uses, others, err = a.b.system().Beyond(ctx, files, a.declaration())
	}
	if ctx.Err() != nil || err != nil && a.job.Watch {
		return errors.Join(ctx.Err(), err)
	}
	if err != nil {
		a.remark(fmt.Sprintf("what it uses of this machine is unknown: %v", err))
		return nil
	}
	a.journal.Used = &Used{Build: a.job.Ref, Watched: a.job.Watch, Files: len(files), Uses: uses, Others: others}
	if len(uses) == 0 || a.rebuild {
		return nil
	}
	const enough = 4
	var names []string
	for _, u := range uses[:min(enough, len(uses))] {
		names = append(names, u.String())
	}
	if len(uses) > enough {
		names = append(names, fmt.Sprintf("%d more", len(uses)-enough))
	}
	r := inspect.Remark{Grade: inspect.Warned, Text: "it uses parts of this machine that its recipe does not declare: " +
		strings.Join(names, ", ")}
	a.journal.note(r)
	a.emit(event.Event{Kind: event.Undeclared, Text: r.String()})
	return nil
}

// traced are the files of the operating system in the build's traces.
func (a *attempt) traced(ctx context.Context, libraries []string) (traces.Files, error) {
	files := traces.Files{}
	box, err := safefs.OpenDir(a.dirs.box)
	if err != nil {
		return nil, err
	}
	defer box.Close()
	build, traces := a.dirs.below(a.dirs.build), a.dirs.below(a.dirs.traces)
	if err := files.Headers(box, build, filepath.Join(traces, includedFile)); err != nil {
		return nil, err
	}
	if err := a.askNinja(ctx, files); err != nil {
		return nil, err
	}
	files.Modules(box, filepath.Join(traces, modulesFile), a.b.modulePath())
	files.Libraries(libraries, a.b.loader())
	var notes []string
	for _, name := range []string{"config.log", "CMakeCache.txt", "meson-logs/meson-log.txt"} {
		notes = append(notes, filepath.Join(build, name))
	}
	if err := files.Programs(box, notes, []string{a.log(StageCompile), a.log(StagePlace)}); err != nil {
		return nil, err
	}
	if a.job.Watch {
		if err := files.Record(filepath.Join(a.dirs.work, openedFile)); err != nil {
			return nil, err
		}
	}
	for path := range files {
		if strings.HasPrefix(path, a.m.Store.Root+"/") ||
			a.job.Away() && a.job.Prefix != systemPrefix && strings.HasPrefix(path, a.job.Prefix+"/") {
			delete(files, path)
		}
	}
	return files, nil
}

// askNinja asks ninja for the dependencies that it has recorded.
func (a *attempt) askNinja(ctx context.Context, files traces.Files) error {
	if _, err := os.Lstat(filepath.Join(a.dirs.build, ".ninja_deps")); err != nil {
		return nil
	}
	output, err := os.Create(filepath.Join(a.dirs.work, "ninja-deps"))
	if err != nil {
		return err
	}
	defer output.Close()
	if err := a.command(ctx, Command{Dir: a.dirs.build, Argv: []string{"ninja", "-t", "deps"}, Jobs: One},
		output); err != nil {
		return ctx.Err() // then less is known
	}
	const most = 256 << 20
	text, err := safefs.ReadFile(output.Name(), most)
	files.Listed(string(text))
	return err
}

// declaration is what the recipe declares to need of the operating system. A copy in place of a
// recipe counts as declared.
func (a *attempt) declaration() traces.Declaration {
	d := traces.Declaration{Programs: a.job.programs()}
	declare := func(n *recipe.HostNeed) {
		q := n.Question()
		d.Questions = append(d.Questions, q)
		if q.Kind == host.Module || q.Kind == host.Header { // which have the library with them
			d.Questions = append(d.Questions, host.Question{Kind: host.Library, Name: strings.TrimSuffix(q.Name, ".h")})
		}
		d.Packages = append(d.Packages, n.PackagesOf(a.m.System.Family)...)
		d.Packages = append(d.Packages, host.PackageOf(n.Program, a.m.System.Family)...)
	}
	p := a.job.Package
	for _, n := range a.job.Recipe.HostNeeds {
		declare(n)
	}
	for _, link := range p.ByHost {
		declare(link.As)
	}
	return d
}

// keepUsed records what was used, for host --used.
func (a *attempt) keepUsed() error {
	if a.journal.Used == nil {
		return nil
	}
	if a.journal.Used.Watched {
		a.journal.Used.Record = filepath.Join(a.m.Store.Logs(a.job.Ref), openedFile)
		record, err := safefs.ReadFile(filepath.Join(a.dirs.work, openedFile), sandbox.LargestRecord)
		if err == nil {
			err = durable.WriteFile(a.journal.Used.Record, record, 0o644)
		}
		if err != nil {
			return err
		}
	}
	data, err := json.MarshalIndent(a.journal.Used, "", "  ")
	if err != nil {
		return err
	}
	return durable.WriteFile(filepath.Join(a.m.Store.Logs(a.job.Ref), usedFile), append(data, '\n'), 0o644)
}

const usedFile = "used.json"

// UsedBy returns what a build has used. Its error is fs.ErrNotExist if nothing is known about
// it.
func UsedBy(s *store.Store, r store.Ref) (*Used, error) {
	const most = 64 << 20
	data, err := safefs.ReadFile(filepath.Join(s.Logs(r), usedFile), most)
	if err != nil {
		return nil, err
	}
	var u Used
	return &u, json.Unmarshal(data, &u)
}

// Watch builds an installed job a second time, in another directory, and records every file that
// it reads. Nothing else of the second build is kept.
func (b *Builder) Watch(ctx context.Context, job *Job) error {
	if b.level != sandbox.Sealed {
		return ErrNotWatched
	}
	return b.rebuild(ctx, job, (*attempt).keepUsed)
}
