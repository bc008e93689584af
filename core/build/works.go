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
	"fernladder/core/ground"
	"fernladder/core/store"
)

// Work is the directory of a build that has failed or was broken off.
type Work struct {
	store.Ref
	Dir     string    `json:"dir"`
	Size    int64     `json:"size"`
	Stages  []string  `json:"done"` // stages that are done
	Touched time.Time `json:"touched"`
}

// Works lists the work directories in a root, the oldest first.
func Works(s *store.Store) ([]Work, error) {
	files, err := filepath.Glob(filepath.Join(s.Root, "work", "*", journalFile))
	if err != nil {
		return nil, err
	}
	var works []Work
	for _, file := range files {
		var p journal
		data, err := ground.ReadFile(file, largestJournal)
		if errors.Is(err, fs.ErrNotExist) {
			continue // it is done in the meantime
		}
		if err != nil {
			return nil, s.Wrap(err)
		}
		w := Work{Dir: filepath.Dir(file), Size: ground.Size(filepath.Dir(file))}
		if err := json.Unmarshal(data, &p); err == nil {
			w.Ref, w.Stages = p.Build, p.Done
		}
		if w.Name == "" { // it cannot be read, and so is no use
			w.Name = filepath.Base(w.Dir)
		}
		if info, err := os.Stat(file); err == nil {
			w.Touched = info.ModTime()
		}
		works = append(works, w)
	}
	slices.SortFunc(works, func(a, b Work) int { return a.Touched.Compare(b.Touched) })
	return works, nil
}

// Delete deletes a work directory. It returns false when somebody works in it.
func (w Work) Delete(s *store.Store) (bool, error) {
	unlock, err := s.LockBuildNow(w.Ref)
	if errors.Is(err, filelock.ErrHeld) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	defer unlock()
	return true, s.Wrap(ground.Remove(w.Dir))
}

// done says how far a build came, in words.
func (w Work) Done() string {
	if len(w.Stages) == 0 {
		return "nothing done"
	}
	return strings.Join(w.Stages, ", ") + " done"
}
