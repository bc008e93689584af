// Package schedule runs tasks that stand on each other, side by side as far as
// there are job slots, what is longest to the top first.
//
// It knows nothing of what tasks do. A task that fails takes along only what
// stands on it.
package schedule

import (
	"cmp"
	"context"
	"slices"
	"time"
)

// A Task is something to run when everything it stands on has succeeded.
type Task struct {
	Name   string
	Needs  []int         // places of the tasks it stands on, all before its own
	Length time.Duration // how long it should take; 0 when nothing is known
	Slot   bool          // whether it runs in a job slot
	Run    func(ctx context.Context) error
}

// Outcome is what became of a task.
type Outcome int

// The outcomes.
const (
	NotRun    Outcome = iota // the run was ended before its turn
	Succeeded                //
	Failed                   // its Run returned an error
	Skipped                  // something it stands on failed or was skipped
)

// A Result is the outcome of one task.
type Result struct {
	Outcome Outcome
	Err     error // of Run
	Because int   // when skipped: the task that failed
}

// Run runs the tasks and returns a result for each. When ctx ends, no more are
// begun, and it returns as soon as those that run have returned.
func Run(ctx context.Context, slots *Slots, tasks []Task) []Result {
	r := &run{
		tasks: tasks, results: make([]Result, len(tasks)), missing: make([]int, len(tasks)),
		above: dependants(tasks), order: fromTop(tasks),
		done: make(chan finished, len(tasks)), slot: make(chan error, 1),
	}
	left := len(tasks)
	for i, t := range tasks {
		if r.missing[i] = len(t.Needs); r.missing[i] == 0 {
			r.ready = append(r.ready, i)
		}
	}
	for left > 0 {
		if ctx.Err() == nil {
			r.begin(ctx, slots)
		}
		if r.running == 0 && !r.waiting {
			break // only what can never run is left
		}
		select {
		case f := <-r.done:
			r.running--
			left -= r.finish(f)
			if r.tasks[f.task].Slot {
				slots.Release()
			}
		case err := <-r.slot:
			r.waiting = false
			if err == nil && !r.start(ctx, true) {
				slots.Release()
			}
		}
	}
	return r.results
}

type finished struct {
	task int
	err  error
}

// run is a set of tasks on their way. Only the goroutine of Run touches it.
type run struct {
	tasks   []Task
	results []Result
	missing []int   // how many needs each task still waits for
	above   [][]int // what stands directly on each task
	order   []time.Duration
	ready   []int
	running int
	waiting bool // for a slot
	done    chan finished
	slot    chan error
}

// begin starts what needs no slot, and asks for a slot if something needs one.
func (r *run) begin(ctx context.Context, slots *Slots) {
	for r.start(ctx, false) {
	}
	if !r.waiting && slices.ContainsFunc(r.ready, func(i int) bool { return r.tasks[i].Slot }) {
		r.waiting = true
		go func() { r.slot <- slots.Acquire(ctx) }()
	}
}

// start starts the ready task that is furthest from the top, among those that
// need a slot or among those that need none.
func (r *run) start(ctx context.Context, slot bool) bool {
	best := -1
	for place, i := range r.ready {
		if r.tasks[i].Slot == slot && (best < 0 || r.order[i] > r.order[r.ready[best]]) {
			best = place
		}
	}
	if best < 0 || ctx.Err() != nil {
		return false
	}
	i := r.ready[best]
	r.ready = slices.Delete(r.ready, best, best+1)
	r.running++
	go func() { r.done <- finished{i, r.tasks[i].Run(ctx)} }()
	return true
}

// finish notes a task's result and returns how many tasks are settled by it.
func (r *run) finish(f finished) int {
	if f.err == nil {
		r.results[f.task].Outcome = Succeeded
		for _, i := range r.above[f.task] {
			if r.missing[i]--; r.missing[i] == 0 && r.results[i].Outcome == NotRun {
				r.ready = append(r.ready, i)
			}
		}
		return 1
	}
	r.results[f.task] = Result{Outcome: Failed, Err: f.err}
	return 1 + r.skip(f.task, f.task)
}

func (r *run) skip(below, because int) int {
	skipped := 0
	for _, i := range r.above[below] {
		if r.results[i].Outcome == NotRun {
			r.results[i] = Result{Outcome: Skipped, Because: because}
			skipped += 1 + r.skip(i, because)
		}
	}
	return skipped
}

func dependants(tasks []Task) [][]int {
	above := make([][]int, len(tasks))
	for i, t := range tasks {
		for _, n := range t.Needs {
			above[n] = append(above[n], i)
		}
	}
	return above
}

// fromTop returns for each task the length of the longest path from its begin
// to the end of everything (critical path scheduling: Kelley and Walker 1959).
// Tasks of unknown length count as long as a usual known one.
func fromTop(tasks []Task) []time.Duration {
	var known []time.Duration
	for _, t := range tasks {
		if t.Length > 0 {
			known = append(known, t.Length)
		}
	}
	usual := time.Second
	if len(known) > 0 {
		slices.Sort(known)
		usual = known[len(known)/2]
	}
	above := dependants(tasks)
	lengths := make([]time.Duration, len(tasks))
	for i := len(tasks) - 1; i >= 0; i-- {
		for _, j := range above[i] {
			lengths[i] = max(lengths[i], lengths[j])
		}
		lengths[i] += cmp.Or(tasks[i].Length, usual)
	}
	return lengths
}
