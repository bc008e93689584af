package build

import (
	"context"
	"errors"

	"fernladder/core/event"
	"fernladder/core/safefs"
	"fernladder/core/sandbox"
	"fernladder/core/store"
)

// Renew builds an installed job again, and replaces its tree in one step when the tries have
// succeeded; until then, and if anything fails, the tree stays usable. With keep, the old tree
// is moved aside and its new path returned. The sources and needs have to exist.
func (b *Builder) Renew(ctx context.Context, job *Job, was *store.Receipt, keep bool) (aside string, err error) {
	if b.level != sandbox.Sealed {
		return "", errNotSealed
	}
	unlock, err := b.m.Store.LockBuild(ctx, job.Ref, func() {
		b.m.Tell(job.event(event.Waiting, event.Event{Text: "another fernladder that builds with it"}))
	})
	if err != nil {
		return "", err
	}
	defer unlock()
	if !b.m.Store.Installed(job.Ref) {
		return "", &store.Error{Path: job.Tree, Err: store.ErrGone, Advice: "Run the same command again."}
	}
	err = b.again(ctx, job, was.Sources, func(a *attempt) error {
		aside, err = a.replace(ctx, keep)
		return err
	})
	return aside, err
}

// replace makes the taken-over files the tree, and tries them there.
func (a *attempt) replace(ctx context.Context, keep bool) (aside string, err error) {
	if err := a.leave(); err != nil {
		return "", a.m.Store.Wrap(err)
	}
	if err := a.ownPlaced(); err != nil {
		return "", a.m.Store.Wrap(err)
	}
	licences, err := a.keepLicences()
	if err != nil {
		return "", a.m.Store.Wrap(err)
	}
	receipt := a.receipt(0, 0)
	receipt.Licences, receipt.Public = licences, public(a.dirs.placed, a.job)
	a.account(receipt)
	if err := a.m.Store.BeginConfigs(receipt); err != nil {
		return "", err
	}
	if err := a.m.Store.Replace(a.dirs.placed, receipt, a.digests); err != nil {
		return "", err
	}
	if len(receipt.Tries) > 0 {
		if err := a.stage(ctx, StageTry, func() error { return a.try(ctx, receipt) }); err != nil {
			return "", errors.Join(err, a.m.Store.Exchange(a.dirs.placed, a.job.Ref))
		}
	}
	if keep {
		return a.m.Store.MoveAside(a.dirs.placed, a.job.Ref.String())
	}
	return "", a.m.Store.Wrap(safefs.Remove(a.dirs.placed))
}
