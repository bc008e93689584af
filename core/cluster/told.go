package cluster

import (
	"encoding/json"
	"errors"
	"io"
	"os"
	"strings"
	"sync"

	"fernladder/core/build"
	"fernladder/core/event"
	"fernladder/core/safefs"
	"fernladder/core/store"
)

// A line is a report of a node: one of these.
type line struct {
	Begun  string   `json:"begun,omitempty"` // the node's name; first
	Event  *told    `json:"event,omitempty"`
	Became *outcome `json:"became,omitempty"` // of one build
	Unlike *Unlike  `json:"unlike,omitempty"` // the node is not used
	Over   bool     `json:"over,omitempty"`   // there is nothing more
}

// told is an event in a file.
type told struct {
	event.Event
	Err string `json:",omitempty"`
}

// outcome is the outcome of a build.
type outcome struct {
	Build   store.Ref      `json:"build"`
	Built   bool           `json:"built"`
	Record  *store.Record  `json:"record,omitempty"`
	Failure *build.Failure `json:"failure,omitempty"`
	Error   string         `json:"error,omitempty"`
	Root    *rootError     `json:"root,omitempty"` // instead, where the root is at fault
}

// rootError is a store.Error in a file.
type rootError struct{ Path, What, Advice string }

// failed says why there is no tree.
func (o *outcome) failed(err error) {
	var root *store.Error
	switch {
	case errors.As(err, &o.Failure):
	case errors.As(err, &root):
		o.Root = &rootError{root.Path, root.Err.Error(), root.Advice}
	default:
		o.Error = err.Error()
	}
}

// err is the error that failed reports.
func (o *outcome) err() error {
	switch {
	case o.Failure != nil:
		return o.Failure
	case o.Root != nil:
		return &store.Error{Path: o.Root.Path, Err: errors.New(o.Root.What), Advice: o.Root.Advice}
	}
	return errors.New(o.Error)
}

// A teller writes lines. A watcher on another machine sees them at once: each is synced to the
// disk, and the file existed before.
type teller struct {
	lock sync.Mutex
	file *os.File
}

func (t *teller) tell(l line) error {
	text, err := json.Marshal(l)
	if err != nil {
		return err
	}
	t.lock.Lock()
	defer t.lock.Unlock()
	if _, err := t.file.Write(append(text, '\n')); err != nil {
		return err
	}
	return t.file.Sync()
}

// Event reports an event. On a full disk, the watcher sees less.
func (t *teller) Event(e event.Event) {
	one := told{Event: e}
	if e.Err != nil {
		one.Event.Err, one.Err = nil, e.Err.Error()
	}
	t.tell(line{Event: &one})
}

// A tail follows a file of reports.
type tail struct {
	file string
	at   int64
}

// more returns the lines written since the last call. It leaves an incomplete line for the next
// time, and drops an invalid one.
func (t *tail) more(give func(line)) {
	f, err := safefs.Open(t.file)
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
	for text := range strings.Lines(string(text)) {
		if !strings.HasSuffix(text, "\n") {
			return
		}
		t.at += int64(len(text))
		var l line
		if json.Unmarshal([]byte(text), &l) != nil {
			continue
		}
		if l.Event != nil && l.Event.Err != "" {
			l.Event.Event.Err = errors.New(l.Event.Err)
		}
		give(l)
	}
}

// lastLines are the last lines of a job's output, if nothing else says why it ended.
func lastLines(file string) []string {
	const few, most = 5, 1 << 20
	data, err := safefs.ReadFile(file, most)
	if err != nil {
		return nil
	}
	var lines []string
	for text := range strings.Lines(string(data)) {
		if text = strings.TrimRight(text, "\r\n"); strings.TrimSpace(text) != "" {
			lines = append(lines, text)
		}
	}
	return lines[max(0, len(lines)-few):]
}
