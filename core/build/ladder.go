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

// Needed returns, for each job, whether it has to be built, or taken from a depot, so that the
// requested ones are installed and can run. Needs that only a finished build had do not have to
// exist.
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
			if needed[j] && len(j.From) == 0 || link.Role != recipe.Tool {
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

// Result is the outcome of one job of a ladder.
type Result struct {
	Job     *Job
	Outcome schedule.Outcome
	Err     error // when it failed
	Because *Job  // when it was skipped: the one that failed below it
}

// fetches fetches archives into the store, and remembers where they came from. The number of
// concurrent transfers depends on the network alone.
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

// part fetches one part of a source.
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

// Fetch fetches the archives of jobs into the store. It tries all of them, and returns a result
// for each.
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

// endLeft ends processes that earlier builds of jobs left running, except where another program
// works on the job.
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

// Run fetches and builds jobs, each as soon as its needs exist. Jobs are in the order of their
// ladder; needs that are not among them are installed. A job that fails stops only those that
// depend on it. There is a result for each job, and each build that was begun is added to the
// history.
func (b *Builder) Run(ctx context.Context, jobs []*Job, estimates map[store.Ref]store.Estimate,
	record func(store.Record)) []Result {
	if b.m.Settings.CompileCache > 0 && b.m.Programs.Find(ccache) == "" {
		b.m.Tell(event.Event{Kind: event.Remarked, Text: "compile_cache in the settings has no effect: this machine has no " +
			ccache})
	}
	f := newFetches(b.m)
	results := make([]Result, len(jobs))
	place := map[*Job]int{} // of the job's build among the tasks
	var tasks []schedule.Task
	for i, job := range jobs {
		results[i].Job = job
		fetch := schedule.Task{Name: job.Name, Length: time.Millisecond, Run: func(ctx context.Context) error {
			if len(job.From) > 0 {
				return b.fetchOffer(ctx, job)
			}
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
			if len(job.From) > 0 {
				return b.bring(ctx, job)
			}
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
	b.pruneCompiled()
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

// failing reports a failed job, unless the whole run was interrupted.
func (b *Builder) failing(job *Job, err error) error {
	if err != nil && !errors.Is(err, context.Canceled) {
		b.m.Tell(job.event(event.PackageFailed, event.Event{Err: err}))
	}
	return err
}

// recorded builds a job and adds it to the history.
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
	// The receipt is right: it includes the times of earlier, interrupted runs.
	record(store.RecordOf(receipt))
	b.m.Tell(job.event(event.PackageDone, event.Event{Elapsed: b.m.Now().Sub(a.cost.began)}))
	return nil
}

// event is an event of a job.
func (j *Job) event(kind event.Kind, e event.Event) event.Event {
	e.Kind, e.Package, e.Version, e.ID = kind, j.Name, j.Version, j.ID
	return e
}
