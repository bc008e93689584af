package cluster

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"slices"

	"fernladder/core/build"
	"fernladder/core/durable"
	"fernladder/core/plan"
	"fernladder/core/problem"
	"fernladder/core/store"
)

// start makes jobs of what is to be built, and submits them.
func (w *watcher) start(ctx context.Context, p *plan.Plan) error {
	w.builds = p.Todo()
	for _, j := range w.builds {
		w.of[j.Ref] = j
	}
	groups, takes := groupsOf(ctx, w.m, w.by, w.builds, p.Estimates)
	w.expected = takes
	var jobs []*Job
	for _, g := range groups {
		j := &Job{Size: g.Size, Lane: g.Lane}
		for _, i := range g.Pieces {
			j.Builds = append(j.Builds, w.builds[i].Ref)
		}
		jobs = append(jobs, j)
	}
	return w.submit(ctx, jobs)
}

// comeBack finds the builds of a run in a plan, and its jobs in the scheduler's lists.
func (w *watcher) comeBack(ctx context.Context, p *plan.Plan) error {
	among := w.Builds()
	var changed []store.Ref
	for _, j := range p.Jobs {
		if slices.Contains(among, j.Ref) {
			w.builds, w.of[j.Ref] = append(w.builds, j), j
		}
	}
	for _, ref := range among {
		if w.of[ref] == nil {
			changed = append(changed, ref)
		}
	}
	if changed != nil {
		return problem.New(problem.NoLadder, w.Name,
			"recipes, settings or what is installed have changed since the run %s was submitted: %s %s would be another "+
				"build now", w.Name, changed[0].Name, changed[0].Version).
			Remedy(problem.EndRun, w.Name)
	}
	for _, j := range w.Jobs {
		j.tail = &tail{file: w.file(j, toldSuffix)}
	}
	statuses, err := w.by.Look(ctx, w.mark())
	if err != nil {
		return err
	}
	var held []string
	for _, s := range statuses {
		if j := w.called(s.Name); j != nil {
			j.id = s.ID
			if s.State == Queued && s.Why == "JobHeldUser" { // its submitter was killed; an administrator's hold stays
				held = append(held, s.ID)
			}
		}
	}
	if err := w.by.Release(ctx, held); err != nil {
		return err
	}
	w.takeIn()
	// Jobs that were never submitted, or are unknown to the scheduler, and that never began.
	for _, j := range slices.Clone(w.Jobs) {
		if !j.Over && j.id == "" && j.begun.IsZero() && len(w.unresolved(j)) > 0 {
			if err := w.again(ctx, j, j.Size, j.Again); err != nil {
				return err
			}
		}
	}
	return nil
}

// submit submits jobs, held, and releases them when all are submitted: otherwise the scheduler
// would take one that has ended and is forgotten for a successful one. It releases them in
// order, which the scheduler follows if it can choose.
func (w *watcher) submit(ctx context.Context, jobs []*Job) error {
	lanes := map[int]*Job{} // the last job of each
	carries := map[store.Ref]*Job{}
	for _, j := range w.Jobs {
		if j.Over {
			continue
		}
		lanes[j.Lane] = j
		for _, ref := range j.Builds {
			carries[ref] = j
		}
	}
	behind := map[*Job]*Job{}
	for _, j := range jobs {
		j.Number = len(w.Jobs) + 1
		w.Jobs = append(w.Jobs, j)
		for _, ref := range j.Builds {
			carries[ref] = j
		}
	}
	for _, j := range jobs {
		for _, ref := range j.Builds {
			for _, need := range w.of[ref].Needs {
				if by := carries[need.Ref]; by != nil && by != j && w.result[need] == nil && !slices.Contains(j.After, by.Number) {
					j.After = append(j.After, by.Number)
				}
			}
		}
		if w.m.Settings.Cluster.Most > 0 {
			behind[j], lanes[j.Lane] = lanes[j.Lane], j
		}
		if err := w.write(ctx, j); err != nil {
			return err
		}
	}
	// From here on, other programs know about them.
	if err := w.save(); err != nil {
		return w.m.Store.Wrap(err)
	}
	var held []string
	for _, j := range jobs {
		b, err := w.job(j, behind[j])
		if err != nil {
			return err
		}
		id, err := w.by.Submit(ctx, b)
		if err != nil {
			return err
		}
		j.id, j.tail = id, &tail{file: w.file(j, toldSuffix)}
		held = append(held, id)
	}
	w.Begun = true
	if err := w.save(); err != nil {
		return w.m.Store.Wrap(err)
	}
	return w.by.Release(ctx, held)
}

// write writes the order of a job, and creates the file that its node reports in.
func (w *watcher) write(ctx context.Context, j *Job) error {
	o := order{Ask: w.Ask, Builds: j.Builds, Seen: map[string]build.Seen{}}
	o.Ask.Cluster = false // the node is one of it
	for _, ref := range j.Builds {
		seen, err := w.b.Seen(ctx, w.of[ref])
		if err != nil {
			return err
		}
		o.Seen[ref.ID] = seen
		for _, need := range w.of[ref].Needs {
			if !slices.Contains(j.Builds, need.Ref) && !slices.Contains(o.Needs, need.Ref) {
				o.Needs = append(o.Needs, need.Ref)
			}
		}
	}
	text, err := json.Marshal(o)
	if err != nil {
		return err
	}
	return w.m.Store.Wrap(errors.Join(durable.WriteFile(w.file(j, toldSuffix), nil, 0o644),
		durable.WriteFile(w.file(j, orderSuffix), text, 0o644)))
}

// job is a job in the form for the scheduler.
func (w *watcher) job(j, behind *Job) (batchJob, error) {
	program, err := os.Executable()
	if err != nil {
		return batchJob{}, err
	}
	command := []string{program, "--root", w.m.Store.Root}
	if w.m.Settings.File != "" {
		command = append(command, "--settings", w.m.Settings.File)
	}
	command = append(command, "at-node", "-j", fmt.Sprint(j.Processors))
	if w.m.Level != "" {
		command = append(command, "--isolation", string(w.m.Level))
	}
	b := batchJob{Name: w.jobName(j), Command: append(command, w.file(j, orderSuffix)), Dir: w.m.Place.Working,
		Output:     w.file(j, printedSuffix),
		Processors: j.Processors, Memory: j.Memory, Minutes: j.Minutes, Avoid: w.Avoid, Held: true}
	for _, pair := range w.m.Settings.Cluster.Environment {
		b.Environment = append(b.Environment, pair.Name+"="+pair.Values[0])
	}
	for _, before := range w.before(j) {
		if before.id != "" { // a job that was not found again has no number to wait for
			b.After = append(b.After, before.id)
		}
	}
	if behind != nil && behind.id != "" {
		b.Behind = []string{behind.id}
	}
	return b, nil
}

// again resubmits the open builds of a job, with the jobs that depend on it, which the scheduler
// ended with it.
func (w *watcher) again(ctx context.Context, j *Job, size Size, last bool) error {
	affected := []*Job{j}
	for _, k := range w.Jobs[j.Number:] {
		stands := slices.ContainsFunc(w.before(k), func(b *Job) bool { return slices.Contains(affected, b) })
		if stands && !k.Over {
			affected = append(affected, k)
		}
	}
	var old []string
	var jobs []*Job
	for _, k := range affected {
		left := slices.DeleteFunc(w.unresolved(k), func(ref store.Ref) bool { return w.failedBelow(w.of[ref]) != nil })
		next := &Job{Builds: left, Size: k.Size, Lane: k.Lane, Again: k.Again}
		if k == j {
			next.Size, next.Again = size, last
		}
		k.Over, k.Replaced = true, true
		if len(left) > 0 {
			jobs = append(jobs, next)
		}
		if k.id != "" {
			old = append(old, k.id)
		}
	}
	if err := w.by.Cancel(ctx, old); err != nil {
		return err
	}
	return w.submit(ctx, jobs)
}
