package cluster

import (
	"slices"
	"time"

	"fernladder/core/build"
	"fernladder/core/event"
	"fernladder/core/schedule"
	"fernladder/core/store"
)

// open is how many jobs are on their way.
func (w *watcher) open() (n int) {
	for _, j := range w.Jobs {
		if !j.Over && len(w.unresolved(j)) > 0 {
			n++
		}
	}
	return n
}

// takeIn takes in what nodes have told.
func (w *watcher) takeIn() {
	for _, j := range w.Jobs {
		if !w.tells(j) {
			continue
		}
		j.tail.more(func(l line) {
			if l.Event != nil && j.Replaced || l.Became != nil && !l.Became.Built && w.latest(l.Became.Build) != j {
				return // a node that was lost has come back
			}
			switch {
			case l.Begun != "" && j.begun.IsZero():
				j.begun, j.node = w.m.Now(), l.Begun
			case l.Event != nil:
				e := l.Event.Event
				e.Node = j.node
				if e.Kind == event.PackageDone {
					ref := store.Ref{Name: e.Package, Version: e.Version, ID: e.ID}
					if w.told[ref] {
						return
					}
					w.told[ref] = true
				}
				w.m.Tell(e)
			case l.Became != nil && slices.Contains(j.Builds, l.Became.Build):
				w.became(l.Became)
			case l.Unlike != nil:
				j.unlike = l.Unlike
			case l.Over:
				j.finished = w.m.Now()
			}
		})
	}
	w.lookForLate()
	for _, j := range w.builds {
		if because := w.failedBelow(j); because != nil && w.result[j] == nil {
			w.result[j] = &build.Result{Job: j, Outcome: schedule.Skipped, Because: because}
			w.m.Tell(event.Event{Kind: event.PackageSkipped, Package: j.Name, Version: j.Version, ID: j.ID, Text: because.Name})
		}
	}
}

// tells reports whether there may be something new of a job: before what it stands on is over
// it tells nothing, and after it has finished nothing more. With a thousand jobs that is a
// thousand files that are not opened several times a second.
func (w *watcher) tells(j *Job) bool {
	return j.tail != nil && j.finished.IsZero() && !slices.ContainsFunc(w.before(j), func(b *Job) bool {
		return !b.Over && b.finished.IsZero()
	})
}

// became records the outcome of a build. A finished build has a tree, which may become visible
// late.
func (w *watcher) became(o *outcome) {
	j := w.of[o.Build]
	if _, late := w.late[o.Build]; late || w.result[j] != nil {
		return // it was built twice
	}
	if o.Record != nil {
		w.record(*o.Record)
		w.took[o.Build] = time.Duration(o.Record.Seconds * float64(time.Second))
	}
	switch {
	case o.Built:
		w.late[j.Ref] = w.m.Now()
	case o.Failure != nil: // reported by an event
		w.result[j] = &build.Result{Job: j, Outcome: schedule.Failed, Err: o.Failure}
	default:
		w.fail(j, o.err())
	}
}

// lookForLate treats builds as finished whose trees have become visible.
func (w *watcher) lookForLate() {
	for ref, since := range w.late {
		switch j := w.of[ref]; {
		case visible(w.m.Store, ref):
			w.result[j] = &build.Result{Job: j, Outcome: schedule.Succeeded}
		case w.m.Now().Sub(since) > patience:
			w.fail(j, late(ref))
		default:
			continue
		}
		delete(w.late, ref)
	}
}

func (w *watcher) fail(j *build.Job, err error) {
	w.result[j] = &build.Result{Job: j, Outcome: schedule.Failed, Err: err}
	w.m.Tell(event.Event{Kind: event.PackageFailed, Package: j.Name, Version: j.Version, ID: j.ID, Err: err})
}

// failedBelow is a failed build that this one depends on, if any.
func (w *watcher) failedBelow(j *build.Job) *build.Job {
	for _, need := range j.Needs {
		switch done := w.result[need]; {
		case done == nil:
		case done.Outcome == schedule.Failed:
			return need
		case done.Outcome == schedule.Skipped:
			return done.Because
		}
	}
	return nil
}

// latest is the last job that was submitted for a build.
func (w *watcher) latest(ref store.Ref) *Job {
	for _, j := range slices.Backward(w.Jobs) {
		if slices.Contains(j.Builds, ref) {
			return j
		}
	}
	return nil
}

// unresolved are the builds of a job whose outcome is not known yet.
func (w *watcher) unresolved(j *Job) (refs []store.Ref) {
	for _, ref := range j.Builds {
		if _, late := w.late[ref]; w.result[w.of[ref]] == nil && !late {
			refs = append(refs, ref)
		}
	}
	return refs
}

// failedBefore reports whether a job that has to succeed before another has failed: by the
// outcomes of its builds or, failing that, by its status.
func (w *watcher) failedBefore(j *Job, of map[*Job]Status) bool {
	return slices.ContainsFunc(w.before(j), func(b *Job) bool {
		if s, known := of[b]; known && s.State.ended() && s.State != Finished {
			return true
		}
		return slices.ContainsFunc(b.Builds, func(ref store.Ref) bool {
			done := w.result[w.of[ref]]
			return done != nil && done.Outcome != schedule.Succeeded
		})
	})
}
