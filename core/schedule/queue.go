package schedule

import (
	"cmp"
	"context"
	"slices"
	"time"
)

// A Task is run after all tasks that it depends on have succeeded.
type Task struct {
	Name   string
	Needs  []int         // indexes of the tasks it needs, all smaller than its own
	Length time.Duration // its expected time; 0: unknown
	Width  float64       // how many processors it keeps busy when it has them; 0 counts as 1
	Slot   bool          // whether it runs in a job slot
	Hold   func() bool   // whether it should wait while others that hold a slot run; nil: never
	Run    func(ctx context.Context) error
}

// Outcome is how a task ended.
type Outcome int

// The outcomes.
const (
	NotRun    Outcome = iota // the run was ended before its turn
	Succeeded                //
	Failed                   // its Run returned an error
	Skipped                  // a need failed or was skipped
)

// A Result is how one task ended.
type Result struct {
	Outcome Outcome
	Err     error // of Run
	Because int   // when skipped: the task that failed
}

// A queue decides which task is next. It is a plain value: Run updates it with real events,
// Forecast with simulated ones.
type queue struct {
	Results []Result
	tasks   []Task
	missing []int   // how many needs each task still waits for
	above   [][]int // the direct dependents of each task
	order   []time.Duration
	ready   []int
}

// newQueue returns a queue of tasks, none of which has started.
func newQueue(tasks []Task) *queue {
	q := &queue{Results: make([]Result, len(tasks)), tasks: tasks, missing: make([]int, len(tasks)),
		above: dependants(tasks), order: fromTop(tasks)}
	for i, t := range tasks {
		if q.missing[i] = len(t.Needs); q.missing[i] == 0 {
			q.ready = append(q.ready, i)
		}
	}
	return q
}

// Next takes the ready task with the longest path to the end, among those that need a slot or
// among those that do not. It returns false if there is none.
func (q *queue) Next(slot bool) (int, bool) {
	best := -1
	for place, i := range q.ready {
		if q.tasks[i].Slot == slot && (best < 0 || q.order[i] > q.order[q.ready[best]]) {
			best = place
		}
	}
	if best < 0 {
		return 0, false
	}
	i := q.ready[best]
	q.ready = slices.Delete(q.ready, best, best+1)
	return i, true
}

// Waiting reports whether a ready task needs a slot.
func (q *queue) Waiting() bool {
	return slices.ContainsFunc(q.ready, func(i int) bool { return q.tasks[i].Slot })
}

// Urgency is the longest path from a ready task that needs a slot.
func (q *queue) Urgency() (longest time.Duration) {
	for _, i := range q.ready {
		if q.tasks[i].Slot {
			longest = max(longest, q.order[i])
		}
	}
	return longest
}

// Ended records that a task has ended, and returns how many tasks that settles.
func (q *queue) Ended(task int, err error) int {
	if err == nil {
		q.Results[task].Outcome = Succeeded
		for _, i := range q.above[task] {
			if q.missing[i]--; q.missing[i] == 0 && q.Results[i].Outcome == NotRun {
				q.ready = append(q.ready, i)
			}
		}
		return 1
	}
	q.Results[task] = Result{Outcome: Failed, Err: err}
	return 1 + q.skip(task, task)
}

func (q *queue) skip(below, because int) int {
	skipped := 0
	for _, i := range q.above[below] {
		if q.Results[i].Outcome == NotRun {
			q.Results[i] = Result{Outcome: Skipped, Because: because}
			skipped += 1 + q.skip(i, because)
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

// fromTop returns for each task the length of the longest path from its start to the end of
// everything (critical path scheduling: Kelley and Walker 1959). Tasks of unknown length count
// as long as a typical known one.
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
