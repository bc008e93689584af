package plan

import (
	"context"
	"errors"

	"fernladder/core/build"
	"fernladder/core/host"
	"fernladder/core/resolve"
	"fernladder/core/store"
)

// Meaning is what the current choice changes, compared with the request.
type Meaning struct {
	Came, Went []Part // packages that come onto the ladder by it, or go
	Other      []Part // packages that it builds otherwise, except for the chosen one
	Totals     Totals
	Lacks      []host.Finding // what the operating system lacks for it, and not for the request
	Lacked     int            // how many things it lacks for that, too
	Problem    *resolve.Reason
}

// A Part is a package of a ladder.
type Part struct {
	Name, Version string
	Built         bool // it is there already
}

// Meaning works out the ladder for the current choice. A choice that clashes with demands of
// others is not an error but a Problem.
func (c *Choosing) Meaning(ctx context.Context) (*Meaning, error) { return c.Asking()(ctx) }

// Asking returns a function that works out the Meaning of the current choice, whatever changes
// meanwhile. One at a time may run in parallel to other uses of the Choosing.
func (c *Choosing) Asking() func(context.Context) (*Meaning, error) {
	facts := c.facts
	facts.Request.Options = c.settingsNow()
	return func(ctx context.Context) (*Meaning, error) {
		c.working.Lock()
		defer c.working.Unlock()
		return c.meaning(ctx, facts)
	}
}

func (c *Choosing) meaning(ctx context.Context, facts facts) (*Meaning, error) {
	p, err := Make(ctx, facts)
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
	if p.Estimates, err = c.machine.Store.History().Estimates(refs); err != nil {
		return nil, err
	}
	m := &Meaning{Totals: p.Totals(func(j *build.Job) bool { return c.here(ctx, j) })}
	before, now := byPlace(c.before), byPlace(p)
	for _, j := range p.Jobs {
		old := before[placeOf(j)]
		switch part := (Part{j.Name, j.Version, p.Installed[j.Ref]}); {
		case old == nil:
			m.Came = append(m.Came, part)
		case old.Ref != j.Ref && j.Name != c.Recipe.Name:
			m.Other = append(m.Other, part)
		}
	}
	if c.before != nil {
		for _, old := range c.before.Jobs {
			if now[placeOf(old)] == nil {
				m.Went = append(m.Went, Part{old.Name, old.Version, c.before.Installed[old.Ref]})
			}
		}
	}
	lacks, err := c.lacking(ctx, p.Todo())
	if c.before != nil && c.lacked == nil {
		c.lacked = map[host.Question]bool{}
		already, _ := c.lacking(ctx, c.before.Todo())
		for _, f := range already {
			c.lacked[f.Question] = true
		}
	}
	for _, f := range lacks {
		if c.lacked[f.Question] {
			m.Lacked++
		} else {
			m.Lacks = append(m.Lacks, f)
		}
	}
	return m, err
}

// place identifies jobs of one package in two plans: a tool apart has a place of its own.
type place struct {
	name  string
	apart bool
}

func placeOf(j *build.Job) place { return place{j.Name, j.Package.Apart} }

func byPlace(p *Plan) map[place]*build.Job {
	jobs := map[place]*build.Job{}
	if p != nil {
		for _, j := range p.Jobs {
			jobs[placeOf(j)] = j
		}
	}
	return jobs
}

// here reports whether the sources of a job are stored, asking once for each release.
func (c *Choosing) here(ctx context.Context, j *build.Job) bool {
	here, known := c.fetched[j.Package.Release]
	if !known {
		here = build.Fetched(ctx, c.machine, j)
		c.fetched[j.Package.Release] = here
	}
	return here
}

// lacking is what the operating system lacks for jobs. Nothing is asked twice.
func (c *Choosing) lacking(ctx context.Context, jobs []*build.Job) (lacks []host.Finding, err error) {
	for _, f := range c.machine.Programs.Check(ctx, "cc", build.HostNeeds(c.machine, jobs), false) {
		if f.Lacking() {
			lacks = append(lacks, f)
		}
	}
	return lacks, ctx.Err()
}

// Ready returns a function that asks the operating system about everything that any choice could
// need, so that a Meaning does not have to wait for it. It may run in parallel to everything
// else.
func (c *Choosing) Ready() func(context.Context) {
	needs := c.hostNeeds()
	return func(ctx context.Context) { c.machine.Programs.Check(ctx, "cc", needs, false) }
}
