package build

import (
	"context"
	"errors"
	"sync"
	"time"

	"fernladder/core/event"
	"fernladder/core/host"
	"fernladder/core/machine"
	"fernladder/core/recipe"
	"fernladder/core/schedule"
	"fernladder/core/signature"
	"fernladder/core/source"
	"fernladder/core/store"
)

// Needed returns, for each job, whether it has to be built so that those asked
// for are installed and can run. What only a build that is already done has
// needed does not have to be there.
func Needed(jobs []*Job, installed func(store.Ref) bool) map[*Job]bool {
	needed := map[*Job]bool{}
	seen := map[*Job]bool{}
	var mark func(j *Job)
	mark = func(j *Job) {
		if seen[j] {
			return
		}
		seen[j] = true
		needed[j] = !installed(j.Ref)
		for i, link := range j.Package.Needs {
			if needed[j] || link.Role != recipe.Tool {
				mark(j.Needs[i])
			}
		}
	}
	for _, j := range jobs {
		if j.Asked {
			mark(j)
		}
	}
	return needed
}

// Result is what became of one job of a ladder.
type Result struct {
	Job     *Job
	Outcome schedule.Outcome
	Err     error // when it failed
	Because *Job  // when it was skipped: the one that failed below it
}

// fetches brings archives to the store, and remembers how they came. How many come
// at once is the network's to say.
type fetches struct {
	*machine.Machine
	lock    sync.Mutex
	fetched map[*Job][]store.Source
}

func newFetches(m *machine.Machine) *fetches {
	return &fetches{Machine: m, fetched: map[*Job][]store.Source{}}
}

func (f *fetches) fetch(ctx context.Context, job *Job) error {
	var fetched []store.Source
	for _, part := range job.Parts {
		source, err := f.part(ctx, part)
		if err != nil {
			return err
		}
		fetched = append(fetched, source)
	}
	f.lock.Lock()
	defer f.lock.Unlock()
	f.fetched[job] = fetched
	return nil
}

// part brings one part of a source here.
func (f *fetches) part(ctx context.Context, part Part) (store.Source, error) {
	var got store.Source
	var err error
	switch {
	case part.Gather != "":
		return part.source("", nil), nil // the stage unpack gathers it
	case part.Checkout != nil:
		var signed *signature.Good
		signed, err = f.Repositories.Fetch(ctx, *part.Checkout)
		got = part.source("", signed)
	default:
		var fetched source.Fetched
		fetched, err = f.Archives.Fetch(ctx, part.Archive)
		got = part.source(fetched.URL, fetched.Signed)
	}
	return got, f.Stored(err)
}

func (f *fetches) sources(job *Job) []store.Source {
	f.lock.Lock()
	defer f.lock.Unlock()
	return f.fetched[job]
}

// Fetch brings the archives of jobs to the store. All are tried; there is a
// result for each.
func Fetch(ctx context.Context, m *machine.Machine, jobs []*Job) []Result {
	f := newFetches(m)
	tasks := make([]schedule.Task, len(jobs))
	for i, job := range jobs {
		tasks[i] = schedule.Task{Name: job.Name, Run: func(ctx context.Context) error { return f.fetch(ctx, job) }}
	}
	results := make([]Result, len(jobs))
	for i, r := range schedule.Run(ctx, m.Slots, tasks) {
		results[i] = Result{Job: jobs[i], Outcome: r.Outcome, Err: r.Err}
	}
	return results
}

// endLeft ends what builds of jobs have left running, except for those that another
// program works on by now.
func (b *Builder) endLeft(jobs []*Job) {
	var ours []*Job
	for _, job := range jobs {
		if unlock, err := b.m.Store.LockBuildNow(job.Ref); err == nil {
			defer unlock()
			ours = append(ours, job)
		}
	}
	killAll(b.m.Store, ours)
}

// Run fetches and builds jobs, each when what it stands on is there. Jobs come
// in the order of their ladder; what is needed and not among them is installed.
// A job that fails takes along only what stands on it. There is a result for
// each job, and each build that was begun is added to the history.
func (b *Builder) Run(ctx context.Context, jobs []*Job, estimates map[store.Ref]store.Estimate,
	record func(store.Record)) []Result {
	f := newFetches(b.m)
	results := make([]Result, len(jobs))
	place := map[*Job]int{} // of the job's build among the tasks
	var tasks []schedule.Task
	for i, job := range jobs {
		results[i].Job = job
		fetch := schedule.Task{Name: job.Name, Length: time.Millisecond, Run: func(ctx context.Context) error {
			return b.failing(job, f.fetch(ctx, job))
		}}
		build := schedule.Task{Name: job.Name, Length: estimates[job.Ref].Time, Slot: true, Needs: []int{len(tasks)}}
		takes := 2 * estimates[job.Ref].Memory // it has more than one process
		build.Hold = func() bool {
			short := host.ReadMemory("/proc").Short(takes)
			if short {
				b.m.Tell(job.event(event.Waiting, event.Event{Text: "memory"}))
			}
			return short
		}
		build.Run = func(ctx context.Context) error {
			return b.failing(job, b.recorded(ctx, job, f.sources(job), record))
		}
		for _, need := range job.Needs {
			if at, building := place[need]; building {
				build.Needs = append(build.Needs, at)
			}
		}
		place[job] = len(tasks) + 1
		tasks = append(tasks, fetch, build)
	}
	outcomes := schedule.Run(ctx, b.m.Slots, tasks)
	b.endLeft(jobs)
	for i, r := range outcomes {
		result := &results[i/2]
		switch {
		case result.Outcome == schedule.Failed: // its fetch did
		case r.Outcome == schedule.Skipped && r.Because/2 != i/2:
			result.Outcome, result.Because = r.Outcome, jobs[r.Because/2]
			b.m.Tell(result.Job.event(event.PackageSkipped, event.Event{Text: result.Because.Name}))
		default:
			result.Outcome, result.Err = r.Outcome, r.Err
		}
	}
	return results
}

// failing tells of a job that failed, unless the whole run was ended.
func (b *Builder) failing(job *Job, err error) error {
	if err != nil && !errors.Is(err, context.Canceled) {
		b.m.Tell(job.event(event.PackageFailed, event.Event{Err: err}))
	}
	return err
}

// recorded builds a job and writes it down.
func (b *Builder) recorded(ctx context.Context, job *Job, parts []store.Source, record func(store.Record)) error {
	a := b.begin(job, parts)
	receipt, err := a.build(ctx)
	if ctx.Err() != nil {
		return err
	}
	if errors.Is(err, errStopped) { // the next build goes on
		b.m.Tell(job.event(event.PackageDone, event.Event{Stage: job.Until, Elapsed: b.m.Now().Sub(a.cost.began)}))
		return nil
	}
	r := store.Record{Ref: job.Ref, Began: a.cost.began, Seconds: max(0, b.m.Now().Sub(a.cost.began).Seconds()),
		Stages: a.cost.stages}
	if err != nil {
		r.Failed = "build"
		var failure *Failure
		if errors.As(err, &failure) {
			r.Failed = failure.Stage
		}
		record(r)
		return err
	}
	// What a receipt says is the truth: the times of an earlier run that was
	// broken off count too.
	record(store.RecordOf(receipt))
	b.m.Tell(job.event(event.PackageDone, event.Event{Elapsed: b.m.Now().Sub(a.cost.began)}))
	return nil
}

// event is something that happens to a job.
func (j *Job) event(kind event.Kind, e event.Event) event.Event {
	e.Kind, e.Package, e.Version, e.ID = kind, j.Name, j.Version, j.ID
	return e
}
