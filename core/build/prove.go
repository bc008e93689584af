package build

import (
	"context"
	"errors"

	"fernladder/core/event"
	"fernladder/core/ground"
	"fernladder/core/inspect"
	"fernladder/core/seal"
)

// ErrNotSealed is the error for building again where that could change the tree
// that it is compared with.
var ErrNotSealed = errors.New("only sealed builds can be built again for comparison, for others could write to the tree that is there")

// Prove builds a job that is installed a second time, in another directory, and
// compares what it places with the tree. Nothing of the second build is kept.
// The caller has seen to it that the sources are there.
func (b *Builder) Prove(ctx context.Context, job *Job) (differences []inspect.Difference, err error) {
	if b.isolation() != seal.Sealed {
		return nil, ErrNotSealed
	}
	err = b.second(ctx, job, func(g *building) error {
		differences, err = inspect.Compare(job.Tree, g.dirs.placed, inspect.Own)
		return err
	})
	return differences, err
}

// second builds a job that is installed a second time, in another directory, and
// has a look at what came of it before that is gone.
func (b *Builder) second(ctx context.Context, job *Job, look func(*building) error) (err error) {
	workshop := *b.Workshop
	workshop.again = true
	second := NewBuilder(&workshop, b.Slots)
	second.Archives, second.Downloads, second.Events, second.Now = b.Archives, b.Downloads, b.Events, b.Now
	unlock, err := b.Store.ShareBuild(ctx, job.Ref)
	if err != nil {
		return err
	}
	defer unlock()
	alone, err := b.Store.LockAgain(ctx, job.Ref, func() {
		b.Events.Event(event.Event{Kind: event.Waiting, Package: job.Name, Version: job.Version, Text: "another fernladder that builds the same once more"})
	})
	if err != nil {
		return err
	}
	defer alone()
	if err := b.Slots.Acquire(ctx); err != nil {
		return err
	}
	defer b.Slots.Release()
	again := *job
	again.Stages = workshop.stages(&again)
	g := second.begin(&again, nil)
	defer func() {
		g.end(&err)
		err = errors.Join(err, b.Store.Wrap(ground.Remove(g.dirs.work)))
	}()
	if err := ground.Remove(g.dirs.work); err != nil {
		return b.Store.Wrap(err)
	}
	if err := g.prepare(ctx); err != nil {
		return b.Store.Wrap(err)
	}
	for _, stage := range g.job.Stages {
		if isCheck(stage.Name) {
			continue
		}
		if err := g.stage(ctx, stage.Name, func() error { return g.run(ctx, stage) }); err != nil {
			return err
		}
	}
	return look(g)
}
