// Package tinker lets a person change the source of a package: it copies the unpacked and
// patched source into a folder of that person, under git, rebuilds what changes in it, and keeps
// the change as a patch of the recipe.
//
// Builds use a copy in the root (ROOT/tinker/NAME), into which changes are copied before each
// build. No build sees the folder, and nothing that a build makes is written to it. The landing,
// trees and lock file stay as they are.
package tinker

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"time"

	"fernladder/core/build"
	"fernladder/core/durable"
	"fernladder/core/filelock"
	"fernladder/core/install"
	"fernladder/core/machine"
	"fernladder/core/plan"
	"fernladder/core/problem"
	"fernladder/core/resolve"
	"fernladder/core/safefs"
	"fernladder/core/store"
)

// A Bench is the stored state of a package that is being tinkered with.
type Bench struct {
	Name    string           `json:"name"`
	Version string           `json:"version"`
	Asked   string           `json:"asked"`             // the name by which it was asked for
	Options []string         `json:"options"`           // that were set for it
	Presets []string         `json:"presets,omitempty"` // that they were set by
	Folder  string           `json:"folder"`            // absolute
	Base    string           `json:"base"`              // the commit that the source is at without the person's changes
	Began   time.Time        `json:"began"`
	Brought map[string]stamp `json:"-"`       // files of the folder, as they were brought into the build
	Files   []brought        `json:"brought"` // the same, as stored
	Kept    []string         `json:"kept"`    // patches that were made of it
}

// stamp identifies the version of a file.
type stamp struct {
	Size     int64       `json:"size"`
	Modified time.Time   `json:"modified"`
	Mode     fs.FileMode `json:"mode"`
}

// brought is a file of the folder, with its stamp.
type brought struct {
	Name store.Name `json:"name"`
	stamp
}

// largestBench limits the size of the stored state.
const largestBench = 256 << 20

func base(s *store.Store, name string) string { return filepath.Join(s.Root, "tinker", name) }

func benchFile(s *store.Store, name string) string { return filepath.Join(base(s, name), "bench.json") }

// Read returns the stored state of a package that is being tinkered with. Errors have the code
// None, or are the store's.
func Read(s *store.Store, name string) (*Bench, error) {
	data, err := safefs.ReadFile(benchFile(s, name), largestBench)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, problem.New(problem.Usage, name, "%s is not being tinkered with", name).Coded(None).
			Remedy(problem.BeginTinkering, name)
	}
	if err != nil {
		return nil, s.Wrap(err)
	}
	var b Bench
	if err := json.Unmarshal(data, &b); err != nil {
		return nil, &store.Error{Path: benchFile(s, name), Err: fmt.Errorf("this is damaged: %w", err),
			Remedies: []problem.Remedy{problem.Do(problem.DropTinkering, name)}}
	}
	b.Brought = map[string]stamp{}
	for _, f := range b.Files {
		b.Brought[string(f.Name)] = f.stamp
	}
	return &b, nil
}

// All returns the packages that are being tinkered with.
func All(s *store.Store) ([]*Bench, error) {
	files, err := filepath.Glob(filepath.Join(s.Root, "tinker", "*", "bench.json"))
	if err != nil {
		return nil, err
	}
	var all []*Bench
	for _, file := range files {
		b, err := Read(s, filepath.Base(filepath.Dir(file)))
		if err != nil {
			return nil, err
		}
		all = append(all, b)
	}
	return all, nil
}

func (b *Bench) write(s *store.Store) error {
	b.Files = nil
	for _, name := range slices.Sorted(maps.Keys(b.Brought)) {
		b.Files = append(b.Files, brought{store.Name(name), b.Brought[name]})
	}
	data, err := json.MarshalIndent(b, "", " ")
	if err != nil {
		return err
	}
	return s.Wrap(durable.WriteFile(benchFile(s, b.Name), append(data, '\n'), 0o644))
}

// Open starts tinkering with the package of a plan that asks for it alone: it builds its needs,
// unpacks and patches its source, and copies that into a new folder, under git. It does not
// build the package itself.
func Open(ctx context.Context, m *machine.Machine, p *plan.Plan, folder string) (*Bench, error) {
	job := p.Asked()[0]
	if err := notTinkered(m.Store, job.Name); err != nil {
		return nil, err
	}
	folder, err := filepath.Abs(folder)
	if err != nil {
		return nil, err
	}
	if _, err := os.Lstat(folder); err == nil {
		return nil, occupied(folder)
	}
	if m.Programs.Find("git") == "" {
		return nil, errNoGit
	}
	bench := &Bench{Name: job.Name, Version: job.Version, Asked: p.Ask.Names[0], Options: p.Ask.Options,
		Presets: p.Ask.Presets, Folder: folder, Began: m.Now(), Brought: map[string]stamp{}, Kept: []string{}}
	if err := needs(ctx, m, p, job); err != nil {
		return nil, err
	}
	if err := os.MkdirAll(base(m.Store, bench.Name), 0o777); err != nil {
		return nil, m.Store.Wrap(err)
	}
	b, err := build.NewBuilder(ctx, m)
	if err != nil {
		return nil, err
	}
	made := false
	t := &build.Tinkered{Job: job, Base: base(m.Store, bench.Name)}
	t.Source = func(source *os.Root, _ bool, _ func(string) error) ([]string, error) {
		if err := notTinkered(m.Store, job.Name); err != nil { // another process was faster
			return nil, err
		}
		err := newFolder(folder)
		if err != nil {
			return nil, err
		}
		made = true
		if err := layOut(source.Name(), folder); err != nil {
			return nil, err
		}
		if bench.Base, err = begin(ctx, m.Programs.Find("git"), folder, job.Name+" "+job.Version+
			", as it was fetched and patched"); err != nil {
			return nil, err
		}
		if bench.Brought, err = stamps(folder); err != nil {
			return nil, err
		}
		if err := bench.write(m.Store); err != nil {
			return nil, err
		}
		return nil, errLaidOut
	}
	switch err = b.Tinker(ctx, t); {
	case errors.Is(err, errLaidOut):
		return bench, nil
	case err == nil:
		err = errors.New("the source was not copied")
	}
	// Everything that was there before stays.
	if made {
		err = errors.Join(err, safefs.Remove(folder))
	}
	return nil, errors.Join(err, abandon(m.Store, bench.Name))
}

// notTinkered fails if a package is being tinkered with.
func notTinkered(s *store.Store, name string) error {
	old, err := Read(s, name)
	switch {
	case err == nil:
		return problem.New(problem.Usage, old.Name, "%s is already being tinkered with, in %s", old.Name, old.Folder).
			Remedy(problem.ContinueTinkering, old.Name)
	case errors.Is(err, None):
		return nil
	}
	return err
}

// newFolder creates a folder that does not exist, and its parents.
func newFolder(folder string) error {
	if err := os.MkdirAll(filepath.Dir(folder), 0o755); err != nil {
		return err
	}
	err := os.Mkdir(folder, 0o755)
	if errors.Is(err, fs.ErrExist) {
		return occupied(folder)
	}
	return err
}

// abandon deletes the files of tinkering that did not start, unless another process starts it,
// or has started it.
func abandon(s *store.Store, name string) error {
	unlock, err := s.LockFileNow(base(s, name))
	if errors.Is(err, filelock.ErrHeld) {
		return nil
	}
	if err != nil {
		return err
	}
	defer unlock()
	if notTinkered(s, name) != nil {
		return nil
	}
	return s.Wrap(safefs.Remove(base(s, name)))
}

// errLaidOut ends a build after its source has been copied.
var errLaidOut = errors.New("laid out")

var errNoGit = errors.New("there is no program git, which tells changes apart")

// needs builds the missing needs of a package, and fetches its sources.
func needs(ctx context.Context, m *machine.Machine, p *plan.Plan, job *build.Job) error {
	installed := p.Installed[job.Ref]
	p.Needed = build.Needed(p.Jobs, func(r store.Ref) bool { return r != job.Ref && p.Installed[r] })
	p.Needed[job] = false
	defer func() { p.Needed[job] = !installed }()
	if _, err := install.Run(ctx, m, p); err != nil {
		return err
	}
	return install.Bring(ctx, m, job)
}

// job computes the job of a tinkered package from its current recipe.
func (b *Bench) job(ctx context.Context, m *machine.Machine) (*plan.Plan, *build.Job, error) {
	p, err := plan.For(ctx, m, plan.Ask{Names: []string{b.Name + ":" + b.release()}, Options: b.Options,
		Presets: b.Presets})
	if err != nil {
		return nil, nil, err
	}
	return p, p.Asked()[0], nil
}

// release is the name of the release; for the tip of a branch, the branch.
func (b *Bench) release() string {
	if w, err := resolve.ParseWanted(b.Asked); err == nil && w.Tip {
		return "tip"
	}
	return b.Version
}

// Build copies the changes of the folder into the build, and rebuilds what they change. It
// returns the number of files copied.
func (b *Bench) Build(ctx context.Context, m *machine.Machine) (*build.Tinkered, int, error) {
	if info, err := os.Stat(b.Folder); err != nil || !info.IsDir() {
		return nil, 0, &store.Error{Path: b.Folder, Err: errors.New("the folder with the source is gone"),
			Remedies: []problem.Remedy{problem.Do(problem.DropTinkering, b.Name)}}
	}
	if err := m.Store.Prepare(); err != nil {
		return nil, 0, err
	}
	p, job, err := b.job(ctx, m)
	if err != nil {
		return nil, 0, err
	}
	if err := needs(ctx, m, p, job); err != nil {
		return nil, 0, err
	}
	builder, err := build.NewBuilder(ctx, m)
	if err != nil {
		return nil, 0, err
	}
	t := &build.Tinkered{Job: job, Base: base(m.Store, b.Name)}
	number := 0
	t.Source = func(source *os.Root, fresh bool, own func(string) error) ([]string, error) {
		if fresh {
			b.Brought = map[string]stamp{}
		}
		changed, err := b.bring(source, own)
		number = len(changed)
		if err == nil {
			err = b.write(m.Store)
		}
		return changed, err
	}
	return t, number, builder.Tinker(ctx, t)
}

// Try runs a command with the build, or the recipe's tries.
func Try(ctx context.Context, m *machine.Machine, t *build.Tinkered, argv []string) ([]build.TryResult, error) {
	builder, err := build.NewBuilder(ctx, m)
	if err != nil {
		return nil, err
	}
	return builder.TryTinkered(ctx, t, argv)
}

// Drop ends tinkering with a package. It deletes the folder if all of its changes were kept;
// otherwise the folder stays, and kept is true.
func Drop(ctx context.Context, m *machine.Machine, name string, folderToo bool) (folder string, kept bool, err error) {
	b, err := Read(m.Store, name)
	if errors.As(err, new(*store.Error)) { // it is damaged
		t := &build.Tinkered{Base: base(m.Store, name)}
		return "", true, t.Drop(ctx, m.Store)
	}
	if err != nil {
		return "", false, err
	}
	if !folderToo {
		text, err := difference(ctx, m.Programs.Find("git"), b.Folder, b.Base)
		kept = err != nil || text != ""
	}
	t := &build.Tinkered{Base: base(m.Store, name)}
	if err := t.Drop(ctx, m.Store); err != nil {
		return b.Folder, true, err
	}
	if kept {
		return b.Folder, true, nil
	}
	return b.Folder, false, safefs.Remove(b.Folder)
}

// None is the problem of a package that is not being tinkered with.
const None problem.Code = "not_tinkered"

func occupied(folder string) error {
	return problem.New(problem.Usage, folder, "%s already exists, and stays as it is", folder).Remedy(problem.ChooseFolder)
}
