package install

import (
	"context"

	"fernladder/core/build"
	"fernladder/core/inspect"
	"fernladder/core/machine"
	"fernladder/core/plan"
	"fernladder/core/sandbox"
	"fernladder/core/store"
)

// Proven is the outcome of building a package twice.
type Proven struct {
	store.Ref
	Differences []inspect.Difference `json:"differences"`
}

// Prove builds the requested, existing packages a second time, and compares.
func Prove(ctx context.Context, m *machine.Machine, p *plan.Plan) ([]Proven, error) {
	var all []Proven
	err := rebuild(ctx, m, p, p.Asked(), func(b *build.Builder, j *build.Job) error {
		differences, err := b.Prove(ctx, j)
		all = append(all, Proven{j.Ref, append([]inspect.Difference{}, differences...)})
		return err
	})
	return all, err
}

// Watch builds the requested packages and records what the builds read. Existing ones are built
// a second time, and only the record is kept.
func Watch(ctx context.Context, m *machine.Machine, p *plan.Plan) (*Report, error) {
	var there []*build.Job
	for _, j := range p.Asked() {
		j.Watch = true
		if p.Installed[j.Ref] {
			there = append(there, j)
		}
	}
	if err := m.Store.Prepare(); err != nil {
		return nil, err
	}
	level, err := m.Isolation(ctx)
	if err != nil {
		return nil, err
	}
	if level != sandbox.Sealed {
		return nil, build.ErrNotWatched
	}
	report, err := Run(ctx, m, p)
	if err != nil || len(there) == 0 {
		return report, err
	}
	return report, rebuild(ctx, m, p, there, func(b *build.Builder, j *build.Job) error { return b.Watch(ctx, j) })
}

// rebuild calls a builder for installed packages of a plan, after building what only builds need, which
// may be gone or never was here, and fetching their sources.
func rebuild(ctx context.Context, m *machine.Machine, p *plan.Plan, jobs []*build.Job,
	do func(*build.Builder, *build.Job) error) error {
	again := map[store.Ref]bool{}
	for _, j := range jobs {
		j.From, again[j.Ref] = nil, true
	}
	p.Needed = build.Needed(p.Jobs, func(r store.Ref) bool { return m.Store.Installed(r) && !again[r] })
	for _, j := range jobs {
		p.Needed[j] = false
	}
	if _, err := Run(ctx, m, p); err != nil {
		return err
	}
	if err := mayBuild(m, jobs); err != nil {
		return err
	}
	if err := m.Store.Prepare(); err != nil {
		return err
	}
	b, err := build.NewBuilder(ctx, m)
	if err != nil {
		return err
	}
	if err := failures(ctx, build.Fetch(ctx, m, jobs)); err != nil {
		return err
	}
	for _, j := range jobs {
		if err := do(b, j); err != nil {
			return err
		}
	}
	return nil
}
