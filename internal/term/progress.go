package term

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/jedib0t/go-pretty/v6/text"

	"fernladder/core/event"
)

// A Build is what an event is about. Its ID is empty where the event is not about one
// build, as when sources are fetched.
type Build struct{ Name, Version, ID string }

func buildOf(e event.Event) Build { return Build{e.Package, e.Version, e.ID} }

// Progress shows the events of long work: a line for each result and, on a terminal, some more
// about current work. Elsewhere, it reports long work in lines from time to time.
//
// Event takes a note and never waits. A goroutine draws; it runs from the first event until
// everything is settled.
type Progress struct {
	screen *Screen
	now    func() time.Time

	lock    sync.Mutex
	notes   []note
	woken   chan struct{} // there are notes
	stop    chan struct{} // of the goroutine that draws; nil: there is none
	stopped chan struct{}

	drawing sync.Mutex // of the following fields
	view
}

// note is an event and when it happened.
type note struct {
	event.Event
	at time.Time
}

// Expected is what is known about work before it begins.
type Expected struct {
	Packages int
	Times    map[Build]time.Duration // how long each should take
	// Left returns how long everything should still take, and of the chain of builds that takes
	// longest, their names in order and how long they should take.
	Left   func(done map[Build]bool, running map[Build]time.Duration) (time.Duration, []string, time.Duration)
	Slots  func() (used, all int) // job slots; nil: there are none here
	Output bool                   // the last line of output of each package is shown, too
}

// view is what is known about the work on display.
type view struct {
	Expected
	began    time.Time
	settled  map[Build]bool
	active   []*activity
	reported map[string]bool   // messages shown only once
	remarks  map[Build]int     // on the files of each package
	ids      map[string]string // the build by which a name and version is known
	drawn    []int             // how wide the lines are that are on the screen to be redrawn
	spoke    time.Time         // when a line was last written, off a terminal

	// The last result of Left, and its time.
	leftThen, pathThen time.Duration
	path               []string
	leftAt             time.Time
}

func newView(e Expected, now time.Time) view {
	return view{Expected: e, began: now, spoke: now, settled: map[Build]bool{}, reported: map[string]bool{},
		remarks: map[Build]int{}, ids: map[string]string{}}
}

// activity is a package that is being worked on.
type activity struct {
	build    Build
	what     string
	since    time.Time
	began    time.Time // the package
	log      string    // of the stage, or ""
	part     string    // how far, if that is known
	whole    float64   // the same from 0 to 1, of what a build program says
	reported bool      // off a terminal, that it has begun
	// Bytes of a download: so far, in all, and before it began.
	done, total, before int64
}

// fewRemarks are shown of each package; the others are counted.
const fewRemarks = 3

// Progress is what shows progress on the screen.
func (s *Screen) Progress(now func() time.Time) *Progress {
	if s.progress == nil {
		s.progress = &Progress{screen: s, now: now, woken: make(chan struct{}, 1)}
	}
	return s.progress
}

// Expect begins work of which something is known.
func (p *Progress) Expect(e Expected) {
	p.Settle()
	p.drawing.Lock()
	defer p.drawing.Unlock()
	p.view = newView(e, p.now())
}

// Event takes a note of an event.
func (p *Progress) Event(e event.Event) {
	p.lock.Lock()
	defer p.lock.Unlock()
	p.notes = append(p.notes, note{e, p.now()})
	if p.stop == nil {
		p.stop, p.stopped = make(chan struct{}), make(chan struct{})
		go p.draws(p.stop, p.stopped)
	}
	select {
	case p.woken <- struct{}{}:
	default: // it knows
	}
}

// Settle shows everything that was noted, removes the redrawn lines, and returns when nothing is
// drawn any more.
func (p *Progress) Settle() {
	p.lock.Lock()
	stop, stopped := p.stop, p.stopped
	p.stop = nil
	p.lock.Unlock()
	if stop == nil {
		return
	}
	close(stop)
	<-stopped
	p.drawing.Lock()
	defer p.drawing.Unlock()
	p.show()
	p.erase()
}

// draws shows notes as they come, and current work a few times a second.
func (p *Progress) draws(stop, stopped chan struct{}) {
	defer close(stopped)
	often := 200 * time.Millisecond
	if !p.screen.live {
		often = time.Second
	}
	tick := time.NewTicker(often)
	defer tick.Stop()
	for {
		select {
		case <-stop:
			return
		case <-p.woken:
			p.redraw(false)
		case <-tick.C:
			p.redraw(true)
		}
	}
}

// redraw shows new notes and, from time to time, current work.
func (p *Progress) redraw(whole bool) {
	p.drawing.Lock()
	defer p.drawing.Unlock()
	p.show()
	switch {
	case !whole || p.screen.JSON:
	case p.screen.live:
		p.draw()
	default:
		p.reportLong(p.now())
	}
}

// show shows new notes. The caller holds the lock of the display.
func (p *Progress) show() {
	p.lock.Lock()
	notes := p.notes
	p.notes = nil
	p.lock.Unlock()
	if len(notes) > 0 && p.began.IsZero() {
		p.view = newView(p.Expected, notes[0].at)
	}
	for _, n := range notes {
		if p.screen.JSON {
			p.line(n)
			continue
		}
		p.follow(n)
		p.report(n)
	}
}

// label is the name of a build: its name and version, with its id if another build has the same.
func (p *Progress) label(b Build) string {
	name := strings.TrimSpace(b.Name + " " + b.Version)
	if b.ID == "" {
		return name
	}
	const short = 6
	switch first, known := p.ids[name]; {
	case !known:
		p.ids[name] = b.ID
	case first != b.ID:
		return name + " " + b.ID[:min(short, len(b.ID))]
	}
	return name
}

// report writes the line for an event, if it has one.
func (p *Progress) report(e note) {
	build := buildOf(e.Event)
	name := p.label(build)
	say := func(format string, args ...any) { p.say(e.at, name, format, args...) }
	switch e.Kind {
	case event.MirrorFailed:
		say("not from %s: %v", e.Text, e.Err)
	case event.FetchRetried:
		say("again from %s in %s: %v", e.Text, Duration(e.Elapsed), e.Err)
	case event.FetchEnded:
		if e.Text == "" {
			break
		}
		say("fetched from %s (%s), digest good", e.Text, Bytes(e.Done))
	case event.CheckedOut:
		say("fetched from %s", e.Text)
	case event.Signed:
		say("signed by %s", e.Text)
	case event.Obtained:
		say("fetched from %s (%s)", e.Text, Bytes(e.Done))
	case event.Taken:
		say("%s in %s, signed by %s", p.screen.paint(p.screen.colourErr, "taken from "+e.Text, text.FgGreen),
			Duration(e.Elapsed), e.Signer)
	case event.Remarked:
		p.remarks[build]++
		if p.remarks[build] <= fewRemarks {
			say("%s", e.Text)
		}
	case event.Undeclared:
		say("%s; fernladder host %s --used shows the lines to add", e.Text, e.Package)
	case event.StageEnded:
		if !p.screen.live && e.Elapsed >= longStage {
			say("%s took %s", e.Stage, Duration(e.Elapsed))
		}
	case event.Retried, event.Batch:
		say("%s", e.Text)
	case event.PackageDone:
		if e.Stage != "" {
			say("stopped after %s in %s", e.Stage, Duration(e.Elapsed))
			break
		}
		if n := p.remarks[build] - fewRemarks; n > 0 {
			say("and %s more like that; fernladder show %s has them all", Count(n, "remark"), e.Package)
		}
		say("%s in %s", p.screen.paint(p.screen.colourErr, "built", text.FgGreen), Duration(e.Elapsed))
	case event.PackageFailed:
		say("%s", p.screen.paint(p.screen.colourErr, "failed", text.FgRed))
	case event.PackageSkipped:
		say("not built: it depends on %s", e.Text)
	case event.Waiting:
		if !p.reported[name+e.Text] {
			p.reported[name+e.Text] = true
			say("waiting for %s", e.Text)
		}
	}
}

// Without a terminal, a stage is reported after longStage, and everything in progress after
// longSilence.
const (
	longStage   = 10 * time.Second
	longSilence = 3 * time.Minute
)

// reportLong reports what has taken long.
func (p *Progress) reportLong(now time.Time) {
	silent := now.Sub(p.spoke) >= longSilence
	for _, a := range p.active {
		if a.reported && !silent || now.Sub(a.since) < longStage {
			continue
		}
		a.look()
		text := a.what + ": " + Duration(now.Sub(a.since)) + " so far"
		if a.part != "" {
			text += ", " + a.part
		}
		if expected, spent := p.Times[a.build], now.Sub(a.began); a.log != "" && expected > spent {
			text += fmt.Sprintf(", about %s left of the build", Duration(expected-spent))
		}
		a.reported = true
		p.say(now, p.label(a.build), "%s", text)
	}
}

// follow keeps account of current work.
func (p *Progress) follow(e note) {
	build := buildOf(e.Event)
	set := func(what string) {
		next := &activity{build: build, what: what, since: e.at, began: e.at, log: e.Log}
		for i, a := range p.active {
			if a.build == build { // it keeps its place
				next.began = a.began
				p.active[i] = next
				return
			}
		}
		p.active = append(p.active, next)
	}
	switch e.Kind {
	case event.FetchBegan:
		set("fetch")
	case event.SendBegan:
		set("send")
	case event.FetchProgress, event.SendProgress:
		for _, a := range p.active {
			if a.build == build {
				a.moved(e.Done, e.Total)
				a.part = transferred(a.done, a.total, a.speed(e.at))
			}
		}
	case event.StageBegan:
		set(e.Stage)
	case event.FetchEnded, event.CheckedOut, event.Obtained, event.Sent:
		p.forget(build)
	case event.Taken, event.PackageDone, event.PackageFailed, event.PackageSkipped:
		p.forget(build)
		p.settled[build] = true
	}
}

// moved notes the progress of a download. What existed before it began does not count for its
// speed.
func (a *activity) moved(done, total int64) {
	if a.total == 0 && a.done == 0 {
		const step = 2 << 20 // downloads report about every mebibyte
		if done > step {
			a.before = done
		}
	}
	a.done, a.total = done, total
}

// speed is in bytes a second.
func (a *activity) speed(now time.Time) float64 {
	return float64(a.done-a.before) / max(now.Sub(a.since).Seconds(), 0.001)
}

// transferred says how far downloads are, their speed, and how long they should still take.
func transferred(done, total int64, speed float64) string {
	if total <= 0 {
		return fmt.Sprintf("%s, %s/s", Bytes(done), Bytes(int64(speed)))
	}
	left := time.Duration(float64(total-done) / max(speed, 1) * float64(time.Second))
	return fmt.Sprintf("%d%%, %s/s, %s left", 100*done/total, Bytes(int64(speed)), Duration(left))
}

// together adds up the current downloads, if there are several.
func (p *Progress) together() string {
	var done, total int64
	speed, files := 0.0, 0
	for _, a := range p.active {
		if a.total > 0 {
			files++
			done, total, speed = done+a.done, total+a.total, speed+a.speed(p.now())
		}
	}
	if files < 2 {
		return ""
	}
	return Count(files, "download") + " " + transferred(done, total, speed) + "   "
}

func (p *Progress) forget(build Build) {
	p.active = slices.DeleteFunc(p.active, func(a *activity) bool { return a.build == build })
}

// say writes a line with the time since the beginning. On a live terminal, the continuation of a
// long one is indented.
func (p *Progress) say(at time.Time, name, format string, args ...any) {
	p.erase()
	p.spoke = at
	since := fmt.Sprintf("%7.1fs", at.Sub(p.began).Seconds())
	line := p.screen.paint(p.screen.colourErr, since, text.FgHiBlack) + "  "
	if name != "" {
		line += fmt.Sprintf("%-18s ", name)
	}
	words := fmt.Sprintf(format, args...)
	if width, _ := p.screen.size(); p.screen.live {
		line = paragraph(line, strings.Split(words, " "), width-1)
	} else {
		line += words
	}
	fmt.Fprintln(p.screen.errs, line)
	p.draw()
}

// line writes an event as one line of JSON.
func (p *Progress) line(e note) {
	out := struct {
		Time    time.Time  `json:"time"`
		Event   event.Kind `json:"event"`
		Package string     `json:"package,omitempty"`
		Version string     `json:"version,omitempty"`
		ID      string     `json:"id,omitempty"`
		Stage   string     `json:"stage,omitempty"`
		Text    string     `json:"text,omitempty"`
		Done    int64      `json:"done,omitempty"`
		Total   int64      `json:"total,omitempty"`
		Seconds float64    `json:"seconds,omitempty"`
		Error   string     `json:"error,omitempty"`
	}{Time: e.at.UTC(), Event: e.Kind, Package: e.Package, Version: e.Version, ID: e.ID, Stage: e.Stage, Text: e.Text,
		Done: e.Done, Total: e.Total, Seconds: e.Elapsed.Seconds()}
	if e.Err != nil {
		out.Error = e.Err.Error()
	}
	data, err := json.Marshal(out)
	if err == nil {
		fmt.Fprintf(p.screen.errs, "%s\n", data)
	}
}
