// Package schedule runs tasks that stand on each other, side by side as far as
// there are job slots, what is longest to the top first.
//
// It knows nothing of what tasks do. A task that fails takes along only what
// stands on it.
package schedule

import "context"

// Run runs the tasks and returns a result for each. When ctx ends, no more are
// begun, and it returns as soon as those that run have returned.
func Run(ctx context.Context, slots *Slots, tasks []Task) []Result {
	r := &run{Queue: NewQueue(tasks), done: make(chan finished, len(tasks)), slot: make(chan error, 1)}
	left := len(tasks)
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
			left -= r.Ended(f.task, f.err)
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
	return r.Results
}

type finished struct {
	task int
	err  error
}

// run is a set of tasks on their way. Only the goroutine of Run touches it.
type run struct {
	*Queue
	running int
	waiting bool // for a slot
	done    chan finished
	slot    chan error
}

// begin starts what needs no slot, and asks for a slot if something needs one.
func (r *run) begin(ctx context.Context, slots *Slots) {
	for r.start(ctx, false) {
	}
	if !r.waiting && r.Waiting() {
		r.waiting = true
		go func() { r.slot <- slots.Acquire(ctx) }()
	}
}

// start starts the next task of those that need a slot, or of those that need
// none.
func (r *run) start(ctx context.Context, slot bool) bool {
	if ctx.Err() != nil {
		return false
	}
	i, is := r.Next(slot)
	if is {
		r.running++
		go func() { r.done <- finished{i, r.tasks[i].Run(ctx)} }()
	}
	return is
}
