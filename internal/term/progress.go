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

// Progress shows the events of long work: a line for each thing that is
// settled and, on a terminal, one more that tells what is going on now.
type Progress struct {
	screen *Screen
	total  int // packages
	now    func() time.Time
	began  time.Time
	stop   chan struct{}
	ended  chan struct{}

	// What is expected of a build; set before the first event.
	Expected map[string]time.Duration // how long each package should take
	Left     func(done map[string]bool, running map[string]time.Duration) time.Duration
	Output   bool // the last line of output of each package is shown too

	lock    sync.Mutex
	settled map[string]bool
	active  []*activity
	told    map[string]bool // what is said once only
	remarks map[string]int  // on the files of each package
	// What Left said, and when.
	leftThen time.Duration
	leftAt   time.Time

	drawn []int // how wide the lines are that are on the screen to be redrawn
}

// activity is a package that something is being done with.
type activity struct {
	name  string
	what  string
	since time.Time
	began time.Time // the package
	log   string    // of the stage, or ""
	part  string    // how far, if that is known
	// Bytes of a download: so far, in all, and before it began.
	done, total, before int64
}

// fewRemarks are shown of each package; the others are counted.
const fewRemarks = 3

// Progress begins to show work on that many packages. Close ends it.
func (s *Screen) Progress(packages int, now func() time.Time) *Progress {
	p := &Progress{screen: s, total: packages, now: now, began: now(), stop: make(chan struct{}), ended: make(chan struct{}),
		settled: map[string]bool{}, told: map[string]bool{}, remarks: map[string]int{}}
	go p.redraw()
	return p
}

// Close takes the redrawn line away.
func (p *Progress) Close() {
	close(p.stop)
	<-p.ended
	p.lock.Lock()
	defer p.lock.Unlock()
	p.erase()
}

// Event shows an event.
func (p *Progress) Event(e event.Event) {
	p.lock.Lock()
	defer p.lock.Unlock()
	if p.screen.JSON {
		p.line(e)
		return
	}
	p.follow(e)
	name := strings.TrimSpace(e.Package + " " + e.Version)
	switch e.Kind {
	case event.MirrorFailed:
		p.say(name, "not from %s: %v", e.Text, e.Err)
	case event.FetchRetried:
		p.say(name, "again from %s in %s: %v", e.Text, Duration(e.Elapsed), e.Err)
	case event.FetchEnded:
		p.say(name, "fetched from %s (%s), digest good", e.Text, Bytes(e.Done))
	case event.CheckedOut:
		p.say(name, "fetched from %s", e.Text)
	case event.Signed:
		p.say(name, "signed by %s", e.Text)
	case event.Obtained:
		p.say(name, "fetched from %s (%s)", e.Text, Bytes(e.Done))
	case event.Remarked:
		p.remarks[name]++
		if p.remarks[name] <= fewRemarks {
			p.say(name, "%s", e.Text)
		}
	case event.PackageDone:
		if n := p.remarks[name] - fewRemarks; n > 0 {
			p.say(name, "and %s more like that; fernladder show %s has them all", Count(n, "remark"), e.Package)
		}
		p.say(name, "%s in %s", p.screen.paint(p.screen.colourErr, "built", text.FgGreen), Duration(e.Elapsed))
	case event.PackageFailed:
		p.say(name, "%s", p.screen.paint(p.screen.colourErr, "failed", text.FgRed))
	case event.PackageSkipped:
		p.say(name, "not built: it stands on %s", e.Text)
	case event.Waiting:
		if !p.told[name+e.Text] {
			p.told[name+e.Text] = true
			p.say(name, "waiting for %s", e.Text)
		}
	}
}

// follow keeps account of what is going on.
func (p *Progress) follow(e event.Event) {
	set := func(what string) {
		now := p.now()
		next := &activity{name: e.Package, what: what, since: now, began: now, log: e.Log}
		for i, a := range p.active {
			if a.name == e.Package { // it keeps its place
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
	case event.FetchProgress:
		for _, a := range p.active {
			if a.name == e.Package {
				a.moved(e.Done, e.Total)
				a.part = transferred(a.done, a.total, a.speed(p.now()))
			}
		}
	case event.StageBegan:
		set(e.Stage)
	case event.FetchEnded, event.CheckedOut, event.Obtained:
		p.forget(e.Package)
	case event.PackageDone, event.PackageFailed, event.PackageSkipped:
		p.forget(e.Package)
		p.settled[e.Package+" "+e.Version] = true
	}
}

// moved notes how far a download is. What was there before it began says nothing
// of its speed.
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

// transferred says how far downloads are, how fast, and how long they should
// still take.
func transferred(done, total int64, speed float64) string {
	if total <= 0 {
		return fmt.Sprintf("%s, %s/s", Bytes(done), Bytes(int64(speed)))
	}
	left := time.Duration(float64(total-done) / max(speed, 1) * float64(time.Second))
	return fmt.Sprintf("%d%%, %s/s, %s left", 100*done/total, Bytes(int64(speed)), Duration(left))
}

// together sums up the downloads that are under way, if there are several.
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

func (p *Progress) forget(name string) {
	p.active = slices.DeleteFunc(p.active, func(a *activity) bool { return a.name == name })
}

// say writes a line with the time since the beginning.
func (p *Progress) say(name, format string, args ...any) {
	p.erase()
	at := fmt.Sprintf("%7.1fs", p.now().Sub(p.began).Seconds())
	fmt.Fprintf(p.screen.Err, "%s  %-18s %s\n", p.screen.paint(p.screen.colourErr, at, text.FgHiBlack), name, fmt.Sprintf(format, args...))
	p.draw()
}

// redraw draws again a few times a second, until the end.
func (p *Progress) redraw() {
	defer close(p.ended)
	if !p.screen.live {
		return
	}
	tick := time.NewTicker(200 * time.Millisecond)
	defer tick.Stop()
	for {
		select {
		case <-p.stop:
			return
		case <-tick.C:
			p.lock.Lock()
			p.erase()
			p.draw()
			p.lock.Unlock()
		}
	}
}

// line writes an event as one line of JSON.
func (p *Progress) line(e event.Event) {
	out := struct {
		Time    time.Time  `json:"time"`
		Event   event.Kind `json:"event"`
		Package string     `json:"package,omitempty"`
		Version string     `json:"version,omitempty"`
		Stage   string     `json:"stage,omitempty"`
		Text    string     `json:"text,omitempty"`
		Done    int64      `json:"done,omitempty"`
		Total   int64      `json:"total,omitempty"`
		Seconds float64    `json:"seconds,omitempty"`
		Error   string     `json:"error,omitempty"`
	}{Time: p.now().UTC(), Event: e.Kind, Package: e.Package, Version: e.Version, Stage: e.Stage, Text: e.Text,
		Done: e.Done, Total: e.Total, Seconds: e.Elapsed.Seconds()}
	if e.Err != nil {
		out.Error = e.Err.Error()
	}
	data, err := json.Marshal(out)
	if err == nil {
		fmt.Fprintf(p.screen.Err, "%s\n", data)
	}
}
