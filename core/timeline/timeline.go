// Package timeline holds when the stages of a ladder's builds ran: recorded from events while
// they run, and read later to show what set the length and what kept processors idle.
//
// It is plain values. It neither stores nor draws them.
package timeline

import "time"

// A Run is one run of a ladder's builds. Times are seconds since it began.
type Run struct {
	Began       time.Time `json:"run"`
	Seconds     float64   `json:"seconds"`
	Slots       int       `json:"slots"`                  // job slots; 0 on a cluster
	Expected    float64   `json:"expected,omitempty"`     // forecast by earlier builds; 0: unknown
	Interrupted bool      `json:"interrupted,omitempty"`  // by a signal
	Builds      []Build   `json:"builds"`                 // in the order of the ladder
	InUse       []Level   `json:"slots_in_use,omitempty"` // each until the next
	Unlisted    int       `json:"unlisted,omitempty"`     // builds left out, the shortest of very many
}

// The outcomes of a build.
const (
	Built      = "built"
	Taken      = "taken" // from a depot
	Failed     = "failed"
	Skipped    = "skipped"    // a build that it needs failed
	Stopped    = "stopped"    // after the requested stage
	Unfinished = "unfinished" // the run was interrupted
)

// A Build is a build of a run. Its id is not called that, so that lines of the history with runs
// are not taken for builds.
type Build struct {
	Name     string  `json:"package"`
	Version  string  `json:"version"`
	ID       string  `json:"build"`
	Needs    []int   `json:"needs,omitempty"` // indices of builds of the run
	Node     string  `json:"node,omitempty"`  // of the cluster
	Outcome  string  `json:"outcome"`
	Because  string  `json:"because,omitempty"`  // of a skipped one: the package it needs
	Expected float64 `json:"expected,omitempty"` // seconds; 0: unknown
	Spans    []Span  `json:"spans,omitempty"`    // in order
}

// A Span is a stage of a build, or a download.
type Span struct {
	Stage string  `json:"stage"`
	From  float64 `json:"from"`
	To    float64 `json:"to"`
	CPU   float64 `json:"cpu_seconds,omitempty"` // that processors were busy with it
}

// A Level is the number of job slots in use from a moment on.
type Level struct {
	At    float64 `json:"at"`
	Slots int     `json:"slots"`
}

// Fetch is the name of a span that is a download.
const Fetch = "fetch"

// Seconds is the length of the span.
func (s Span) Seconds() float64 { return s.To - s.From }

// Bounds are the begin and end of the work on a build that holds a slot; none: it never began.
func (b Build) Bounds() (from, to float64, ran bool) {
	for _, s := range b.Spans {
		if s.Stage == Fetch {
			continue
		}
		if !ran {
			from, ran = s.From, true
		}
		to = s.To
	}
	return from, to, ran
}

// Busy is the processor time of all builds, in seconds.
func (r *Run) Busy() (seconds float64) {
	for _, b := range r.Builds {
		for _, s := range b.Spans {
			seconds += s.CPU
		}
	}
	return seconds
}

// Count is the number of builds with an outcome.
func (r *Run) Count(outcome string) (n int) {
	for _, b := range r.Builds {
		if b.Outcome == outcome {
			n++
		}
	}
	return n
}

// Valid reports whether a run that was read makes sense: every build needs only earlier ones, and
// times are those of a run.
func (r *Run) Valid() bool {
	const longest = 100 * 365 * 24 * 3600 // seconds
	in := func(seconds float64) bool { return seconds >= 0 && seconds <= longest }
	for i, b := range r.Builds {
		for _, n := range b.Needs {
			if n < 0 || n >= i {
				return false
			}
		}
		for _, s := range b.Spans {
			if !in(s.From) || !in(s.To) || s.To < s.From || !in(s.CPU) {
				return false
			}
		}
	}
	return in(r.Seconds) && in(r.Expected) && r.Slots >= 0
}
