// Package schedule runs tasks that stand on each other, side by side as far as
// there are job slots, what is longest to the top first.
//
// It knows nothing of what tasks do. A task that fails takes along only what
// stands on it.
package schedule

import (
	"context"
	"time"
)

// heldFor is how long a task that is held back waits before it asks again.
const heldFor = 300 * time.Millisecond

// Run runs the tasks and returns a result for each. When ctx ends, no more are
// begun, and it returns as soon as those that run have returned.
func Run(ctx context.Context, slots *Slots, tasks []Task) []Result {
	r := &run{queue: newQueue(tasks), slots: slots, done: make(chan finished, len(tasks)), slot: make(chan error, 1)}
	left := len(tasks)
	for left > 0 {
		if ctx.Err() == nil {
			r.begin(ctx)
		}
		if r.running == 0 && !r.waiting && len(r.held) == 0 {
			break // only what can never run is left
		}
		select {
		case f := <-r.done:
			r.running--
			left -= r.Ended(f.task, f.err)
			if r.tasks[f.task].Slot {
				r.holding--
				slots.Release()
			}
		case err := <-r.slot:
			r.waiting = false
			if err == nil && !r.start(ctx, true) {
				slots.Release()
			}
		case <-r.again:
			r.ready = append(r.ready, r.held...)
			r.held, r.again = nil, nil
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
	*queue
	slots   *Slots
	running int
	holding int              // of those running, how many hold a slot
	waiting bool             // for a slot
	held    []int            // tasks that wait for others to end, though they are ready
	again   <-chan time.Time // when they are asked again, or nil
	done    chan finished
	slot    chan error
}

// begin starts what needs no slot, and asks for a slot if something needs one.
func (r *run) begin(ctx context.Context) {
	for r.start(ctx, false) {
	}
	if !r.waiting && r.Waiting() {
		r.waiting = true
		go func() { r.slot <- r.slots.Acquire(ctx) }()
	}
}

// start starts the next task of those that need a slot, or of those that need
// none.
func (r *run) start(ctx context.Context, slot bool) bool {
	if ctx.Err() != nil {
		return false
	}
	i, is := r.next(slot)
	if !is {
		return false
	}
	t := r.tasks[i]
	r.running++
	if t.Slot {
		r.holding++
	}
	go func() { r.done <- finished{i, t.Run(ctx)} }()
	return true
}

// next takes the next task that need not wait for others to end. Those that have to
// are put aside, and what comes after them goes first.
func (r *run) next(slot bool) (int, bool) {
	for {
		i, is := r.Next(slot)
		if !is {
			return 0, false
		}
		if hold := r.tasks[i].Hold; !slot || r.holding == 0 || hold == nil || !hold() {
			return i, true
		}
		r.held = append(r.held, i)
		if r.again == nil {
			r.again = time.After(heldFor)
		}
	}
}
