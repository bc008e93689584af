package timeline

import (
	"cmp"
	"maps"
	"slices"
)

// A Step is a build on the path that set the length of a run.
type Step struct {
	Build  int     // index
	Waited float64 // seconds between the end of the step before and its begin
	Slot   bool    // it waited for the step before only because that had its job slot
}

// Path is the chain of builds that set the length of the run, the first one first: each began
// when the one before ended, which it needs, or which had its slot.
func (r *Run) Path() []Step {
	const moment = 0.05 // seconds
	last, end := -1, 0.0
	for i, b := range r.Builds {
		if _, to, ran := b.Bounds(); ran && (last < 0 || to > end) {
			last, end = i, to
		}
	}
	var path []Step
	for last >= 0 {
		from, _, _ := r.Builds[last].Bounds()
		before, when, needed := -1, 0.0, false
		for _, n := range r.Builds[last].Needs {
			if _, to, ran := r.Builds[n].Bounds(); ran && to <= from+moment && (before < 0 || to > when) {
				before, when, needed = n, to, true
			}
		}
		for i, b := range r.Builds {
			began, to, ran := b.Bounds()
			if i != last && ran && began < from && to <= from+moment && (before < 0 || to > when+moment) {
				before, when, needed = i, to, false
			}
		}
		path = append(path, Step{Build: last, Waited: max(0, from-when), Slot: before >= 0 && !needed})
		if len(path) > len(r.Builds) {
			break
		}
		last = before
	}
	slices.Reverse(path)
	return path
}

// A Cause is why processors were idle, and for how long in total.
type Cause struct {
	What    string  `json:"what"`
	Seconds float64 `json:"processor_seconds"`
}

// What else than a stage of builds leaves processors idle.
const (
	IdleFetching = "only downloads were running"
	IdleBetween  = "between stages"
)

// Idle adds up the idle time of processors by cause, the largest first. While stages run, each
// of them has an even share of the processors, and those that use less than their share are the
// cause.
func (r *Run) Idle() []Cause {
	total := map[string]float64{}
	r.moments(func(from, to float64, running []Span) {
		busy, unused := 0.0, map[string]float64{}
		var stages []Span
		for _, s := range running {
			if s.Stage != Fetch {
				stages = append(stages, s)
			}
			busy += s.rate()
		}
		idle := (float64(r.Slots) - busy) * (to - from)
		if idle <= 0 {
			return
		}
		switch {
		case len(stages) > 0:
			all := 0.0
			for _, s := range stages {
				less := max(0, float64(r.Slots)/float64(len(stages))-s.rate())
				unused[s.Stage] += less
				all += less
			}
			for stage, less := range unused {
				if all > 0 {
					total[stage] += idle * less / all
				}
			}
		case len(running) > 0:
			total[IdleFetching] += idle
		default:
			total[IdleBetween] += idle
		}
	})
	var causes []Cause
	for _, what := range slices.Sorted(maps.Keys(total)) {
		causes = append(causes, Cause{what, round(total[what])})
	}
	slices.SortStableFunc(causes, func(a, b Cause) int { return cmp.Compare(b.Seconds, a.Seconds) })
	return causes
}

// rate is how many processors a stage kept busy.
func (s Span) rate() float64 {
	if s.Seconds() <= 0 {
		return 0
	}
	return s.CPU / s.Seconds()
}

// A Load is how many processors were busy for a while.
type Load struct {
	From, To   float64
	Processors float64
}

// Load is how busy processors were over time, by the average of each stage.
func (r *Run) Load() (loads []Load) {
	r.moments(func(from, to float64, running []Span) {
		l := Load{From: from, To: to}
		for _, s := range running {
			l.Processors += s.rate()
		}
		if r.Slots > 0 {
			l.Processors = min(l.Processors, float64(r.Slots))
		}
		loads = append(loads, l)
	})
	return loads
}

// moments visits the times between which the same spans run.
func (r *Run) moments(visit func(from, to float64, running []Span)) {
	type change struct {
		at    float64
		span  Span
		begin bool
	}
	changes := []change{{at: 0}, {at: r.Seconds}}
	for _, b := range r.Builds {
		for _, s := range b.Spans {
			if s.To > s.From {
				changes = append(changes, change{s.From, s, true}, change{s.To, s, false})
			}
		}
	}
	slices.SortStableFunc(changes, func(a, b change) int { return cmp.Compare(a.at, b.at) })
	var running []Span
	for i, c := range changes {
		switch {
		case c.begin:
			running = append(running, c.span)
		case c.span.Stage != "":
			if k := slices.Index(running, c.span); k >= 0 {
				running = slices.Delete(running, k, k+1)
			}
		}
		if i+1 < len(changes) && changes[i+1].at > c.at {
			visit(c.at, changes[i+1].at, running)
		}
	}
}
