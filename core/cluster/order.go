// Package cluster builds a ladder on the nodes of a cluster: each package is a job of the
// site's batch scheduler, submitted before anything runs, in the order of the ladder. Nodes
// share the root; they need no way out, for everything was fetched before.
//
// It promises that a node builds exactly the build that was planned, or nothing: where
// anything that counts is other there, its id is. No node opens the database: what became
// of a build is in a file, and is taken in by the machine that watches. Jobs whose needs
// have failed do not wait, and those of a watcher that was killed are ended by the next.
package cluster

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"fernladder/core/build"
	"fernladder/core/durable"
	"fernladder/core/event"
	"fernladder/core/ground"
	"fernladder/core/machine"
	"fernladder/core/plan"
	"fernladder/core/schedule"
	"fernladder/core/store"
)

// An order is what a node is told: to plan the same, and to build one of it.
type order struct {
	Ask   plan.Ask  `json:"ask"`
	Build store.Ref `json:"build"`
}

// outcome is what a node says became of it.
type outcome struct {
	Built   bool           `json:"built"`
	Record  *store.Record  `json:"record,omitempty"`
	Failure *build.Failure `json:"failure,omitempty"`
	Error   string         `json:"error,omitempty"`
}

// Files beside an order's, whose names are longer.
const (
	orderSuffix   = ".order"
	outcomeSuffix = ".outcome"
	eventsSuffix  = ".events"
	printedSuffix = ".printed"
)

const largestFile = 64 << 20

// told is an event in a file.
type told struct {
	event.Event
	Err string `json:",omitempty"`
}

// EventsOf writes what happens on a node into the file of its order, for who watches.
func EventsOf(file string) (event.Sink, error) {
	out, err := os.OpenFile(strings.TrimSuffix(file, orderSuffix)+eventsSuffix, os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o644)
	if err != nil {
		return nil, err
	}
	var lock sync.Mutex
	return event.Func(func(e event.Event) {
		t := told{Event: e}
		if e.Err != nil {
			t.Event.Err, t.Err = nil, e.Err.Error()
		}
		line, err := json.Marshal(t)
		if err != nil {
			return
		}
		lock.Lock()
		defer lock.Unlock()
		out.Write(append(line, '\n')) // who watches sees less where the disk is full
	}), nil
}

// AnotherPlan is the error of a node on which the build that was planned is none.
type AnotherPlan struct {
	Build store.Ref
	Is    string // what it would be here, or ""
}

func (e *AnotherPlan) Error() string {
	if e.Is == "" {
		return fmt.Sprintf("%s %s is not on the ladder, as it is planned on this node", e.Build.Name, e.Build.Version)
	}
	return fmt.Sprintf("%s %s would be build %s on this node, and is wanted as %s: its compiler, architecture, settings or recipes are others than where it was planned", e.Build.Name, e.Build.Version, e.Is, e.Build.ID)
}

// Execute does what the order in a file says, on a node, and writes what became of it. Its
// error is that of the build, or of the node.
func Execute(ctx context.Context, m *machine.Machine, file string) error {
	data, err := ground.ReadFile(file, largestFile)
	if err != nil {
		return err
	}
	var o order
	if err := json.Unmarshal(data, &o); err != nil {
		return err
	}
	var done outcome
	err = o.execute(ctx, m, &done)
	if ctx.Err() != nil {
		return ctx.Err() // nothing became of it: it can be run again
	}
	done.Built = err == nil
	if err != nil && !errors.As(err, &done.Failure) {
		done.Error = err.Error()
	}
	text, failed := json.Marshal(done)
	if failed == nil {
		failed = durable.WriteFile(strings.TrimSuffix(file, orderSuffix)+outcomeSuffix, text, 0o644)
	}
	return errors.Join(err, failed)
}

func (o order) execute(ctx context.Context, m *machine.Machine, done *outcome) error {
	p, err := plan.For(ctx, m, o.Ask)
	if err != nil {
		return err
	}
	other := &AnotherPlan{Build: o.Build}
	for _, job := range p.Jobs {
		if job.Ref != o.Build {
			if job.Name == o.Build.Name && job.Version == o.Build.Version {
				other.Is = job.ID
			}
			continue
		}
		if err := build.CheckHost(ctx, m, []*build.Job{job}); err != nil {
			return err
		}
		b, err := build.NewBuilder(ctx, m)
		if err != nil {
			return err
		}
		results := b.Run(ctx, []*build.Job{job}, nil, func(r store.Record) { done.Record = &r })
		if results[0].Err == nil && results[0].Outcome != schedule.Succeeded {
			return errors.New("it was not run")
		}
		return results[0].Err
	}
	return other
}

// tail follows the events of an order.
type tail struct {
	file string
	at   int64
}

// more tells of what has happened since it was last asked. A line that is half there is
// left for the next time.
func (t *tail) more(tell func(event.Event)) {
	f, err := ground.Open(t.file)
	if err != nil {
		return
	}
	defer f.Close()
	if _, err := f.Seek(t.at, io.SeekStart); err != nil {
		return
	}
	text, err := io.ReadAll(io.LimitReader(f, largestFile))
	if err != nil {
		return
	}
	for line := range strings.Lines(string(text)) {
		if !strings.HasSuffix(line, "\n") {
			return
		}
		t.at += int64(len(line))
		var one told
		if json.Unmarshal([]byte(line), &one) != nil {
			continue
		}
		if one.Err != "" {
			one.Event.Err = errors.New(one.Err)
		}
		tell(one.Event)
	}
}

// ended reads what became of an order; nil where nobody knows yet.
func ended(file string) *outcome {
	data, err := ground.ReadFile(file, largestFile)
	if err != nil {
		return nil
	}
	var o outcome
	if json.Unmarshal(data, &o) != nil {
		return nil
	}
	return &o
}

// lastLines are the last of what a job has printed, for where nothing else says why it
// has ended.
func lastLines(file string) []string {
	const few, most = 5, 1 << 20
	data, err := ground.ReadFile(file, most)
	if err != nil {
		return nil
	}
	lines := strings.Split(strings.TrimSpace(string(data)), "\n")
	lines = slices.DeleteFunc(lines, func(line string) bool { return strings.TrimSpace(line) == "" })
	return lines[max(0, len(lines)-few):]
}

// nameOf is what a job and its files are called.
func nameOf(r store.Ref) string { return r.Name + "-" + r.ID }

// file is a file of an order.
func file(dir string, r store.Ref, suffix string) string {
	return filepath.Join(dir, nameOf(r)+suffix)
}

// patience is how long a file that is written may be seen late on a shared file system.
const patience = 10 * time.Second
