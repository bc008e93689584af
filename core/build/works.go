package build

import (
	"encoding/json"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"fernladder/core/filelock"
	"fernladder/core/safefs"
	"fernladder/core/store"
)

// Work is the work directory of a failed or interrupted build.
type Work struct {
	store.Ref
	Dir     string    `json:"dir"`
	Size    int64     `json:"size"`
	Stages  []string  `json:"done"` // stages that are done
	Touched time.Time `json:"touched"`
}

// Works lists the work directories in a root, the oldest first. A directory without a journal,
// left by a killed program, has no finished stage.
func Works(s *store.Store) ([]Work, error) {
	entries, err := os.ReadDir(filepath.Join(s.Root, "work"))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, s.Wrap(err)
	}
	var works []Work
	for _, e := range entries {
		w := Work{Dir: filepath.Join(s.Root, "work", e.Name())}
		info, err := e.Info()
		if err != nil || !store.IsWork(e.Name()) || !info.IsDir() {
			continue
		}
		w.Touched = info.ModTime()
		file := filepath.Join(w.Dir, journalFile)
		data, err := safefs.ReadFile(file, largestJournal)
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil, s.Wrap(err)
		}
		var p journal
		if err == nil && json.Unmarshal(data, &p) == nil {
			w.Ref, w.Stages = p.Build, p.Done
		}
		if info, err := os.Stat(file); err == nil {
			w.Touched = info.ModTime()
		} else if _, err := os.Lstat(w.Dir); err != nil {
			continue // it is done in the meantime
		}
		if w.Name == "" { // nothing is known of it, so it is useless
			w.Name = e.Name()
		}
		w.Size = safefs.Size(w.Dir)
		works = append(works, w)
	}
	slices.SortFunc(works, func(a, b Work) int { return a.Touched.Compare(b.Touched) })
	return works, nil
}

// Delete deletes a work directory. It returns false if another process works in it.
func (w Work) Delete(s *store.Store) (bool, error) {
	unlock, err := s.LockWorkNow(filepath.Base(w.Dir))
	if errors.Is(err, filelock.ErrHeld) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	defer unlock()
	return true, s.Wrap(safefs.Remove(w.Dir))
}

// Done says in words how far a build got.
func (w Work) Done() string {
	if len(w.Stages) == 0 {
		return "nothing done"
	}
	return strings.Join(w.Stages, ", ") + " done"
}
