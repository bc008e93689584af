package timeline

import (
	"cmp"
	"math"
	"slices"
	"sync"
	"time"

	"fernladder/core/event"
)

// A Recorder records a run from its events. It is an event.Sink.
type Recorder struct {
	lock  sync.Mutex
	run   Run
	now   func() time.Time
	inUse func() int
	build map[build]int // index in the run
	open  map[int]Span  // the stage under way
	fetch map[int]Span  // the download under way
	step  time.Duration // between two readings of the slots
	read  time.Time     // the last of them
}

type build struct{ name, version, id string }

// most readings of the slots are kept.
const most = 500

// Record records a run that begins now. The run has what is known before: its slots, and its
// builds without spans. inUse reads the number of slots in use; nil: that is not known.
func Record(run Run, now func() time.Time, inUse func() int) *Recorder {
	r := &Recorder{run: run, now: now, inUse: inUse, build: map[build]int{}, open: map[int]Span{}, fetch: map[int]Span{},
		step: 250 * time.Millisecond}
	r.run.Began = now().UTC().Truncate(time.Millisecond)
	for i, b := range run.Builds {
		r.build[build{b.Name, b.Version, b.ID}] = i
		if _, known := r.build[build{b.Name, b.Version, ""}]; !known { // downloads have no id
			r.build[build{b.Name, b.Version, ""}] = i
		}
	}
	return r
}

// Event records an event.
func (r *Recorder) Event(e event.Event) {
	r.lock.Lock()
	defer r.lock.Unlock()
	r.readSlots()
	i, is := r.build[build{e.Package, e.Version, e.ID}]
	if !is {
		return
	}
	b, at := &r.run.Builds[i], r.since()
	if e.Node != "" {
		b.Node = e.Node
	}
	switch e.Kind {
	case event.FetchBegan:
		if _, under := r.fetch[i]; !under {
			r.fetch[i] = Span{Stage: Fetch, From: at}
		}
	case event.FetchEnded, event.CheckedOut:
		r.end(r.fetch, i, at, 0)
	case event.StageBegan:
		r.end(r.fetch, i, at, 0)
		r.open[i] = Span{Stage: e.Stage, From: at}
	case event.StageEnded:
		if s, under := r.open[i]; under && e.Elapsed > 0 { // events of nodes come late
			s.From = max(0, at-e.Elapsed.Seconds())
			r.open[i] = s
		}
		r.end(r.open, i, at, e.CPU)
	case event.Taken:
		r.end(r.fetch, i, at, 0)
		b.Outcome = Taken
		b.Spans = append(b.Spans, Span{Stage: "take", From: round(max(0, at-e.Elapsed.Seconds())), To: round(at)})
	case event.PackageDone:
		r.end(r.open, i, at, 0)
		if b.Outcome = Built; e.Stage != "" {
			b.Outcome = Stopped
		}
	case event.PackageFailed:
		r.end(r.fetch, i, at, 0)
		r.end(r.open, i, at, 0)
		b.Outcome = Failed
	case event.PackageSkipped:
		b.Outcome, b.Because = Skipped, e.Text
	}
}

func (r *Recorder) since() float64 { return max(0, r.now().Sub(r.run.Began).Seconds()) }

// end adds the span of a build that is under way.
func (r *Recorder) end(under map[int]Span, i int, at float64, cpu time.Duration) {
	s, is := under[i]
	if !is {
		return
	}
	delete(under, i)
	s.From, s.To, s.CPU = round(s.From), round(max(at, s.From)), round(cpu.Seconds())
	r.run.Builds[i].Spans = append(r.run.Builds[i].Spans, s)
}

// round rounds to milliseconds, so that the record is short.
func round(seconds float64) float64 { return math.Round(seconds*1000) / 1000 }

// readSlots notes the number of slots in use, unless it has just been noted.
func (r *Recorder) readSlots() {
	now := r.now()
	if r.inUse == nil || now.Sub(r.read) < r.step {
		return
	}
	r.read = now
	n := r.inUse()
	if k := len(r.run.InUse); k > 0 && r.run.InUse[k-1].Slots == n {
		return
	}
	r.run.InUse = append(r.run.InUse, Level{round(r.since()), n})
	if len(r.run.InUse) > most {
		kept := r.run.InUse[:0]
		for i, l := range r.run.InUse {
			if i%2 == 0 {
				kept = append(kept, l)
			}
		}
		r.run.InUse, r.step = kept, 2*r.step
	}
}

// Read notes the number of slots in use, between events.
func (r *Recorder) Read() {
	r.lock.Lock()
	defer r.lock.Unlock()
	r.readSlots()
}

// Ended is the run, which ends now. Of very many builds, the longest are kept.
func (r *Recorder) Ended(interrupted bool) *Run {
	r.lock.Lock()
	defer r.lock.Unlock()
	at := r.since()
	for i := range r.run.Builds {
		r.end(r.fetch, i, at, 0)
		r.end(r.open, i, at, 0)
		b := &r.run.Builds[i]
		if b.Outcome == "" || interrupted && b.Outcome == Skipped && !r.failed(b.Because) {
			b.Outcome, b.Because = Unfinished, ""
		}
		slices.SortStableFunc(r.run.Builds[i].Spans, func(a, b Span) int { return cmp.Compare(a.From, b.From) })
	}
	r.build = nil // what is told later is not of this run
	r.run.Seconds, r.run.Interrupted = round(at), interrupted
	run := r.run
	run.keepLongest(2000)
	return &run
}

// failed reports whether a build of a package failed.
func (r *Recorder) failed(name string) bool {
	return slices.ContainsFunc(r.run.Builds, func(b Build) bool { return b.Name == name && b.Outcome == Failed })
}

// keepLongest keeps at most so many builds.
func (r *Run) keepLongest(most int) {
	if len(r.Builds) <= most {
		return
	}
	length := func(b Build) float64 { from, to, _ := b.Bounds(); return to - from }
	lengths := make([]float64, len(r.Builds))
	for i, b := range r.Builds {
		lengths[i] = length(b)
	}
	slices.SortFunc(lengths, func(a, b float64) int { return cmp.Compare(b, a) })
	place := map[int]int{}
	var kept []Build
	for i, b := range r.Builds {
		if len(kept) < most && length(b) >= lengths[most-1] {
			place[i] = len(kept)
			kept = append(kept, b)
		}
	}
	for k := range kept {
		needs := kept[k].Needs
		kept[k].Needs = nil
		for _, n := range needs {
			if at, is := place[n]; is {
				kept[k].Needs = append(kept[k].Needs, at)
			}
		}
	}
	r.Builds, r.Unlisted = kept, len(r.Builds)-len(kept)
}
