package choice

import (
	"context"
	"errors"
	"slices"

	"fernladder/core/build"
	"fernladder/core/host"
	"fernladder/core/plan"
	"fernladder/core/resolve"
	"fernladder/core/store"
)

// Meaning is what the choice means, as it is now, against what was asked for.
type Meaning struct {
	Came, Went []Part // packages that come onto the ladder by it, or go
	Other      []Part // packages that it builds otherwise, but for the chosen one
	Totals     plan.Totals
	Lacks      []host.Finding // what the operating system lacks for the ladder
	Problem    *resolve.Reason
}

// A Part is a package of a ladder.
type Part struct {
	Name, Version string
	Built         bool // it is there already
}

// Meaning works out the ladder for the choice as it is. A choice that clashes with what
// others demand is no error but a Problem.
func (c *Choosing) Meaning(ctx context.Context) (*Meaning, error) {
	facts := c.facts
	facts.Request.Options = c.settingsNow()
	p, err := plan.Make(ctx, facts)
	var none *resolve.NoLadder
	if errors.As(err, &none) {
		return &Meaning{Problem: &none.Reasons[0]}, nil
	}
	if err != nil {
		return nil, err
	}
	var refs []store.Ref
	for _, j := range p.Todo() {
		refs = append(refs, j.Ref)
	}
	if p.Estimates, err = c.estimates(ctx, refs); err != nil {
		return nil, err
	}
	m := &Meaning{Totals: p.Totals(func(j *build.Job) bool { return c.here(ctx, j) })}
	for _, j := range p.Jobs {
		old := find(c.before, j)
		switch part := (Part{j.Name, j.Version, p.Installed[j.Ref]}); {
		case old == nil:
			m.Came = append(m.Came, part)
		case old.Ref != j.Ref && j.Name != c.Recipe.Name:
			m.Other = append(m.Other, part)
		}
	}
	if c.before != nil {
		for _, old := range c.before.Jobs {
			if find(p, old) == nil {
				m.Went = append(m.Went, Part{old.Name, old.Version, c.before.Installed[old.Ref]})
			}
		}
	}
	findings, _ := c.lacking(ctx, p.Todo())
	m.Lacks = findings
	return m, nil
}

// find is the job of the same package in another plan: a tool apart is one of its own.
func find(p *plan.Plan, j *build.Job) *build.Job {
	if p == nil {
		return nil
	}
	i := slices.IndexFunc(p.Jobs, func(o *build.Job) bool { return o.Name == j.Name && o.Package.Apart == j.Package.Apart })
	if i < 0 {
		return nil
	}
	return p.Jobs[i]
}

// here tells whether the sources of a job are here, of each release once.
func (c *Choosing) here(ctx context.Context, j *build.Job) bool {
	here, known := c.fetched[j.Package.Release]
	if !known {
		here = build.Fetched(ctx, c.machine, j)
		c.fetched[j.Package.Release] = here
	}
	return here
}

// lacking is what the operating system lacks for jobs. What was asked before is not asked
// again.
func (c *Choosing) lacking(ctx context.Context, jobs []*build.Job) (lacks []host.Finding, err error) {
	for _, f := range c.machine.Programs.Check(ctx, "cc", build.HostNeeds(c.machine, jobs), false) {
		if f.Lacking() {
			lacks = append(lacks, f)
		}
	}
	return lacks, ctx.Err()
}

// Ready asks the operating system for everything that any choice could need, so that a
// Meaning does not have to wait for it.
func (c *Choosing) Ready(ctx context.Context) {
	c.machine.Programs.Check(ctx, "cc", c.hostNeeds(), false)
}
