// Package schedule runs tasks that depend on each other, in parallel as far as there are job
// slots, those on the longest path first.
//
// It does not know what tasks do. A task that fails only stops the tasks that depend on it.
package schedule

import (
	"context"
	"sync/atomic"
	"time"
)

// heldFor is how long a held task waits before it asks again.
const heldFor = 300 * time.Millisecond

// Run runs the tasks and returns a result for each. If ctx ends, it starts no more tasks, and
// returns after the running ones have returned.
func Run(ctx context.Context, slots *Slots, tasks []Task) []Result {
	r := &run{queue: newQueue(tasks), slots: slots, done: make(chan finished, len(tasks)), slot: make(chan error, 1)}
	left := len(tasks)
	for left > 0 {
		if ctx.Err() == nil {
			r.begin(ctx)
		}
		if r.running == 0 && !r.waiting && len(r.held) == 0 {
			break // only tasks that can never run are left
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

// run is a set of running tasks. Only the goroutine of Run uses it.
type run struct {
	*queue
	slots   *Slots
	running int
	holding int              // of those running, how many hold a slot
	waiting bool             // for a slot
	urgent  atomic.Int64     // the urgency of the most urgent task that is ready
	held    []int            // tasks that wait for others to end, though they are ready
	again   <-chan time.Time // when they are asked again, or nil
	done    chan finished
	slot    chan error
}

// begin starts tasks that need no slot, and requests a slot if a task needs one.
func (r *run) begin(ctx context.Context) {
	for r.start(ctx, false) {
	}
	r.urgent.Store(int64(r.Urgency()))
	if !r.waiting && r.Waiting() {
		r.waiting = true
		ctx := withUrgency(ctx, func() time.Duration { return time.Duration(r.urgent.Load()) })
		go func() { r.slot <- r.slots.Acquire(ctx) }()
	}
}

// start starts the next task of those that need a slot, or of those that do not.
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
	ctx = withUrgency(ctx, decreasing(r.order[i], t.Length))
	go func() { r.done <- finished{i, t.Run(ctx)} }()
	return true
}

// next takes the next task that need not wait for another to end. Tasks that have to wait are
// held, and later ones go first.
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
