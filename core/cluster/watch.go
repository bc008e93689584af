package cluster

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"fernladder/core/batch"
	"fernladder/core/build"
	"fernladder/core/durable"
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
	by     batch.Scheduler
	b      *build.Builder
	record func(store.Record)

	builds  []*build.Job // of the run, in the order of the ladder
	of      map[store.Ref]*build.Job
	result  map[*build.Job]*build.Result
	ids     map[int]string // of jobs, in the scheduler's lists, by their numbers
	tails   map[int]*tail
	silent  map[int]time.Time // since when the scheduler says that a job has ended which has not said so
	begun   map[int]time.Time // when a job was seen to begin
	over    map[int]time.Time // when one was seen to be over
	refused map[int]*Unlike   // nodes that are not used
	late    map[store.Ref]time.Time
	told    map[store.Ref]bool // that are done, by an event

	expected time.Duration // that it should take, or 0

	idle   time.Time // since when no job runs; zero while one does
	said   string    // why, as it was told
	saidAt time.Time
}

// Done is what became of a run.
type Done struct {
	Results  []build.Result // one for each build
	Began    time.Time      // when it was submitted
	Expected time.Duration  // that it should have taken, or 0
}

// Build has what a plan says built on the nodes; what that needs besides is installed, and
// its sources are here. Or it follows a run of the same. There is a result for each build of
// the run. When the context ends, all that was submitted is ended, unless how says that it
// goes on: then the error is of type *Left. Others are *Unset, *NoRun, *Followed, *Changed
// and those of the scheduler.
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
	w := &watcher{Run: r, m: m, by: by, record: record, of: map[store.Ref]*build.Job{}, result: map[*build.Job]*build.Result{}, ids: map[int]string{}, tails: map[int]*tail{},
		silent: map[int]time.Time{}, begun: map[int]time.Time{}, over: map[int]time.Time{}, refused: map[int]*Unlike{}, late: map[store.Ref]time.Time{}, told: map[store.Ref]bool{}}
	if w.b, err = build.NewBuilder(ctx, m); err != nil {
		return nil, err
	}
	back := r.Begun
	if !back {
		err = w.start(ctx, p)
	} else if err := w.comeBack(ctx, p); err != nil {
		return nil, err // it goes on
	}
	if err == nil && how.Detach {
		return nil, &Left{r.Name, w.open(), true}
	}
	if err == nil {
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
	finishing := func(number int) bool { return !w.over[number].IsZero() }
	if wrong := r.end(context.WithoutCancel(ctx), m, by, finishing); wrong != nil { // what is built is built
		m.Tell(event.Event{Kind: event.Batch, Text: "the jobs of the run " + r.Name + " could not be ended: " + wrong.Error()})
	}
	return results, err
}

// open is how many jobs are on their way.
func (w *watcher) open() (n int) {
	for _, j := range w.Jobs {
		if !j.Over && len(w.unresolved(j)) > 0 {
			n++
		}
	}
	return n
}

// start makes jobs of what is to be built, and submits them.
func (w *watcher) start(ctx context.Context, p *plan.Plan) error {
	w.builds = p.Todo()
	for _, j := range w.builds {
		w.of[j.Ref] = j
	}
	pieces := pieces(w.builds, p.Estimates, w.m.Settings.Cluster)
	latency, room := latencyOf(w.m), room(ctx, w.m, w.by, pieces)
	groups := Groups(pieces, latency, room)
	if known(groups) {
		w.expected = Makespan(groups, latency, room)
	}
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
	changed := &Changed{Run: w.Name}
	for _, j := range p.Jobs {
		if slices.Contains(among, j.Ref) {
			w.builds, w.of[j.Ref] = append(w.builds, j), j
		}
	}
	for _, ref := range among {
		if w.of[ref] == nil {
			changed.Builds = append(changed.Builds, ref)
		}
	}
	if changed.Builds != nil {
		return changed
	}
	for _, j := range w.Jobs {
		w.tails[j.Number] = &tail{file: w.file(j, toldSuffix)}
	}
	statuses, err := w.by.Look(ctx, w.mark())
	if err != nil {
		return err
	}
	var held []string
	for _, s := range statuses {
		if n := w.numbered(s.Name); n > 0 && n <= len(w.Jobs) {
			w.ids[n] = s.ID
			if s.State == batch.Waiting && strings.Contains(s.Why, "Held") { // who submitted it was killed
				held = append(held, s.ID)
			}
		}
	}
	return w.by.Release(ctx, held)
}

// submit hands jobs over, held, and lets them run when the last is there: the scheduler
// takes one that has ended and is forgotten for one that has succeeded. They are let go in
// their order, in which it has them run where it can choose.
func (w *watcher) submit(ctx context.Context, jobs []*Job) error {
	lanes := map[int]int{} // the last job of each
	carries := map[store.Ref]*Job{}
	for _, j := range w.Jobs {
		if j.Over {
			continue
		}
		lanes[j.Lane] = j.Number
		for _, ref := range j.Builds {
			carries[ref] = j
		}
	}
	behind := map[*Job]int{}
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
			behind[j], lanes[j.Lane] = lanes[j.Lane], j.Number
		}
		if err := w.write(ctx, j); err != nil {
			return err
		}
	}
	// From here on, whoever comes back knows of them.
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
		w.ids[j.Number] = id
		held = append(held, id)
		w.tails[j.Number] = &tail{file: w.file(j, toldSuffix)}
	}
	w.Begun = true
	if err := w.save(); err != nil {
		return w.m.Store.Wrap(err)
	}
	return w.by.Release(ctx, held)
}

// write writes the order of a job, and the file in which its node tells.
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
	return w.m.Store.Wrap(errors.Join(durable.WriteFile(w.file(j, toldSuffix), nil, 0o644), durable.WriteFile(w.file(j, orderSuffix), text, 0o644)))
}

// job is one as the scheduler is told of it.
func (w *watcher) job(j *Job, behind int) (batch.Job, error) {
	program, err := os.Executable()
	if err != nil {
		return batch.Job{}, err
	}
	command := []string{program, "--root", w.m.Store.Root}
	if w.m.Settings.File != "" {
		command = append(command, "--settings", w.m.Settings.File)
	}
	command = append(command, "at-node", "-j", fmt.Sprint(j.Processors))
	if w.m.Level != "" {
		command = append(command, "--isolation", string(w.m.Level))
	}
	b := batch.Job{Name: w.jobName(j), Command: append(command, w.file(j, orderSuffix)), Dir: w.m.Place.Working, Output: w.file(j, printedSuffix),
		Processors: j.Processors, Memory: j.Memory, Minutes: j.Minutes, Avoid: w.Avoid, Held: true}
	for _, pair := range w.m.Settings.Cluster.Environment {
		b.Environment = append(b.Environment, pair.Name+"="+pair.Values[0])
	}
	for _, n := range j.After {
		b.After = append(b.After, w.ids[n])
	}
	if behind != 0 && w.ids[behind] != "" {
		b.Behind = []string{w.ids[behind]}
	}
	return b, nil
}

// watch waits for what becomes of the builds, and tells of it.
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

// takeIn takes in what nodes have told.
func (w *watcher) takeIn() {
	for _, j := range w.Jobs {
		t := w.tails[j.Number]
		if t == nil {
			continue
		}
		t.more(func(l line) {
			if l.Event != nil && j.Replaced || l.Became != nil && !l.Became.Built && w.latest(l.Became.Build) != j {
				return // a node that was lost has come back
			}
			switch {
			case l.Begun != "" && w.begun[j.Number].IsZero():
				w.begun[j.Number] = w.m.Now()
			case l.Event != nil:
				e := l.Event.Event
				if e.Kind == event.PackageDone {
					ref := store.Ref{Name: e.Package, Version: e.Version, ID: e.ID}
					if w.told[ref] {
						return
					}
					w.told[ref] = true
				}
				w.m.Tell(e)
			case l.Became != nil && slices.Contains(j.Builds, l.Became.Build):
				w.became(l.Became)
			case l.Unlike != nil:
				w.refused[j.Number] = l.Unlike
			case l.Over:
				w.over[j.Number] = w.m.Now()
			}
		})
	}
	w.lookForLate()
	for _, j := range w.builds {
		if because := w.failedBelow(j); because != nil && w.result[j] == nil {
			w.result[j] = &build.Result{Job: j, Outcome: schedule.Skipped, Because: because}
			w.m.Tell(event.Event{Kind: event.PackageSkipped, Package: j.Name, Version: j.Version, ID: j.ID, Text: because.Name})
		}
	}
}

// became takes in what became of a build. One that is built has a tree, which can be seen
// late.
func (w *watcher) became(o *outcome) {
	j := w.of[o.Build]
	if _, late := w.late[o.Build]; late || w.result[j] != nil {
		return // it was built twice
	}
	if o.Record != nil {
		w.record(*o.Record)
	}
	switch {
	case o.Built:
		w.late[j.Ref] = w.m.Now()
	case o.Failure != nil: // of which an event has told
		w.result[j] = &build.Result{Job: j, Outcome: schedule.Failed, Err: o.Failure}
	default:
		w.fail(j, errors.New(o.Error))
	}
}

// lookForLate takes those builds as done whose trees can be seen.
func (w *watcher) lookForLate() {
	for ref, since := range w.late {
		switch j := w.of[ref]; {
		case visible(w.m.Store, ref):
			w.result[j] = &build.Result{Job: j, Outcome: schedule.Succeeded}
		case w.m.Now().Sub(since) > patience:
			w.fail(j, &Late{ref})
		default:
			continue
		}
		delete(w.late, ref)
	}
}

func (w *watcher) fail(j *build.Job, err error) {
	w.result[j] = &build.Result{Job: j, Outcome: schedule.Failed, Err: err}
	w.m.Tell(event.Event{Kind: event.PackageFailed, Package: j.Name, Version: j.Version, ID: j.ID, Err: err})
}

// failedBelow is the build below one that has failed, if one has.
func (w *watcher) failedBelow(j *build.Job) *build.Job {
	for _, need := range j.Needs {
		switch done := w.result[need]; {
		case done == nil:
		case done.Outcome == schedule.Failed:
			return need
		case done.Outcome == schedule.Skipped:
			return done.Because
		}
	}
	return nil
}

// latest is the last job that was submitted for a build.
func (w *watcher) latest(ref store.Ref) *Job {
	for _, j := range slices.Backward(w.Jobs) {
		if slices.Contains(j.Builds, ref) {
			return j
		}
	}
	return nil
}

// unresolved are the builds of a job of which nothing is known yet.
func (w *watcher) unresolved(j *Job) (refs []store.Ref) {
	for _, ref := range j.Builds {
		if _, late := w.late[ref]; w.result[w.of[ref]] == nil && !late {
			refs = append(refs, ref)
		}
	}
	return refs
}

// avoid keeps what is on its way from nodes that are not like this machine, and submits
// what one of them has refused once more.
func (w *watcher) avoid(ctx context.Context) error {
	for number, unlike := range w.refused {
		delete(w.refused, number)
		j := w.Jobs[number-1]
		if j.Over {
			continue
		}
		if !slices.Contains(w.Avoid, unlike.Node) {
			w.Avoid = append(w.Avoid, unlike.Node)
			w.m.Tell(event.Event{Kind: event.Batch, Text: unlike.Error() + "\n    The node is not used."})
			var waiting []string
			for _, other := range w.Jobs {
				if id := w.ids[other.Number]; id != "" && !other.Over && other != j && w.begun[other.Number].IsZero() {
					waiting = append(waiting, id)
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

// ask finds jobs that have ended and have not said so. What a node has told can be seen a
// little late, so they are waited for.
func (w *watcher) ask(ctx context.Context) error {
	const grace = 10 * time.Second
	statuses, err := w.by.Look(ctx, w.mark())
	if errors.As(err, new(*batch.Refused)) { // it is started again, perhaps; the jobs go on
		return nil
	}
	if err != nil {
		return err
	}
	of := map[int]batch.Status{}
	for _, s := range statuses {
		of[w.numbered(s.Name)] = s
	}
	now := w.m.Now()
	w.tellWaiting(now, of)
	for _, j := range w.Jobs {
		status, known := of[j.Number]
		_, over := w.over[j.Number]
		switch {
		case j.Over:
			continue
		case len(w.unresolved(j)) == 0:
			j.Over = true
			continue
		case !over && known && !status.State.Ended() && status.State != batch.Impossible:
			delete(w.silent, j.Number)
			continue
		}
		if _, waits := w.silent[j.Number]; !waits {
			w.silent[j.Number] = now
		}
		cascades := known && status.State == batch.Cancelled && w.begun[j.Number].IsZero() && w.failedBefore(j)
		if !over && !cascades && now.Sub(w.silent[j.Number]) < grace {
			continue
		}
		if err := w.settle(ctx, j, status, known, cascades); err != nil {
			return err
		}
	}
	return nil
}

// tellWaiting tells when nothing runs for long, and what the scheduler says it waits for.
func (w *watcher) tellWaiting(now time.Time, of map[int]batch.Status) {
	const long, again = 15 * time.Second, 10 * time.Minute
	waiting, why := 0, ""
	for _, j := range w.Jobs {
		switch s, known := of[j.Number]; {
		case j.Over || !known:
		case s.State == batch.Running:
			w.idle, w.said = time.Time{}, ""
			return
		case s.State == batch.Waiting:
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

// failedBefore tells whether a job that has to succeed before another has not.
func (w *watcher) failedBefore(j *Job) bool {
	return slices.ContainsFunc(j.After, func(n int) bool {
		return slices.ContainsFunc(w.Jobs[n-1].Builds, func(ref store.Ref) bool {
			done := w.result[w.of[ref]]
			return done != nil && done.Outcome != schedule.Succeeded
		})
	})
}

// settle decides about what a job that has ended has left open. What is built is built,
// whatever became of the job.
func (w *watcher) settle(ctx context.Context, j *Job, status batch.Status, known, cascades bool) error {
	for _, ref := range w.unresolved(j) {
		if visible(w.m.Store, ref) {
			if receipt, err := w.m.Store.Receipt(ref); err == nil {
				w.record(store.RecordOf(receipt))
				w.result[w.of[ref]] = &build.Result{Job: w.of[ref], Outcome: schedule.Succeeded}
				if w.told[ref] {
					continue
				}
				w.m.Tell(event.Event{Kind: event.PackageDone, Package: ref.Name, Version: ref.Version, ID: ref.ID, Elapsed: time.Duration(receipt.Seconds * float64(time.Second))})
			}
		}
	}
	left := w.unresolved(j)
	if len(left) == 0 {
		j.Over = true
		return nil
	}
	err := &Ended{Build: left[0], Job: w.ids[j.Number], Status: status, Printed: lastLines(w.file(j, printedSuffix)), Size: j.Size, Avoided: w.Avoid}
	if !known {
		err.Status.State = batch.Lost
	}
	for _, text := range err.Printed { // without cgroups, the scheduler only says it there
		if strings.Contains(text, "exceeded memory limit") || strings.Contains(text, "job memory limit") {
			err.Status.State = batch.OutOfMemory
		}
	}
	const twice = 2
	memory, time := err.Short()
	switch {
	case cascades: // the scheduler knows jobs, and not what they stand on in them
		return w.again(ctx, j, j.Size, j.Again)
	case j.Again:
	case memory || time:
		what := map[bool]string{true: "memory", false: "time"}[memory]
		size := j.times(twice)
		w.retried(left[0], fmt.Sprintf("its job ran out of %s; once more with %d MiB and %d minutes", what, size.Memory, size.Minutes))
		return w.again(ctx, j, size, true)
	case err.Status.State == batch.Lost:
		w.retried(left[0], "its job is lost, or its node; once more")
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

// again submits once more what a job has left open, with the jobs that stand on it, which
// the scheduler has ended with it.
func (w *watcher) again(ctx context.Context, j *Job, size Size, last bool) error {
	affected := []*Job{j}
	for _, k := range w.Jobs[j.Number:] {
		stands := slices.ContainsFunc(k.After, func(n int) bool { return slices.Contains(affected, w.Jobs[n-1]) })
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
		if id := w.ids[k.Number]; id != "" {
			old = append(old, id)
		}
	}
	if err := w.by.Cancel(ctx, old); err != nil {
		return err
	}
	return w.submit(ctx, jobs)
}

// keepLatency notes how long the scheduler took, as a rule, from the end of a job to the
// beginning of another. By this machine's clock alone: those of nodes differ.
func (w *watcher) keepLatency() {
	type moment struct {
		at   time.Time
		ends bool
	}
	var moments []moment
	for _, j := range w.Jobs {
		if begun, over := w.begun[j.Number], w.over[j.Number]; !begun.IsZero() && !over.IsZero() {
			moments = append(moments, moment{begun, false}, moment{over, true})
		}
	}
	slices.SortStableFunc(moments, func(a, b moment) int { return a.at.Compare(b.at) })
	var ended []time.Time // after which none has begun yet
	var gaps []time.Duration
	for _, m := range moments {
		if m.ends {
			ended = append(ended, m.at)
		} else if last := len(ended) - 1; last >= 0 {
			gaps, ended = append(gaps, m.at.Sub(ended[last])), ended[:last]
		}
	}
	if len(gaps) == 0 {
		return
	}
	slices.Sort(gaps)
	usual := gaps[len(gaps)/2].Round(time.Millisecond)
	durable.Note(filepath.Join(runsDir(w.m), latencyFile), []byte(usual.String()+"\n"), 0o644) // a guess is no loss
}
