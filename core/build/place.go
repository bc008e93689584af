package build

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"fernladder/core/event"
	"fernladder/core/inspect"
	"fernladder/core/recipe"
	"fernladder/core/safefs"
	"fernladder/core/store"
)

// collect takes over the placed files: from the stage or, if makefiles ignore DESTDIR, from the
// path of the tree. The tree is made of new files that belong to the program, and that no build
// has open.
func (a *attempt) collect(ctx context.Context, log string) error {
	staged, err := a.staged()
	if err != nil {
		return err
	}
	filled, err := safefs.OpenDir(a.filled())
	if err != nil {
		return err
	}
	defer filled.Close()
	placed := staged
	known, err := a.knownInPrefix()
	if err != nil {
		return err
	}
	if staged != nil {
		defer staged.Close()
	}
	isFilled, outside := hasFiles(filled, known), a.outside()
	switch {
	case staged != nil && isFilled:
		return a.failure(StagePlace, fmt.Sprintf("some files were placed below $DESTDIR, and some not, in %s", a.job.Prefix),
			log)
	case len(outside) > 0:
		f := a.failure(StagePlace, "files were placed outside the tree: "+strings.Join(outside, ", ")+
			"; tell the build to put them below $FL_PREFIX", log)
		f.Outside = outside
		return f
	case staged == nil && !isFilled:
		f := a.failure(StagePlace, "nothing was placed in $FL_PREFIX", log)
		f.Nothing = true
		return f
	case isFilled:
		placed = filled
	}
	if placed == staged {
		known = nil // the needs do not have it
	}
	if err := a.takeOver(ctx, placed, known); err != nil {
		return err
	}
	a.takeGiven()
	// Files that were taken over are not written to the disk twice.
	if err := errors.Join(safefs.Remove(a.dirs.stage), safefs.Empty(a.filled())); err != nil {
		return err
	}
	return a.addLaunchersAndConfigs(log)
}

// listBuilt adds to a failure what was built and not placed: in the directory of the build or, if
// that is one of the source's directories, beside it.
func (a *attempt) listBuilt(f *Failure) {
	built := func(dir string) (names []string) {
		d, err := safefs.OpenDir(dir)
		if err != nil {
			return nil
		}
		defer d.Close()
		return Built(d, func(string) bool { return false })
	}
	if f.Built = built(a.dirs.build); len(f.Built) > 0 {
		return
	}
	up, err := filepath.Rel(a.dirs.build, a.dirs.source)
	if err != nil || !strings.HasPrefix(up, "..") || !strings.HasPrefix(a.dirs.build, a.dirs.source) {
		return
	}
	for _, name := range built(a.dirs.source) {
		f.Built = append(f.Built, path.Join(up, name))
	}
}

// Built are the programs, plug-ins and libraries in a directory that a build has made there.
func Built(d *safefs.Dir, before func(name string) bool) (names []string) {
	const most = 200
	d.Walk(true, func(e safefs.Entry) error {
		base := path.Base(e.Name)
		library := IsLibrary(base)
		program := IsPlugin(base) ||
			e.Mode&0o111 != 0 && !library && !strings.Contains(base, ".so") && !strings.HasSuffix(base, ".o")
		if !e.Mode.IsRegular() || !library && !program || len(names) == most || strings.Contains(e.Name, "CMakeFiles/") ||
			printable(e.Name) != e.Name || before(e.Name) {
			return nil
		}
		if program {
			f, err := d.Open(e.Name)
			if err != nil {
				return nil
			}
			defer f.Close()
			begins := make([]byte, 4)
			if _, err := io.ReadFull(f, begins); err != nil || string(begins) != "\x7fELF" {
				return nil
			}
		}
		names = append(names, e.Name)
		return nil
	})
	slices.Sort(names)
	return names
}

// IsLibrary reports whether a file has the name of a library to link with.
func IsLibrary(base string) bool {
	return strings.HasPrefix(base, "lib") && (strings.HasSuffix(base, ".a") || strings.Contains(base, ".so"))
}

// IsPlugin reports whether a file has the name of a shared object that programs load.
func IsPlugin(base string) bool { return strings.HasSuffix(base, ".so") && !IsLibrary(base) }

// staged opens the directory of the tree in the stage; nil if there is none.
func (a *attempt) staged() (*safefs.Dir, error) {
	box, err := safefs.OpenDir(a.dirs.box)
	if err != nil {
		return nil, err
	}
	defer box.Close()
	d, err := box.Sub(a.dirs.below(a.dirs.stage + a.job.Prefix))
	if err != nil {
		return nil, nil // or an existing entry is no directory, and so was not placed
	}
	return d, nil
}

// unite moves files that were placed below $DESTDIR to those that were placed without it, for
// makefiles that respect DESTDIR only in some places.
func (a *attempt) unite(ctx context.Context, output *os.File, log string) error {
	staged, err := a.staged()
	if err != nil || staged == nil || a.job.Away() {
		return err
	}
	defer staged.Close()
	filled, err := safefs.OpenDir(a.filled())
	if err != nil {
		return err
	}
	defer filled.Close()
	if !hasFiles(filled, nil) {
		return nil
	}
	const move = `cp -af "$1/." "$2" && rm -rf "$1"`
	say(output, "some files were placed below $DESTDIR, and some not; moving the former to the latter:")
	err = a.command(ctx, Command{Dir: a.dirs.box,
		Argv: []string{"sh", "-c", move, "sh", a.dirs.stage + a.job.Prefix, a.job.Prefix}, Jobs: One}, output)
	if err != nil && ctx.Err() == nil {
		return a.failure(StagePlace, fmt.Sprintf("some files were placed below $DESTDIR, and some not, in %s, and they "+
			"do not fit together", a.job.Prefix), log)
	}
	return err
}

// hasFiles reports whether a directory has entries other than the known ones.
func hasFiles(d *safefs.Dir, known map[string]inspect.Known) (found bool) {
	d.Walk(true, func(e safefs.Entry) error {
		if _, is := known[e.Name]; is {
			return nil
		}
		found = true
		return safefs.Stop
	})
	return found
}

// takeOver copies the placed files, inspects them, and finds what the build has used. Files that
// cannot work fail the build; lesser findings are reported and recorded in the receipt.
func (a *attempt) takeOver(ctx context.Context, placed *safefs.Dir, known map[string]inspect.Known) error {
	if err := safefs.Remove(a.dirs.placed); err != nil {
		return err
	}
	look := inspect.Look{Staged: a.dirs.placed, Tree: a.job.Prefix, Work: a.dirs.box, Stage: a.dirs.stage,
		Loader: a.b.loader(), Arch: a.m.System.Arch, Largest: int64(a.m.Settings.LargestTree) << 20}
	if a.job.Away() {
		look.Seen, look.Trees, look.Known = a.dirs.seen, a.m.Store.TreesDir(), known
	}
	found, err := inspect.Take(placed, look)
	if err != nil {
		return err
	}
	a.digests = found.Digests
	var refused []string
	a.journal.Remarks = nil
	for _, stage := range allStages {
		if r, is := a.journal.Early[stage]; is {
			a.journal.note(r)
		}
	}
	for _, r := range found.Remarks {
		if r.Grade == inspect.Refused {
			refused = append(refused, r.String())
			continue
		}
		if a.journal.note(r) {
			a.remarked(r)
		}
	}
	const enough = 5
	if len(refused) > 0 {
		f := a.failure(StagePlace, "the placed files cannot work:\n    "+strings.Join(refused[:min(enough, len(refused))],
			"\n    "), "")
		if f.Nothing = slices.ContainsFunc(found.Remarks, func(r inspect.Remark) bool {
			return r.Text == inspect.Empty
		}); f.Nothing {
			a.listBuilt(f)
		}
		return f
	}
	if a.system != "" && a.m.Packages.State() != a.system {
		a.remark("packages of the operating system changed during the build, so what it used of them may be inconsistent; " +
			"build it again")
	}
	return a.findUsed(ctx, found.Libraries)
}

// remark records something about the build that a person should know.
func (a *attempt) remark(text string) {
	r := inspect.Remark{Grade: inspect.Warned, Text: text}
	if a.journal.note(r) {
		a.remarked(r)
	}
}

// remarked reports a remark.
func (a *attempt) remarked(r inspect.Remark) {
	a.emit(event.Event{Kind: event.Remarked, Text: r.String()})
}

// outside lists some of the files that are in the stage and not in the tree.
func (a *attempt) outside() []string {
	const enough = 5
	var outside []string
	inside := strings.TrimPrefix(a.job.Prefix, "/")
	a.walkBox(a.dirs.stage, func(e safefs.Entry) error {
		switch {
		case e.Name == inside:
			return safefs.Skip
		case len(outside) == enough:
			return safefs.Stop
		case "/"+e.Name == a.dirs.home, "/"+e.Name == a.dirs.tmp: // such as CMake's registry in the user's home
			return safefs.Skip
		case !e.Mode.IsDir():
			outside = append(outside, "/"+e.Name)
		}
		return nil
	})
	return outside
}

// finish makes the taken-over files a tree, tries it, and writes its receipt.
func (a *attempt) finish(ctx context.Context) (*store.Receipt, error) {
	if err := a.leave(); err != nil {
		return nil, a.m.Store.Wrap(err)
	}
	if err := a.ownPlaced(); err != nil {
		return nil, a.m.Store.Wrap(err)
	}
	licences, err := a.keepLicences()
	if err != nil {
		return nil, a.m.Store.Wrap(err)
	}
	files, size, err := a.m.Store.Place(a.dirs.placed, a.job.Ref, a.digests)
	if err != nil {
		return nil, a.m.Store.Wrap(err)
	}
	receipt := a.receipt(files, size)
	receipt.Licences, receipt.Public = licences, public(a.m.Store.Tree(a.job.Ref), a.job)
	if err := a.m.Store.BeginConfigs(receipt); err != nil { // tries may read them
		return nil, errors.Join(a.m.Store.Wrap(err), a.m.Store.Withdraw(a.job.Ref, a.dirs.placed))
	}
	if len(receipt.Tries) > 0 {
		err = a.stage(ctx, StageTry, func() error { return a.try(ctx, receipt) })
	}
	if err == nil {
		a.account(receipt)
		if err = a.keepUsed(); err == nil {
			err = a.m.Store.Commit(receipt)
		}
	}
	if err != nil {
		return nil, errors.Join(a.m.Store.Wrap(err), a.m.Store.Withdraw(a.job.Ref, a.dirs.placed))
	}
	a.keepCompiled()
	return receipt, a.m.Store.Wrap(safefs.Remove(a.dirs.work))
}

func (a *attempt) try(ctx context.Context, receipt *store.Receipt) error {
	log := a.log(StageTry)
	results, err := tries(ctx, a.m, a.b.level, receipt, a.dirs.tries, a.room.user)
	if err != nil {
		return err
	}
	output, err := os.Create(log)
	if err != nil {
		return err
	}
	defer output.Close()
	failed := ""
	for _, r := range results {
		say(output, "%s", r.Try)
		fmt.Fprint(output, r.Output)
		if r.Problem != "" {
			say(output, "%s", r.Problem)
			if failed == "" {
				failed = fmt.Sprintf("%s: %s", r.Try, r.Problem)
			}
		}
	}
	if failed != "" {
		return a.failure(StageTry, failed, log)
	}
	return nil
}

// receipt describes how the tree was made, except for the time it took.
func (a *attempt) receipt(files int, size int64) *store.Receipt {
	p := a.job.Package
	receipt := &store.Receipt{
		Ref: a.job.Ref, Summary: a.job.Recipe.Summary, Home: a.job.Recipe.Home, License: a.job.Recipe.License,
		Recipe: filepath.Join(a.job.Recipe.Dir, recipe.FileName), RecipeSHA256: a.journal.Recipe,
		Tree: a.job.Tree, Prefix: a.job.away(), Options: p.Options,
		Chosen: p.Chosen(), Preset: a.job.Preset, Track: p.Release.Track,
		Configs:  configs(a.job.Recipe.Configs),
		Writable: configs(a.job.Recipe.Writable),
		Needs:    a.job.Links(), ByHost: a.job.hostCopies(), Method: a.job.Recipe.Build.Method, Machine: a.m.System,
		Compiler:  a.job.Compiler,
		Isolation: string(a.b.level), NotBare: a.journal.NotBare, Features: a.journal.Features,
		Without: missedNames(a.journal.Features), Given: a.journal.Given, Began: a.cost.began.UTC(), Files: files, Size: size,
		Remarks: a.journal.Remarks, Edited: a.journal.Edited, Resumed: a.journal.earlier(),
		SkippedUnplaced: a.skips(StageCompile), Cached: a.journal.Cached,
	}
	values := treeVariables(a.job)
	receipt.Notes = recipe.Expand(a.job.Recipe.Notes, lookup(values))
	for _, s := range a.job.Recipe.Supplies {
		receipt.Supplies = append(receipt.Supplies, store.Supply{File: s.File, About: s.About, Digest: s.Digest})
	}
	for _, t := range a.job.Recipe.Tries {
		receipt.Tries = append(receipt.Tries, store.Try{Run: t.Run, Expect: t.Expect, Status: t.Status, Program: t.Program,
			Flags: t.Flags, Modules: t.Modules})
	}
	receipt.Env, receipt.BeforeSystem, receipt.Beside = a.userEnvironment(), a.job.Recipe.BeforeSystem, a.job.Beside()
	receipt.RunsWith = a.job.RunsWith()
	receipt.Declares = slices.Sorted(maps.Keys(a.job.declarations()))
	receipt.KnownAs = a.job.Recipe.KnownAs
	receipt.Patches = slices.Clone(a.job.Patches)
	for i := range receipt.Patches {
		receipt.Patches[i].Fixes = p.Recipe.FixesOf(receipt.Patches[i].File)
	}
	receipt.Sources = slices.Clone(a.journal.Sources)
	for i := range receipt.Sources {
		for _, e := range a.job.Recipe.Extras {
			if e.Into == receipt.Sources[i].Into {
				receipt.Sources[i].Purl = e.Purl
			}
		}
	}
	for _, s := range p.Recipe.NotAffected {
		if s.When.Holds(p.Facts(a.m.System)) {
			receipt.NotAffected = append(receipt.NotAffected, store.NotAffected{ID: s.ID, Because: s.Because,
				When: s.When.String()})
		}
	}
	for _, o := range a.job.Recipe.Owners {
		receipt.Owned = append(receipt.Owned, store.Owned{File: o.File, Owner: o.Owner, Group: o.Group, Mode: o.Mode})
	}
	return receipt
}

// account adds up the times of the stages, including those of earlier runs of the same build.
func (a *attempt) account(receipt *store.Receipt) {
	for _, name := range a.journal.Done {
		receipt.Stages = append(receipt.Stages, store.StageTime{Stage: name, Seconds: a.journal.Seconds[name],
			CPU: a.journal.CPU[name]})
		receipt.Seconds += a.journal.Seconds[name]
	}
	receipt.WorkSize, receipt.Memory = safefs.Size(a.dirs.work), a.cost.used.memory
}

// RunsWith is what a build needs of the operating system at run time.
func (j *Job) RunsWith() []store.HostNeed {
	var all []store.HostNeed
	for _, n := range j.Recipe.HostNeeds {
		if !n.Runtime {
			continue
		}
		need := store.HostNeed{Question: n.Question()}
		for _, p := range n.Packages {
			need.Packages = append(need.Packages, store.FamilyPackages{Family: p.Name, Names: strings.Fields(p.Values[0])})
		}
		all = append(all, need)
	}
	return all
}

// Beside are the additional names of files on the landing.
func (j *Job) Beside() []store.Beside {
	var all []store.Beside
	for _, b := range j.Recipe.Beside {
		all = append(all, store.Beside{File: b.File, As: b.Name(j.Name, j.Version)})
	}
	return all
}
