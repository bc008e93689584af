package build

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"fernladder/core/event"
	"fernladder/core/inspect"
	"fernladder/core/recipe"
	"fernladder/core/store"
)

// staged is what becomes the tree.
func (g *building) staged() string { return filepath.Join(g.dirs.stage, g.job.Tree) }

// collect sees to it that what was placed is in the stage. Makefiles that know
// no DESTDIR have filled the tree's own directory, which is taken back: it
// becomes a tree later, and at once.
func (g *building) collect(ctx context.Context, log string) error {
	staged := g.staged()
	_, errStaged := os.Lstat(staged)
	filled := g.hasFilled()
	switch {
	case errStaged == nil && filled:
		return g.failure(StagePlace, fmt.Sprintf("some files were placed below $DESTDIR, and some not, in %s", g.job.Tree), log)
	case errStaged != nil && !filled:
		return g.failure(StagePlace, "nothing was placed in $FL_PREFIX", log)
	case filled:
		if err := os.MkdirAll(filepath.Dir(staged), 0o755); err != nil {
			return err
		}
		if err := os.Rename(g.filled(), staged); err != nil {
			return err
		}
	}
	if outside := g.outside(staged); len(outside) > 0 {
		return g.failure(StagePlace, "files were placed outside the tree: "+strings.Join(outside, ", ")+
			"; tell the build to put them below $FL_PREFIX", log)
	}
	if err := g.inspect(ctx, staged, log); err != nil {
		return err
	}
	return g.furnish(staged, log)
}

// inspect looks at what was placed, and at what the build has used for it. What
// cannot work fails the build; the rest is told and goes into the receipt.
func (g *building) inspect(ctx context.Context, staged, log string) error {
	found, err := inspect.Tree(inspect.Look{Staged: staged, Tree: g.job.Tree, Work: g.dirs.work, Stage: g.dirs.stage, Loader: g.loader()})
	if err != nil {
		return err
	}
	var refused []string
	g.Remarks = nil
	if g.Racing != nil {
		g.Remarks = append(g.Remarks, *g.Racing)
	}
	for _, r := range found.Remarks {
		if r.Grade == inspect.Refused {
			refused = append(refused, r.String())
			continue
		}
		g.Remarks = append(g.Remarks, r)
		g.tell(r)
	}
	const enough = 5
	if len(refused) > 0 {
		return g.failure(StagePlace, "what was placed cannot work:\n    "+strings.Join(refused[:min(enough, len(refused))], "\n    "), "")
	}
	return g.findUsed(ctx, found.Libraries)
}

// remark notes something about the build that a person should look at.
func (g *building) remark(text string) {
	r := inspect.Remark{Grade: inspect.Warned, Text: text}
	g.Remarks = append(g.Remarks, r)
	g.tell(r)
}

// tell tells of a remark.
func (g *building) tell(r inspect.Remark) {
	g.Events.Event(event.Event{Kind: event.Remarked, Package: g.job.Name, Version: g.job.Version, Text: r.String()})
}

// outside lists some of the files in the stage that are not in the tree.
func (g *building) outside(staged string) []string {
	const enough = 5
	var outside []string
	filepath.WalkDir(g.dirs.stage, func(path string, d fs.DirEntry, err error) error {
		switch {
		case err != nil:
			return err
		case path == staged:
			return fs.SkipDir
		case len(outside) == enough:
			return fs.SkipAll
		case !d.IsDir():
			outside = append(outside, strings.TrimPrefix(path, g.dirs.stage))
		}
		return nil
	})
	return outside
}

// finish makes the stage a tree, tries it, and writes its receipt.
func (g *building) finish(ctx context.Context) (*store.Receipt, error) {
	g.leave()
	files, size, err := g.Store.Place(g.staged(), g.job.Ref)
	if err != nil {
		return nil, err
	}
	receipt := g.receipt(files, size)
	if err := g.Store.BeginConfigs(receipt); err != nil { // tries may read them
		return nil, errors.Join(err, g.Store.Withdraw(g.job.Ref, g.staged()))
	}
	if len(receipt.Tries) > 0 {
		err = g.stage(ctx, StageTry, func() error { return g.try(ctx, receipt) })
	}
	if err == nil {
		g.account(receipt)
		if err = g.keepUsed(); err == nil {
			err = g.Store.Commit(receipt)
		}
	}
	if err != nil {
		return nil, errors.Join(err, g.Store.Withdraw(g.job.Ref, g.staged()))
	}
	return receipt, os.RemoveAll(g.dirs.work)
}

func (g *building) try(ctx context.Context, receipt *store.Receipt) error {
	log := filepath.Join(g.Store.Logs(g.job.Ref), StageTry+".log")
	results, err := g.Tries(ctx, receipt, g.dirs.tmp)
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
		fmt.Fprintf(output, ownMark+"%s\n%s", r.Try, r.Output)
		if r.Problem != "" {
			fmt.Fprintf(output, ownMark+"%s\n", r.Problem)
			if failed == "" {
				failed = fmt.Sprintf("%s: %s", r.Try, r.Problem)
			}
		}
	}
	if failed != "" {
		return g.failure(StageTry, failed, log)
	}
	return nil
}

// receipt says how the tree came to be, but for how long it took.
func (g *building) receipt(files int, size int64) *store.Receipt {
	p := g.job.Package
	receipt := &store.Receipt{
		Ref: g.job.Ref, Summary: p.Recipe.Summary, Home: p.Recipe.Home, License: p.Recipe.License,
		Recipe: filepath.Join(p.Recipe.Dir, recipe.FileName), Tree: g.job.Tree, Options: p.Options,
		Sources: g.Sources, Patches: g.job.Patches, Configs: g.configs(),
		Needs: g.job.Links(), ByHost: g.job.hostCopies(), Method: p.Recipe.Build.Method, Machine: g.Machine, Compiler: g.job.Compiler,
		Isolation: string(g.isolation()), Began: g.began.UTC(), Files: files, Size: size,
		Remarks: g.Remarks,
	}
	values := treeVariables(g.job)
	receipt.Notes = recipe.Expand(p.Recipe.Notes, lookup(values))
	for _, s := range g.job.Supplies {
		receipt.Supplies = append(receipt.Supplies, store.Supply{File: s.File, About: s.About, Digest: s.Digest})
	}
	for _, t := range p.Recipe.Tries {
		if t.When.Holds(p.Facts(g.Machine)) {
			receipt.Tries = append(receipt.Tries, store.Try{Run: t.Run, Expect: t.Expect, Status: t.Status, Program: t.Program, Flags: t.Flags, Modules: t.Modules})
		}
	}
	receipt.Env = g.userEnvironment()
	return receipt
}

// sizeOf adds up the files in a directory, as far as they can be seen.
func sizeOf(dir string) (size int64) {
	filepath.WalkDir(dir, func(_ string, d fs.DirEntry, err error) error {
		if err != nil || !d.Type().IsRegular() {
			return nil
		}
		if info, err := d.Info(); err == nil {
			size += info.Size()
		}
		return nil
	})
	return size
}

// account adds up the times of the stages, of earlier runs of the same build
// too.
func (g *building) account(receipt *store.Receipt) {
	for _, name := range g.Done {
		receipt.Stages = append(receipt.Stages, store.StageTime{Stage: name, Seconds: g.Seconds[name], CPU: g.CPU[name]})
		receipt.Seconds += g.Seconds[name]
	}
	receipt.WorkSize, receipt.Memory = sizeOf(g.dirs.work), g.used.memory
}
