package build

import (
	"context"
	"errors"

	"fernladder/core/event"
	"fernladder/core/inspect"
	"fernladder/core/problem"
	"fernladder/core/safefs"
	"fernladder/core/sandbox"
	"fernladder/core/store"
)

// errNotSealed is the error for a rebuild that could change the tree it is compared with.
var errNotSealed error = problem.New(problem.Host, "isolation",
	"only sealed builds can be built again for comparison: others could write to the existing tree")

// Prove builds an installed job a second time, in another directory, and compares the placed
// files with the tree. The second build skips nothing, and nothing of it is kept. The sources have to be stored.
func (b *Builder) Prove(ctx context.Context, job *Job) (differences []inspect.Difference, err error) {
	if b.level != sandbox.Sealed {
		return nil, errNotSealed
	}
	whole, r := *job, *job.Recipe
	whole.Recipe, r.Build.SkipUnplaced = &r, false
	err = b.rebuild(ctx, &whole, func(a *attempt) error {
		differences, err = inspect.Compare(job.Tree, a.dirs.placed, inspect.Own)
		return err
	})
	return differences, err
}

// rebuild builds an installed job a second time, in another directory, and calls look before the
// result is deleted.
func (b *Builder) rebuild(ctx context.Context, job *Job, look func(*attempt) error) (err error) {
	unlock, err := b.m.Store.ShareBuild(ctx, job.Ref)
	if err != nil {
		return err
	}
	defer unlock()
	return b.again(ctx, job, nil, look)
}

// again builds a job in another directory than its own, whose lock the caller holds, and calls
// look before the result is deleted.
func (b *Builder) again(ctx context.Context, job *Job, fetched []store.Source, look func(*attempt) error) (err error) {
	store := b.m.Store
	alone, err := store.LockAgain(ctx, job.Ref, func() {
		b.m.Tell(job.event(event.Waiting, event.Event{Text: "another fernladder that builds the same once more"}))
	})
	if err != nil {
		return err
	}
	defer alone()
	if err := b.m.Slots.Acquire(ctx); err != nil {
		return err
	}
	defer b.m.Slots.Release()
	again := *job
	a := b.begin(&again, fetched)
	a.rebuild, a.dirs = true, dirsOf(store, job, true)
	again.Stages = stages(b.target, &again, a.dirs)
	defer func() {
		a.end(&err)
		err = errors.Join(err, store.Wrap(safefs.Remove(a.dirs.work)))
	}()
	if err := safefs.Remove(a.dirs.work); err != nil {
		return store.Wrap(err)
	}
	if err := a.prepare(ctx); err != nil {
		return store.Wrap(err)
	}
	for _, stage := range again.Stages {
		if isCheck(stage.Name) {
			continue
		}
		if err := a.stage(ctx, stage.Name, func() error { return stage.run(ctx, a) }); err != nil {
			return err
		}
	}
	return look(a)
}
