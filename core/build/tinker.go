package build

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"slices"

	"fernladder/core/safefs"
	"fernladder/core/sandbox"
	"fernladder/core/store"
	"fernladder/core/subprocess"
)

// A Tinkered build is one whose source a person edits repeatedly. It is built in place, so that
// only changes are compiled. Its stages, environment and isolation are those of a real build. It
// never becomes a tree.
type Tinkered struct {
	Job  *Job
	Base string // a directory of the program's own, in the root

	// Source brings the person's changes into the unpacked and patched source, which is below the
	// given root and belongs to the build. fresh says that the source is as unpacked and patched.
	// It returns what changed.
	Source func(source *os.Root, fresh bool, own func(path string) error) (changed []string, err error)
}

// Tinker builds an edited source as far as it has changed. It leaves out the package's tests.
// The error is a *Failure if the build is at fault, or ErrNotSealed.
func (b *Builder) Tinker(ctx context.Context, t *Tinkered) (err error) {
	if b.level != sandbox.Sealed {
		return errNotSealed
	}
	a, unlock, err := b.beginTinkering(ctx, t)
	if err != nil {
		return err
	}
	defer unlock()
	release, err := a.holdNeeds(ctx)
	if err != nil {
		return err
	}
	defer release()
	if err := b.m.Slots.Acquire(ctx); err != nil {
		return err
	}
	defer b.m.Slots.Release()
	defer a.end(&err)
	if err := a.prepare(ctx); err != nil {
		return b.m.Store.Wrap(err)
	}
	if err := a.trust(); err != nil {
		return b.m.Store.Wrap(err)
	}
	fresh := !a.journal.done(StageUnpack) || len(a.job.Patches) > 0 && !a.journal.done(StagePatch)
	if fresh {
		a.journal.forget(StageUnpack)
		for _, stage := range a.job.Stages {
			if stage.Name == StageUnpack || stage.Name == StagePatch {
				if err := a.stage(ctx, stage.Name, func() error { return stage.run(ctx, a) }); err != nil {
					return err
				}
			}
		}
	}
	if err := a.bringChanges(t, fresh); err != nil {
		return b.m.Store.Wrap(err)
	}
	for _, stage := range a.job.Stages {
		if a.journal.done(stage.Name) || isCheck(stage.Name) {
			continue
		}
		if err := a.stage(ctx, stage.Name, func() error { return stage.run(ctx, a) }); err != nil {
			return err
		}
	}
	if err := a.leave(); err != nil {
		return b.m.Store.Wrap(err)
	}
	return b.m.Store.Wrap(a.ownPlaced())
}

// beginTinkering begins an attempt in the directory of an edited build, which no other process
// uses meanwhile.
func (b *Builder) beginTinkering(ctx context.Context, t *Tinkered) (*attempt, func(), error) {
	unlock, err := b.m.Store.LockFile(ctx, t.Base)
	if err != nil {
		return nil, nil, err
	}
	job := *t.Job
	a := b.begin(&job, nil)
	a.rebuild, a.dirs = true, dirsIn(filepath.Join(t.Base, "work"), &job)
	job.Stages = stages(b.target, &job, a.dirs)
	return a, unlock, nil
}

// bringChanges brings the person's changes into the source. make and the like decide what to
// compile again; a changed configure script is run again.
func (a *attempt) bringChanges(t *Tinkered, fresh bool) error {
	source, err := os.OpenRoot(a.dirs.source)
	if err != nil {
		return err
	}
	defer source.Close()
	changed, err := t.Source(source, fresh, func(path string) error {
		if !a.room.user.Other() {
			return nil
		}
		return source.Lchown(path, a.room.user.UID, a.room.user.GID)
	})
	if err != nil {
		return err
	}
	system, err := filepath.Rel(a.dirs.source, a.dirs.system)
	if err != nil {
		return err
	}
	switch {
	case slices.Contains(changed, filepath.Join(system, "configure")):
		a.journal.forget(StageConfigure)
	case len(changed) > 0:
		a.journal.forget(StageCompile)
	}
	return a.save()
}

// Placed is the directory of the placed files.
func (t *Tinkered) Placed() string { return filepath.Join(t.Base, "work", "placed") }

// TryTinkered runs a command with the built files at the path of their tree, in a room like that
// of tries; without a command, the recipe's tries.
func (b *Builder) TryTinkered(ctx context.Context, t *Tinkered, argv []string) ([]TryResult, error) {
	a, unlock, err := b.beginTinkering(ctx, t)
	if err != nil {
		return nil, err
	}
	defer unlock()
	base, user, done, err := b.m.Scratch(ctx, "try")
	if err != nil {
		return nil, err
	}
	defer done()
	receipt := a.receipt(0, 0)
	if len(argv) > 0 {
		receipt.Tries = []store.Try{{Run: subprocess.CommandLine(argv), Status: anyStatus}}
	}
	return triesIn(ctx, b.m, b.level, receipt, base, user, func(r *sandbox.Room) {
		r.Visible = slices.DeleteFunc(r.Visible, func(path string) bool {
			_, err := os.Lstat(path)
			return path == receipt.Tree || errors.Is(err, os.ErrNotExist)
		})
		r.Stands = sandbox.Stand{In: t.Placed(), For: receipt.Tree}
	})
}

// Drop deletes what tinkering made in the root.
func (t *Tinkered) Drop(ctx context.Context, s *store.Store) error {
	unlock, err := s.LockFile(ctx, t.Base)
	if err != nil {
		return err
	}
	defer unlock()
	return s.Wrap(safefs.Remove(t.Base))
}
