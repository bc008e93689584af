package plan

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"fernladder/core/build"
	"fernladder/core/depot"
	"fernladder/core/event"
	"fernladder/core/machine"
	"fernladder/core/problem"
	"fernladder/core/store"
)

// Offer asks the depots for everything that would have to be built, except for some builds, and has
// the plan take what they have. What is wrong in a depot is told once, and does not count. If
// nothing may be built on this machine, what no depot has is an error.
func (p *Plan) Offer(ctx context.Context, m *machine.Machine, except map[store.Ref]bool) error {
	depots := slices.DeleteFunc(slices.Clone(m.Depots), func(d *depot.Depot) bool {
		return !d.Reads() || m.Offline && d.Path == "" && !m.Settings.OnlyDepots
	})
	if p.Ask.NoDepots && !m.Settings.OnlyDepots || p.Ask.Until != "" || len(depots) == 0 && !m.Settings.OnlyDepots {
		return nil
	}
	var faults []error
	if !p.Ask.NoDepots {
		var err error
		if faults, err = p.ask(ctx, depots, except); err != nil {
			return err
		}
	}
	p.Needed = build.Needed(p.Jobs, func(r store.Ref) bool { return p.Installed[r] })
	if m.Settings.OnlyDepots {
		return p.onlyOffered(depots, faults)
	}
	told := map[string]bool{}
	for _, err := range faults {
		if text := err.Error(); !told[text] {
			told[text] = true
			m.Tell(event.Event{Kind: event.Remarked, Text: text})
		}
	}
	return nil
}

// ask asks depots for all that is needed, in parallel, and returns what is wrong in them.
func (p *Plan) ask(ctx context.Context, depots []*depot.Depot, except map[store.Ref]bool) ([]error, error) {
	todo := slices.DeleteFunc(p.Todo(), func(j *build.Job) bool { return except[j.Ref] })
	type answer struct {
		offer *depot.Offer
		err   error
	}
	answers := make([]answer, len(todo)*len(depots))
	group, ctx := errgroup.WithContext(ctx)
	const atOnce = 32
	group.SetLimit(atOnce)
	for i, j := range todo {
		for k, d := range depots {
			group.Go(func() error {
				offer, err := d.Find(ctx, j.Ref, j.Tree)
				answers[i*len(depots)+k] = answer{offer, err}
				if err != nil && !errors.As(err, new(*depot.Fault)) {
					return err
				}
				return nil
			})
		}
	}
	if err := group.Wait(); err != nil {
		return nil, err
	}
	var faults []error
	for i, a := range answers {
		if j := todo[i/len(depots)]; a.offer != nil {
			j.From = append(j.From, a.offer)
		}
		if a.err != nil {
			faults = append(faults, a.err)
		}
	}
	return faults, nil
}

// onlyOffered is the error for what would have to be built on a machine that builds nothing.
func (p *Plan) onlyOffered(depots []*depot.Depot, faults []error) error {
	missing := p.ToBuild()
	if len(missing) == 0 {
		return nil
	}
	var there, options, shared, places []string
	for _, d := range depots {
		places = append(places, d.Name)
	}
	text := "nothing is built on this machine (depots = \"only\" in the settings), and it cannot be taken from a depot:"
	for _, j := range missing {
		text += fmt.Sprintf("\n    %s %s, build %s", j.Name, j.Version, j.ID)
		if !j.Asked && slices.ContainsFunc(missing, func(o *build.Job) bool { return o.Asked }) {
			continue // it comes with those
		}
		there, shared = append(there, j.Name+":"+j.Version), append(shared, j.Name+"@"+j.ID)
		for _, set := range j.Package.Changed() {
			options = append(options, "-o", j.Name+"."+set)
		}
	}
	for _, err := range faults {
		text += "\n  " + err.Error()
	}
	if len(places) == 0 {
		text += "\n  The settings name no depot with keys."
	} else {
		text += "\n  Asked: " + strings.Join(places, ", ") + "."
	}
	if slices.ContainsFunc(missing, func(j *build.Job) bool { return j.Compiler == "" }) {
		return problem.New(problem.Fetch, missing[0].Name, "%s\n  This machine has no compiler, and %s names none, so its "+
			"build ids are not those of any machine: copy the lock file of the machine that builds.", text, p.Lock.Shown)
	}
	return problem.New(problem.Fetch, missing[0].Name, "%s", text).
		Remedy(problem.BuildElsewhere, append(there, options...)...).Remedy(problem.ShareBuilds, shared...)
}
