package cluster

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"fernladder/core/build"
	"fernladder/core/event"
	"fernladder/core/machine"
	"fernladder/core/plan"
	"fernladder/core/schedule"
	"fernladder/core/store"
)

// A watcher has a run, and its lock.
type watcher struct {
	*Run
	m      *machine.Machine
	by     Scheduler
	b      *build.Builder
	record func(store.Record)

	builds []*build.Job // of the run, in the order of the ladder
	of     map[store.Ref]*build.Job
	result map[*build.Job]*build.Result
	late   map[store.Ref]time.Time
	told   map[store.Ref]bool // that are done, by an event
	took   map[store.Ref]time.Duration

	expected time.Duration // that it should take, or 0

	idle   time.Time // since when no job runs; zero while one does
	said   string    // why, as reported
	saidAt time.Time
}

// Done is the outcome of a run.
type Done struct {
	Results  []build.Result // one for each build
	Began    time.Time      // when it was submitted
	Expected time.Duration  // its expected time, or 0
}

// Build builds a plan on the nodes; needs outside of the plan are installed, and its sources are
// stored. Or it follows such a run. There is a result for each build of the run. When the
// context ends, everything submitted is ended, unless how lets it continue: then the error is a
// *Left. Others have the code Missing, Followed or OfAnother, or are those of the scheduler.
func Build(ctx context.Context, m *machine.Machine, p *plan.Plan, how How, record func(store.Record)) (*Done, error) {
	by, err := scheduler(m)
	if err != nil {
		return nil, err
	}
	r, unlock, err := begin(ctx, m, by, p, how)
	if err != nil {
		return nil, err
	}
	defer unlock()
	w := &watcher{Run: r, m: m, by: by, record: record, of: map[store.Ref]*build.Job{},
		result: map[*build.Job]*build.Result{},
		late:   map[store.Ref]time.Time{}, told: map[store.Ref]bool{}, took: map[store.Ref]time.Duration{}}
	back := r.Begun
	if w.b, err = build.NewBuilder(ctx, m); err == nil {
		if back {
			w.by = w.patient(by)
			err = w.comeBack(ctx, p)
		} else {
			err = w.start(ctx, p)
		}
	}
	if err != nil && back && ctx.Err() == nil {
		return nil, err // the run goes on
	}
	if err == nil && how.Detach {
		return nil, &Left{r.Name, w.open(), true}
	}
	if err == nil {
		w.by = w.patient(by)
		err = w.watch(ctx)
	}
	results := &Done{Results: make([]build.Result, len(w.builds)), Began: r.Began, Expected: w.expected}
	for i, j := range w.builds {
		results.Results[i].Job = j // one that says nothing more was not run
		if done := w.result[j]; done != nil {
			results.Results[i] = *done
		}
	}
	if ctx.Err() != nil {
		if r.Begun && how.Leave != nil && how.Leave(context.Cause(ctx)) {
			return results, &Left{Run: r.Name, Jobs: w.open()}
		}
		err = nil
	}
	if !back {
		w.keepLatency()
	}
	if wrong := r.end(context.WithoutCancel(ctx), m, by); wrong != nil { // finished builds stay
		m.Tell(event.Event{Kind: event.Batch, Text: "the jobs of the run " + r.Name + " could not be ended: " +
			wrong.Error()})
	}
	return results, err
}

// patient waits for the scheduler once jobs of the run are submitted.
func (w *watcher) patient(by Scheduler) Scheduler {
	return patient{by, func(err error) {
		w.m.Tell(event.Event{Kind: event.Batch, Text: err.Error() + "\n    Waiting for it; the jobs continue."})
	}}
}

// watch waits for the outcomes of the builds, and reports them.
func (w *watcher) watch(ctx context.Context) error {
	const often, seldom = 200 * time.Millisecond, 2 * time.Second
	var asked time.Time
	for {
		w.takeIn()
		if len(w.result) == len(w.builds) {
			return nil
		}
		if err := w.avoid(ctx); err != nil {
			return err
		}
		if w.m.Now().Sub(asked) >= seldom {
			asked = w.m.Now()
			if err := w.ask(ctx); err != nil {
				return err
			}
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(often):
		}
	}
}

// avoid keeps waiting jobs away from nodes that differ from this machine, and resubmits what
// such a node has refused.
func (w *watcher) avoid(ctx context.Context) error {
	for _, j := range slices.Clone(w.Jobs) {
		unlike := j.unlike
		if unlike == nil || j.Over {
			continue
		}
		if !slices.Contains(w.Avoid, unlike.Node) {
			w.Avoid = append(w.Avoid, unlike.Node)
			w.m.Tell(event.Event{Kind: event.Batch, Text: unlike.Error() + "\n    The node is not used."})
			var waiting []string
			for _, other := range w.Jobs {
				if other.id != "" && !other.Over && other != j && other.begun.IsZero() {
					waiting = append(waiting, other.id)
				}
			}
			if err := w.by.Avoid(ctx, waiting, w.Avoid); err != nil {
				return err
			}
		}
		if err := w.again(ctx, j, j.Size, j.Again); err != nil {
			return err
		}
	}
	return nil
}

// ask finds jobs that have ended without a report. A node's reports may become visible late, so
// this waits for them.
func (w *watcher) ask(ctx context.Context) error {
	const grace = 10 * time.Second
	statuses, err := w.by.Look(ctx, w.mark())
	if errors.Is(err, Refused) || errors.Is(err, Silent) { // the controller may be restarting; the jobs go on
		return nil
	}
	if err != nil {
		return err
	}
	of := map[*Job]Status{}
	for _, s := range statuses {
		of[w.called(s.Name)] = s
	}
	now := w.m.Now()
	w.tellWaiting(now, of)
	for _, j := range w.Jobs {
		status, known := of[j]
		finished := !j.finished.IsZero()
		switch {
		case j.Over:
			continue
		case len(w.unresolved(j)) == 0:
			j.Over = true
			continue
		case !finished && known && !status.State.ended() && status.State != Impossible:
			j.silent = time.Time{}
			continue
		}
		if j.silent.IsZero() {
			j.silent = now
		}
		cascades := known && status.State == Cancelled && j.begun.IsZero() && w.failedBefore(j, of)
		if !finished && !cascades && now.Sub(j.silent) < grace {
			continue
		}
		if err := w.settle(ctx, j, status, known, cascades); err != nil {
			return err
		}
	}
	return nil
}

// tellWaiting reports when nothing has run for long, and what the scheduler gives as the reason.
func (w *watcher) tellWaiting(now time.Time, of map[*Job]Status) {
	const long, again = 15 * time.Second, 10 * time.Minute
	waiting, why := 0, ""
	for _, j := range w.Jobs {
		switch s, known := of[j]; {
		case j.Over || !known:
		case s.State == Running:
			w.idle, w.said = time.Time{}, ""
			return
		case s.State == Queued:
			if waiting++; why == "" && s.Why != "Dependency" {
				why = s.Why
			}
		}
	}
	switch {
	case waiting == 0 || why == "":
	case w.idle.IsZero():
		w.idle = now
	case now.Sub(w.idle) >= long && (w.said != why || now.Sub(w.saidAt) >= again):
		w.said, w.saidAt = why, now
		jobs := "1 job waits"
		if waiting > 1 {
			jobs = fmt.Sprintf("%d jobs wait", waiting)
		}
		w.m.Tell(event.Event{Kind: event.Batch, Text: jobs + ", none runs; the scheduler says: " + why})
	}
}

// settle decides about the open builds of a job that has ended. What is built is built, whatever
// happened to the job.
func (w *watcher) settle(ctx context.Context, j *Job, status Status, known, cascades bool) error {
	for _, ref := range w.unresolved(j) {
		if visible(w.m.Store, ref) {
			if receipt, err := w.m.Store.Receipt(ref); err == nil {
				w.record(store.RecordOf(receipt))
				w.result[w.of[ref]] = &build.Result{Job: w.of[ref], Outcome: schedule.Succeeded}
				if w.told[ref] {
					continue
				}
				w.m.Tell(event.Event{Kind: event.PackageDone, Package: ref.Name, Version: ref.Version, ID: ref.ID,
					Elapsed: time.Duration(receipt.Seconds * float64(time.Second))})
			}
		}
	}
	left := w.unresolved(j)
	if len(left) == 0 {
		j.Over = true
		return nil
	}
	err := &Ended{Build: left[0], Job: j.id, Status: status, Printed: lastLines(w.file(j, printedSuffix)), Size: j.Size,
		Avoided: w.Avoid}
	if !known {
		err.Status.State = Lost
	}
	for _, text := range err.Printed { // without cgroups, the scheduler only says it there
		if strings.Contains(text, "exceeded memory limit") || strings.Contains(text, "job memory limit") {
			err.Status.State = OutOfMemory
		}
	}
	const twice = 2
	short := map[State]string{OutOfMemory: "memory", TimedOut: "time"}[err.Status.State]
	switch {
	case cascades: // the scheduler knows jobs, not the dependencies inside them
		return w.again(ctx, j, j.Size, j.Again)
	case j.Again:
	case short != "":
		size := j.times(twice)
		w.retried(left[0], fmt.Sprintf("its job ran out of %s; trying again with %d MiB and %d minutes", short, size.Memory,
			size.Minutes))
		return w.again(ctx, j, size, true)
	case err.Status.State == Lost:
		w.retried(left[0], "its job or its node is lost; trying again")
		return w.again(ctx, j, j.Size, true)
	}
	j.Over = true
	for _, ref := range left {
		if w.failedBelow(w.of[ref]) == nil {
			one := *err
			one.Build = ref
			w.fail(w.of[ref], &one)
		}
	}
	return nil
}

func (w *watcher) retried(ref store.Ref, text string) {
	w.m.Tell(event.Event{Kind: event.Retried, Package: ref.Name, Version: ref.Version, ID: ref.ID, Text: text})
}
