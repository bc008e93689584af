package build

import (
	"context"
	"errors"

	"fernladder/core/event"
	"fernladder/core/safefs"
	"fernladder/core/sandbox"
	"fernladder/core/store"
)

// Renew builds a job that is installed again, and puts what comes of it in the place
// of the tree in one step, once its tries have gone well; until then the tree stays
// usable, and where anything fails it stays for good. The tree that was there is moved
// aside where keep says so, and its new place is returned. The caller has seen to it
// that the sources and the needs are there.
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

// replace makes what was taken over the tree, and tries it there.
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
	receipt.Licences = licences
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
