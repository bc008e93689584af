package build

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"fernladder/core/event"
	"fernladder/core/ground"
	"fernladder/core/inspect"
	"fernladder/core/recipe"
	"fernladder/core/store"
)

// collect takes over what was placed: in the stage, or, by makefiles that know no
// DESTDIR, where the tree will be. What becomes the tree are files of the program's
// own, of which no build holds one.
func (g *building) collect(ctx context.Context, log string) error {
	staged, err := g.staged()
	if err != nil {
		return err
	}
	filled, err := ground.OpenDir(g.filled())
	if err != nil {
		return err
	}
	defer filled.Close()
	placed := staged
	switch isFilled := hasFiles(filled); {
	case staged != nil && isFilled:
		staged.Close()
		return g.failure(StagePlace, fmt.Sprintf("some files were placed below $DESTDIR, and some not, in %s", g.job.Tree), log)
	case staged == nil && !isFilled:
		return g.failure(StagePlace, "nothing was placed in $FL_PREFIX", log)
	case isFilled:
		placed = filled
	default:
		defer staged.Close()
	}
	if outside := g.outside(); len(outside) > 0 {
		return g.failure(StagePlace, "files were placed outside the tree: "+strings.Join(outside, ", ")+
			"; tell the build to put them below $FL_PREFIX", log)
	}
	if err := g.takeOver(ctx, placed, log); err != nil {
		return err
	}
	// What was taken over is not brought to the disk twice.
	if err := errors.Join(ground.Remove(g.dirs.stage), ground.Empty(g.filled())); err != nil {
		return err
	}
	return g.furnish(log)
}

// staged opens the directory of the tree in the stage; nil where there is none.
func (g *building) staged() (*ground.Dir, error) {
	box, err := ground.OpenDir(g.dirs.box)
	if err != nil {
		return nil, err
	}
	defer box.Close()
	d, err := box.Sub(g.dirs.below(g.dirs.stage + g.job.Tree))
	if err != nil {
		return nil, nil // or what is there is no directory, and so nothing that was placed
	}
	return d, nil
}

// hasFiles tells whether something is in a directory.
func hasFiles(d *ground.Dir) (found bool) {
	d.Walk(true, func(ground.Entry) error {
		found = true
		return ground.Stop
	})
	return found
}

// takeOver copies what was placed, looks at it, and at what the build has used for
// it. What cannot work fails the build; the rest is told and goes into the receipt.
func (g *building) takeOver(ctx context.Context, placed *ground.Dir, log string) error {
	if err := ground.Remove(g.dirs.placed); err != nil {
		return err
	}
	found, err := inspect.Take(placed, inspect.Look{Staged: g.dirs.placed, Tree: g.job.Tree, Work: g.dirs.box, Stage: g.dirs.stage,
		Loader: g.loader(), Largest: g.LargestTree})
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
func (g *building) outside() []string {
	const enough = 5
	var outside []string
	inside := strings.TrimPrefix(g.job.Tree, "/")
	g.walkBox(g.dirs.stage, func(e ground.Entry) error {
		switch {
		case e.Name == inside:
			return ground.Skip
		case len(outside) == enough:
			return ground.Stop
		case !e.Mode.IsDir():
			outside = append(outside, "/"+e.Name)
		}
		return nil
	})
	return outside
}

// finish makes what was taken over a tree, tries it, and writes its receipt.
func (g *building) finish(ctx context.Context) (*store.Receipt, error) {
	if err := g.leave(); err != nil {
		return nil, g.Store.Wrap(err)
	}
	files, size, err := g.Store.Place(g.dirs.placed, g.job.Ref)
	if err != nil {
		return nil, err
	}
	receipt := g.receipt(files, size)
	if err := g.Store.BeginConfigs(receipt); err != nil { // tries may read them
		return nil, errors.Join(err, g.Store.Withdraw(g.job.Ref, g.dirs.placed))
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
		return nil, errors.Join(err, g.Store.Withdraw(g.job.Ref, g.dirs.placed))
	}
	return receipt, g.Store.Wrap(ground.Remove(g.dirs.work))
}

func (g *building) try(ctx context.Context, receipt *store.Receipt) error {
	log := filepath.Join(g.Store.Logs(g.job.Ref), StageTry+".log")
	results, err := g.tries(ctx, receipt, g.dirs.tries, g.user)
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

// account adds up the times of the stages, of earlier runs of the same build
// too.
func (g *building) account(receipt *store.Receipt) {
	for _, name := range g.Done {
		receipt.Stages = append(receipt.Stages, store.StageTime{Stage: name, Seconds: g.Seconds[name], CPU: g.CPU[name]})
		receipt.Seconds += g.Seconds[name]
	}
	receipt.WorkSize, receipt.Memory = ground.Size(g.dirs.work), g.used.memory
}
