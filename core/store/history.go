package store

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"time"

	"golang.org/x/sys/unix"

	"fernladder/core/durable"
	"fernladder/core/filelock"
	"fernladder/core/safefs"
	"fernladder/core/timeline"
)

// History is the file of earlier builds: a Record in JSON on each line, the latest at the end. Lines
// of whole runs are among them, each after the builds of the run.
// Everything about successful builds is in their receipts too, and Complete adds what is missing
// of that, so a lost file comes back.
//
// A writer holds a lock that readers cannot open; readers take none. Half a line, left by a
// killed program, is skipped. When the file is larger than largestHistory, its older half is
// deleted.
type History struct{ s *Store }

// History is the history of the root. It opens nothing.
func (s *Store) History() History { return History{s} }

// A Record is one build, whether it succeeded or not.
type Record struct {
	Ref
	Began   time.Time   `json:"began"`
	Seconds float64     `json:"seconds"`
	Failed  string      `json:"failed,omitempty"` // the stage that failed, "" for none
	Stages  []StageTime `json:"stages"`

	Size     int64 `json:"size,omitempty"`      // bytes in the files of its tree
	WorkSize int64 `json:"work_size,omitempty"` // bytes that its work directory had in the end
	Memory   int64 `json:"memory,omitempty"`    // bytes that the largest of its processes had
}

// RecordOf is the record of a build that succeeded.
func RecordOf(r *Receipt) Record {
	return Record{Ref: r.Ref, Began: r.Began, Seconds: r.Seconds, Stages: r.Stages, Size: r.Size, WorkSize: r.WorkSize,
		Memory: r.Memory}
}

// CPU is the processor time of the build, in seconds.
func (r Record) CPU() (seconds float64) {
	for _, s := range r.Stages {
		seconds += s.CPU
	}
	return seconds
}

const largestHistory = 64 << 20 // bytes

// File is the path of the file.
func (h History) File() string { return filepath.Join(h.s.Root, "history") }

// each visits the lines of the file, the oldest first. A missing file has none.
func (h History) each(visit func(line []byte)) error {
	f, err := safefs.Open(h.File())
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if errors.Is(err, safefs.ErrNotRegular) {
		return &Error{Path: h.File(), Err: safefs.ErrNotRegular,
			Advice: "Delete it; the next build makes it again, from the receipts."}
	}
	if err != nil {
		return h.s.Wrap(err)
	}
	defer f.Close()
	lines := bufio.NewScanner(io.LimitReader(f, 2*largestHistory))
	lines.Buffer(make([]byte, 64<<10), 1<<20)
	for lines.Scan() {
		visit(lines.Bytes())
	}
	if errors.Is(lines.Err(), bufio.ErrTooLong) { // no record is so long; readers lose what follows
		return nil
	}
	return h.s.Wrap(lines.Err())
}

// records visits the records on lines that contain a text: those of a package, or of a build.
func (h History) records(holding string, visit func(Record)) error {
	return h.each(func(line []byte) {
		var r Record
		if bytes.Contains(line, []byte(holding)) && json.Unmarshal(line, &r) == nil {
			visit(r)
		}
	})
}

// field is a key of a record as its line has it. Names and ids need no escapes.
func field(key, value string) string { return `"` + key + `":"` + value + `"` }

// The beginnings of values on a line.
const (
	idOf   = `"id":"`
	nameOf = `"name":"`
)

// after is the text of a line from a beginning to the next quote; the line is not parsed.
func after(line []byte, begin string) []byte {
	_, rest, _ := bytes.Cut(line, []byte(begin))
	value, _, _ := bytes.Cut(rest, []byte{'"'})
	return value
}

// Add adds a build. Adding the same one again changes nothing.
func (h History) Add(ctx context.Context, r Record) error {
	return h.append(ctx, func() ([]Record, error) {
		known := false
		err := h.records(field("id", r.ID), func(other Record) {
			known = known || other.ID == r.ID && other.Began.Equal(r.Began)
		})
		if known {
			return nil, err
		}
		return []Record{r}, err
	})
}

// Complete adds successful builds without a record, because a program was killed in between or
// the file was lost.
func (h History) Complete(ctx context.Context) error {
	receipts, err := h.s.Receipts()
	if err != nil {
		return nil // reported by users of a receipt
	}
	return h.append(ctx, func() (records []Record, err error) {
		known := map[string]bool{}
		err = h.each(func(line []byte) {
			if id := after(line, idOf); len(id) > 0 && !bytes.Contains(line, []byte(`"failed":"`)) {
				known[string(id)] = true
			}
		})
		for _, r := range receipts {
			if !known[r.ID] && r.From == nil { // others' times say nothing about this machine
				records = append(records, RecordOf(r))
			}
		}
		return records, err
	})
}

// Of returns the newest builds of packages, at most so many of each, the oldest first.
func (h History) Of(names map[string]bool, most int) (map[string][]Record, error) {
	of := map[string][]Record{}
	err := h.each(func(line []byte) {
		var r Record
		if !names[string(after(line, nameOf))] || json.Unmarshal(line, &r) != nil || !names[r.Name] {
			return
		}
		if of[r.Name] = append(of[r.Name], r); len(of[r.Name]) >= 2*most {
			of[r.Name] = slices.Clone(of[r.Name][most:])
		}
	})
	for name, records := range of {
		of[name] = records[max(0, len(records)-most):]
	}
	return of, err
}

// AddRun adds the run of a ladder's builds. Its line has no "id", so readers do not take it for a build.
func (h History) AddRun(ctx context.Context, r *timeline.Run) error {
	return lines(ctx, h, func() ([]*timeline.Run, error) { return []*timeline.Run{r}, nil })
}

// Runs returns the newest runs, the latest first. Those of a package, if name is not "", are runs
// that have built it.
func (h History) Runs(name string, most int) (runs []*timeline.Run, err error) {
	err = h.each(func(line []byte) {
		r := &timeline.Run{}
		with := name == "" || bytes.Contains(line, []byte(field("package", name)))
		if !with || !bytes.HasPrefix(line, []byte(`{"run":"`)) || json.Unmarshal(line, r) != nil || !r.Valid() {
			return
		}
		if runs = append(runs, r); len(runs) >= 2*most {
			runs = slices.Clone(runs[len(runs)-most:])
		}
	})
	slices.Reverse(runs)
	return runs[:min(most, len(runs))], err
}

func (h History) append(ctx context.Context, find func() ([]Record, error)) error {
	return lines(ctx, h, find)
}

// lines adds the records that are found under the lock, each on a line.
func lines[T any](ctx context.Context, h History, find func() ([]T, error)) error {
	unlock, err := h.s.locked(filelock.Exclusive(ctx, h.s.lockFile("history"), func() {}))
	if err != nil {
		return err
	}
	defer unlock()
	records, err := find()
	if err != nil || len(records) == 0 {
		return err
	}
	var text bytes.Buffer
	for _, r := range records {
		line, err := json.Marshal(r)
		if err != nil {
			return err
		}
		text.Write(append(line, '\n'))
	}
	mode := fs.FileMode(0o644)
	if h.s.common() {
		mode = 0o664
	}
	f, err := os.OpenFile(h.File(), os.O_RDWR|os.O_CREATE|os.O_APPEND|unix.O_NOFOLLOW|unix.O_NONBLOCK, mode)
	if err != nil {
		return h.s.Wrap(err)
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil || !info.Mode().IsRegular() {
		return h.s.Wrap(err)
	}
	if info.Size() == 0 && h.s.common() {
		f.Chmod(mode) // a failure reports the other possible writers
	}
	last := []byte{'\n'}
	if info.Size() > 0 {
		if _, err := f.ReadAt(last, info.Size()-1); err != nil {
			return h.s.Wrap(err)
		}
	}
	if last[0] != '\n' { // a program was killed while it wrote
		text = *bytes.NewBuffer(append([]byte{'\n'}, text.Bytes()...))
	}
	if info.Size() > largestHistory {
		newer, err := io.ReadAll(io.NewSectionReader(f, info.Size()/2, info.Size()))
		if err != nil {
			return h.s.Wrap(err)
		}
		_, newer, _ = bytes.Cut(newer, []byte{'\n'})
		return h.s.Wrap(durable.Note(h.File(), append(newer, text.Bytes()...), mode))
	}
	if _, err := f.Write(text.Bytes()); err != nil {
		return h.s.Wrap(errors.Join(err, f.Truncate(info.Size()))) // so that a full disk leaves no half line
	}
	return nil
}

// Latest returns the newest builds of a package, or of all packages if name is "", the latest
// first.
func (h History) Latest(name string, most int) (latest []Record, err error) {
	holding := ""
	if name != "" {
		holding = field("name", name)
	}
	err = h.records(holding, func(r Record) {
		if name != "" && r.Name != name || r.Name == "" {
			return
		}
		if latest = append(latest, r); len(latest) >= 2*most {
			latest = slices.Clone(latest[len(latest)-most:])
		}
	})
	slices.Reverse(latest)
	return latest[:min(most, len(latest))], err
}

// Estimate is what a build should take, judged by the last one of the same package.
type Estimate struct {
	Time     time.Duration
	Width    float64 // processors that were kept busy; 0 when it is not known
	Size     int64   // bytes in the files of its tree
	WorkSize int64   // bytes that its work directory has in the end
	Memory   int64   // bytes that the largest of its processes has
}

// Estimates returns the cost of earlier builds: of the same build, else of the same release,
// else of the same package. Failed builds do not count. Packages that never succeeded are left
// out.
func (h History) Estimates(builds []Ref) (map[Ref]Estimate, error) {
	wanted := map[string][]Ref{}
	for _, b := range builds {
		wanted[b.Name] = append(wanted[b.Name], b)
	}
	closeness := func(r Record, b Ref) int {
		switch {
		case r.ID == b.ID:
			return 3
		case r.Version == b.Version:
			return 2
		}
		return 1
	}
	best, estimates := map[Ref]int{}, map[Ref]Estimate{}
	err := h.each(func(line []byte) {
		var r Record
		if wanted[string(after(line, nameOf))] == nil || json.Unmarshal(line, &r) != nil || r.Failed != "" {
			return
		}
		for _, b := range wanted[r.Name] {
			if close := closeness(r, b); close >= best[b] {
				e := Estimate{Time: time.Duration(r.Seconds * float64(time.Second)), Size: r.Size, WorkSize: r.WorkSize,
					Memory: r.Memory}
				if r.Seconds > 0 {
					e.Width = r.CPU() / r.Seconds
				}
				best[b], estimates[b] = close, e
			}
		}
	})
	return estimates, err
}
