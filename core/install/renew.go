package install

import (
	"context"
	"slices"

	"fernladder/core/build"
	"fernladder/core/landing"
	"fernladder/core/machine"
	"fernladder/core/plan"
	"fernladder/core/store"
)

// Renewed is the outcome of rebuilding.
type Renewed struct {
	Build store.Ref `json:"build"`
	Aside string    `json:"aside,omitempty"` // where the tree that was there is kept
	Took  float64   `json:"took,omitempty"`  // seconds
	Was   float64   `json:"was,omitempty"`   // how long the build took that was there
	Err   error     `json:"-"`               // why it was not done; the tree stays as it was

	Unrecorded error `json:"-"` // why the history could not be written, or nil
}

// Renew rebuilds existing builds, each from its receipt, and replaces each in one step. Trees in
// damaged are moved aside. It follows the order of the list; a failure does not stop the others.
func Renew(ctx context.Context, m *machine.Machine, builds []store.Ref, damaged map[store.Ref]bool) ([]Renewed, error) {
	var all []Renewed
	for _, r := range builds {
		done, err := renew(ctx, m, r, damaged[r])
		if ctx.Err() != nil {
			return all, ctx.Err()
		}
		done.Build, done.Err = r, err
		all = append(all, done)
	}
	return all, nil
}

func renew(ctx context.Context, m *machine.Machine, r store.Ref, keep bool) (done Renewed, err error) {
	was, err := m.Store.Receipt(r)
	if err != nil {
		return done, m.Store.Gone(r, err)
	}
	p, err := plan.For(ctx, m, plan.Ask{Names: []string{landing.NameOf(r)}, Prefix: was.Prefix, System: true})
	if err != nil {
		return done, err
	}
	i := slices.IndexFunc(p.Jobs, func(j *build.Job) bool { return j.Ref == r })
	if i < 0 {
		return done, landing.NotBuilt(landing.NameOf(r), m.Store.Root)
	}
	err = rebuild(ctx, m, p, p.Jobs[i:i+1], func(b *build.Builder, j *build.Job) (err error) {
		done.Aside, err = b.Renew(ctx, j, was, keep)
		return err
	})
	if err != nil {
		return done, err
	}
	is, err := m.Store.Receipt(r)
	if err != nil {
		return done, m.Store.Gone(r, err)
	}
	done.Took, done.Was = is.Seconds, was.Seconds
	done.Unrecorded = m.Store.History().Add(context.WithoutCancel(ctx), store.RecordOf(is))
	return done, nil
}

// Bring fetches the sources of a job.
func Bring(ctx context.Context, m *machine.Machine, j *build.Job) error {
	if err := ready(ctx, m, []*build.Job{j}); err != nil {
		return err
	}
	if err := build.CheckHost(ctx, m, []*build.Job{j}); err != nil {
		return err
	}
	if err := m.Store.Prepare(); err != nil {
		return err
	}
	return failures(ctx, build.Fetch(ctx, m, []*build.Job{j}))
}

// NeedsFirst orders builds so that each comes after what it needs.
func NeedsFirst(s *store.Store, builds []store.Ref) []store.Ref {
	var ordered []store.Ref
	seen := map[store.Ref]bool{}
	var visit func(r store.Ref)
	visit = func(r store.Ref) {
		if seen[r] {
			return
		}
		seen[r] = true
		needs, _ := s.Needs(r) // unreadable ones are reported when they are built
		for _, n := range needs {
			visit(n.Ref)
		}
		if slices.Contains(builds, r) {
			ordered = append(ordered, r)
		}
	}
	for _, r := range builds {
		visit(r)
	}
	return ordered
}
