package plan

import (
	"slices"
	"time"

	"fernladder/core/build"
	"fernladder/core/machine"
	"fernladder/core/schedule"
	"fernladder/core/store"
)

// Estimate asks the history for the cost of the packages to build. It is not among the facts,
// because it only changes the order of the work.
func (p *Plan) Estimate(m *machine.Machine) (err error) {
	todo := p.Todo()
	if len(todo) == 0 {
		return nil
	}
	refs := make([]store.Ref, len(todo))
	for i, j := range todo {
		refs[i] = j.Ref
	}
	p.Estimates, err = m.Store.History().Estimates(refs)
	return err
}

// Totals is the cost of a plan, as far as it is known.
type Totals struct {
	Build   int     `json:"to_build"`
	Take    int     `json:"to_take"` // from depots
	Brought int64   `json:"bytes_to_take"`
	Fetch   int     `json:"to_fetch"`
	Bytes   int64   `json:"bytes_to_fetch"` // of archives with a size in the recipe
	Unsized int     `json:"of_unknown_size"`
	Seconds float64 `json:"seconds"` // by the schedule
	Busy    float64 `json:"processor_seconds"`
	Untimed int     `json:"never_built"`
	Trees   int64   `json:"bytes_of_trees"`
	Work    int64   `json:"bytes_of_work"` // if all work directories were there at once
}

// Totals adds up the cost. fetched reports whether the sources of a job are stored.
func (p *Plan) Totals(fetched func(*build.Job) bool) Totals {
	t := Totals{}
	for _, j := range p.Todo() {
		if len(j.From) > 0 {
			t.Take++
			t.Brought += j.From[0].Bytes()
			continue
		}
		t.Build++
		if !fetched(j) {
			t.Fetch++
			for _, part := range j.Parts {
				if t.Bytes += part.Size; part.Size == 0 {
					t.Unsized++
				}
			}
		}
		e, known := p.Estimates[j.Ref]
		if !known {
			t.Untimed++
		}
		t.Trees += e.Size
		t.Work += e.WorkSize
	}
	takes, busy := p.forecast(func(j *build.Job) (time.Duration, bool) { return p.Estimates[j.Ref].Time, true })
	t.Seconds, t.Busy = takes.Seconds(), busy.Seconds()
	return t
}

// Left is the expected time for the rest of the plan, or 0 if any of it is not known. done are
// the finished builds, running says how long others have been running.
func (p *Plan) Left(done map[store.Ref]bool, running map[store.Ref]time.Duration) time.Duration {
	known := true
	takes, _ := p.forecast(func(j *build.Job) (time.Duration, bool) {
		e, is := p.Estimates[j.Ref]
		known = known && (is || done[j.Ref])
		return max(0, e.Time-running[j.Ref]), !done[j.Ref]
	})
	if !known {
		return 0
	}
	return takes
}

// LongestLeft is the chain of builds of the rest that takes longest, each a need of the next, and
// how long it should take. Builds of unknown length take no time.
func (p *Plan) LongestLeft(done map[store.Ref]bool, running map[store.Ref]time.Duration) (names []string,
	takes time.Duration) {
	length, before := map[*build.Job]time.Duration{}, map[*build.Job]*build.Job{}
	var last *build.Job
	for _, j := range p.Todo() {
		if done[j.Ref] {
			continue
		}
		for _, need := range j.Needs {
			if at, is := length[need]; is && (before[j] == nil || at > length[before[j]]) {
				before[j] = need
			}
		}
		length[j] = max(0, p.Estimates[j.Ref].Time-running[j.Ref])
		if before[j] != nil {
			length[j] += length[before[j]]
		}
		if last == nil || length[j] > length[last] {
			last = j
		}
	}
	takes = length[last]
	for ; last != nil; last = before[last] {
		names = append(names, last.Name)
	}
	slices.Reverse(names)
	return names, takes
}

// forecast returns how long the schedule should take, and how long processors should be busy;
// length returns the time of a job, and false for one that does not count.
func (p *Plan) forecast(length func(*build.Job) (time.Duration, bool)) (takes, busy time.Duration) {
	place := map[*build.Job]int{}
	var tasks []schedule.Task
	for _, j := range p.Todo() {
		takes, counts := length(j)
		if !counts || len(j.From) > 0 {
			continue
		}
		task := schedule.Task{Name: j.Name, Length: takes, Width: p.Estimates[j.Ref].Width, Slot: true}
		for _, need := range j.Needs {
			if i, is := place[need]; is {
				task.Needs = append(task.Needs, i)
			}
		}
		place[j] = len(tasks)
		tasks = append(tasks, task)
	}
	return schedule.Forecast(tasks, p.Slots)
}
