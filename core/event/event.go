// Package event carries what happens during long work to whoever shows it: a
// terminal, lines of JSON, a test. It decides nothing about how it looks.
package event

import (
	"slices"
	"sync"
	"time"
)

// Kind says what happened.
type Kind string

// The kinds of events. For each package, StageBegan is followed by StageEnded;
// PackageDone, Taken, PackageFailed or PackageSkipped is its last.
const (
	FetchBegan     Kind = "fetch_began"     // Text is the URL
	FetchProgress  Kind = "fetch_progress"  // Done and Total count bytes
	FetchRetried   Kind = "fetch_retried"   // Text is the URL, Err why, Elapsed how long is waited
	FetchEnded     Kind = "fetch_ended"     // Text is the URL that served it, or ""
	SendBegan      Kind = "send_began"      // Text is the depot
	SendProgress   Kind = "send_progress"   // Done and Total count bytes
	Taken          Kind = "taken"           // Text is the depot, Signer who signed the build; Elapsed is set
	Sent           Kind = "sent"            // Text is the depot
	Obtained       Kind = "obtained"        // like FetchEnded, for a file without a stated digest
	MirrorFailed   Kind = "mirror_failed"   // Text is the URL, Err why
	CheckedOut     Kind = "checked_out"     // Text is the repository and the commit
	Signed         Kind = "signed"          // Text is the signer of the archive
	StageBegan     Kind = "stage_began"     //
	StageEnded     Kind = "stage_ended"     // whether it failed or not; Elapsed and CPU are set
	Retried        Kind = "retried"         // Text is what is done again, and why
	Remarked       Kind = "remarked"        // Text is a finding about a placed file
	Undeclared     Kind = "undeclared"      // Text is undeclared use of the machine
	PackageDone    Kind = "package_done"    // Elapsed is set; Stage, where it was to stop there
	PackageFailed  Kind = "package_failed"  // Err says why
	PackageSkipped Kind = "package_skipped" // Text is the package it needs
	Repeated       Kind = "repeated"        // Text is what is done again, and why
	Waiting        Kind = "waiting"         // Text is the reason
	Batch          Kind = "batch"           // Text is an event of a run of batch jobs, or of a node
)

// An Event is one thing that happened. Which fields are set depends on Kind.
type Event struct {
	Kind    Kind
	Package string // its name
	Version string
	ID      string // of the build, where the event is about one
	Stage   string
	Log     string // of a stage that began, or ""
	Text    string
	Signer  string
	Done    int64
	Total   int64 // 0: not known
	Elapsed time.Duration
	CPU     time.Duration // of a stage that ended: that processors were busy with it
	Node    string        // of the cluster, where it happened on one
	Err     error
}

// A Sink takes events. It is called from several goroutines at once and must
// not wait.
type Sink interface{ Event(Event) }

// Func is a Sink that is a function.
type Func func(Event)

// Event calls f.
func (f Func) Event(e Event) { f(e) }

// Nowhere is a Sink that forgets everything.
var Nowhere Sink = Func(func(Event) {})

// A Fan passes events on to several sinks. Its methods can be called concurrently.
type Fan struct {
	lock  sync.RWMutex
	sinks []*Sink
}

// Add adds a sink, until it is removed.
func (f *Fan) Add(s Sink) (remove func()) {
	f.lock.Lock()
	defer f.lock.Unlock()
	f.sinks = append(f.sinks, &s)
	return func() {
		f.lock.Lock()
		defer f.lock.Unlock()
		f.sinks = slices.DeleteFunc(slices.Clone(f.sinks), func(other *Sink) bool { return other == &s })
	}
}

// Event passes an event on.
func (f *Fan) Event(e Event) {
	f.lock.RLock()
	sinks := f.sinks
	f.lock.RUnlock()
	for _, s := range sinks {
		(*s).Event(e)
	}
}
