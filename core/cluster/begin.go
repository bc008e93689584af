package cluster

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"fernladder/core/event"
	"fernladder/core/filelock"
	"fernladder/core/machine"
	"fernladder/core/plan"
	"fernladder/core/safefs"
	"fernladder/core/store"
)

// begin makes a run, or finds one that the same command has begun on the same builds and that no
// process watches any more. The run is locked. Of other runs without a watcher, it ends those
// that were never fully submitted, and those of the same command on other builds; the rest
// continue.
func begin(ctx context.Context, m *machine.Machine, by Scheduler, p *plan.Plan, how How) (r *Run, unlock func(),
	err error) {
	// No process sees a run that is still being made.
	begun, err := filelock.Exclusive(ctx, filepath.Join(runsDir(m), lockFile), func() {
		m.Tell(event.Event{Kind: event.Waiting, Text: "another fernladder to submit its jobs"})
	})
	if err != nil {
		return nil, nil, m.Store.Wrap(err)
	}
	defer begun()
	if how.Follow != "" {
		return take(m, how.Follow)
	}
	if err := removeEmpty(m); err != nil {
		return nil, nil, err
	}
	others, _, err := Runs(m)
	if err != nil {
		return nil, nil, err
	}
	var todo []store.Ref
	for _, j := range p.Todo() {
		todo = append(todo, j.Ref)
	}
	for _, other := range others {
		other, unlock, err := take(m, other.Name)
		if errors.Is(err, Followed) || errors.Is(err, Missing) || errors.Is(err, OfAnother) {
			continue
		}
		if err != nil {
			return nil, nil, err
		}
		builds := other.Builds()
		same := other.begunBy(how.Command, p.Ask)
		if same && !slices.ContainsFunc(todo, func(r store.Ref) bool { return !slices.Contains(builds, r) }) {
			m.Tell(event.Event{Kind: event.Batch, Text: "the same command started the run " + other.Name +
				", which is still running: following it"})
			return other, unlock, nil
		}
		if same || !other.Begun {
			err = other.end(ctx, m, by)
		} else {
			m.Tell(event.Event{Kind: event.Batch, Text: "no program follows the run " + other.Name + " (" + other.Title() + ")"})
		}
		unlock()
		if err != nil {
			return nil, nil, err
		}
	}
	dir, err := os.MkdirTemp(runsDir(m), runPrefix)
	if err != nil {
		return nil, nil, m.Store.Wrap(err)
	}
	r = &Run{Name: strings.TrimPrefix(filepath.Base(dir), runPrefix), Command: how.Command, Ask: p.Ask,
		Began: m.Now(), dir: dir}
	if unlock, err = filelock.Now(lockOf(dir)); err == nil {
		err = r.save()
	}
	return r, unlock, m.Store.Wrap(err)
}

// lockOf is the file that the watcher of a run locks.
func lockOf(dir string) string {
	return filepath.Join(filepath.Dir(dir), strings.TrimPrefix(filepath.Base(dir), runPrefix)+lockSuffix)
}

// remove deletes a run, and then its lock.
func remove(dir string) error {
	err := safefs.Remove(dir)
	if err == nil {
		err = os.Remove(lockOf(dir))
	}
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	return err
}

// removeEmpty deletes runs whose creation was interrupted.
func removeEmpty(m *machine.Machine) error {
	dirs, err := filepath.Glob(filepath.Join(runsDir(m), runPrefix+"*"))
	for _, dir := range dirs {
		_, unseen := os.Lstat(filepath.Join(dir, runFile))
		if errors.Is(unseen, os.ErrNotExist) {
			err = errors.Join(err, m.Store.Wrap(remove(dir)))
		}
	}
	locks, wrong := filepath.Glob(filepath.Join(runsDir(m), "*"+lockSuffix))
	for _, lock := range locks {
		name := strings.TrimSuffix(filepath.Base(lock), lockSuffix)
		if _, unseen := os.Lstat(filepath.Join(runsDir(m), runPrefix+name)); !errors.Is(unseen, os.ErrNotExist) {
			continue
		}
		if unlock, held := filelock.Now(lock); held == nil {
			os.Remove(lock) // or the next does
			unlock()
		}
	}
	return errors.Join(err, wrong)
}

// Same is the run that a command has begun and that no process watches any more, or "".
func Same(m *machine.Machine, command string, ask plan.Ask) (string, error) {
	runs, followed, err := Runs(m)
	for _, r := range runs {
		if r.begunBy(command, ask) && !followed[r] {
			return r.Name, nil
		}
	}
	return "", err
}
