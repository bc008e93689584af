package cluster

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"fernladder/core/batch"
	"fernladder/core/build"
	"fernladder/core/durable"
	"fernladder/core/event"
	"fernladder/core/filelock"
	"fernladder/core/ground"
	"fernladder/core/machine"
	"fernladder/core/plan"
	"fernladder/core/schedule"
	"fernladder/core/settings"
	"fernladder/core/store"
)

// Unset is the error where the settings say nothing of a cluster.
type Unset struct{}

func (e *Unset) Error() string { return "the settings say nothing of a cluster" }

// Ended is the error for a job of which nothing became: the scheduler, or somebody, has
// ended it, or its node is gone.
type Ended struct {
	Build   store.Ref
	Job     string
	Status  batch.Status
	Printed []string // its last lines

	Memory, Minutes int // that it had, MiB
}

// Short tells whether it has ended for the memory or the time that it may take.
func (e *Ended) Short() (memory, time bool) {
	for _, line := range e.Printed { // without cgroups, the scheduler only says it there
		memory = memory || strings.Contains(line, "exceeded memory limit") || strings.Contains(line, "job memory limit")
	}
	return memory || e.Status.State == batch.OutOfMemory, e.Status.State == batch.TimedOut
}

func (e *Ended) Error() string {
	text := fmt.Sprintf("%s %s: the batch job %s has ended (%s", e.Build.Name, e.Build.Version, e.Job, e.Status.State)
	if e.Status.Node != "" {
		text += ", on " + e.Status.Node
	}
	text += "), and nothing says what became of the build"
	for _, line := range e.Printed {
		text += "\n    │ " + line
	}
	return text
}

// scheduler is the one that the settings say.
func scheduler(m *machine.Machine) (batch.Scheduler, error) {
	c := m.Settings.Cluster
	if c.Scheduler == "" {
		return nil, &Unset{}
	}
	return batch.Slurm{Partition: c.Partition, Account: c.Account, QoS: c.QoS, Constraint: c.Constraint}, nil
}

// A run is a ladder on its way through the scheduler.
type run struct {
	m         *machine.Machine
	by        batch.Scheduler
	asked     plan.Ask
	estimates map[store.Ref]store.Estimate
	dir       string
	jobs      []*build.Job
	ids       map[*build.Job]string
	written   *os.File // of the ids
	tails     map[*build.Job]*tail
	result    map[*build.Job]*build.Result
	silent    map[*build.Job]time.Time // since when the scheduler says that it has ended, without an outcome
	more      map[*build.Job]int       // memory and time, times that, for those that are tried once more
}

// Run has jobs built on the nodes, in the order of their ladder; what they need and is not
// among them is installed. Their sources are here. There is a result for each. When ctx is
// done, all that was submitted is ended. What a job may take comes from estimates where they
// know more than the settings; one that runs out of memory or time is tried once more, with
// twice as much.
func Run(ctx context.Context, m *machine.Machine, ask plan.Ask, jobs []*build.Job, estimates map[store.Ref]store.Estimate, record func(store.Record)) ([]build.Result, error) {
	by, err := scheduler(m)
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(runsOf(m), 0o755); err != nil {
		return nil, m.Store.Wrap(err)
	}
	// Nobody sweeps away what another is only about to lock.
	begun, err := filelock.Exclusive(ctx, filepath.Join(runsOf(m), lockFile), func() {})
	if err != nil {
		return nil, m.Store.Wrap(err)
	}
	defer func() { begun() }()
	if err := sweep(m, by); err != nil {
		return nil, err
	}
	r := &run{m: m, by: by, asked: ask, estimates: estimates, jobs: jobs, ids: map[*build.Job]string{}, tails: map[*build.Job]*tail{}, result: map[*build.Job]*build.Result{}, silent: map[*build.Job]time.Time{}, more: map[*build.Job]int{}}
	if r.dir, err = os.MkdirTemp(runsOf(m), "run-"); err != nil {
		return nil, m.Store.Wrap(err)
	}
	unlock, err := filelock.Now(filepath.Join(r.dir, lockFile))
	if err != nil {
		return nil, m.Store.Wrap(err)
	}
	defer unlock()
	begun()
	begun = func() {}
	if r.written, err = os.OpenFile(filepath.Join(r.dir, idsFile), os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o644); err != nil {
		return nil, m.Store.Wrap(err)
	}
	defer r.written.Close()
	err = r.submit(ctx, jobs)
	if err == nil {
		err = r.watch(ctx, record)
	}
	ended := end(by, r.left())
	results := make([]build.Result, len(jobs))
	for i, j := range jobs {
		results[i].Job = j
		if done := r.result[j]; done != nil {
			results[i] = *done
		}
	}
	if ctx.Err() != nil {
		err = nil // results that say nothing were not run
	}
	if ended != nil {
		return results, err // the next run does it
	}
	return results, errors.Join(err, m.Store.Wrap(ground.Remove(r.dir)))
}

// runsOf is where runs keep their files: in the root, which nodes share.
func runsOf(m *machine.Machine) string { return filepath.Join(m.Store.Root, "work", "cluster") }

const (
	lockFile = "lock"
	idsFile  = "ids" // of the jobs that were submitted, one in a line
)

// sweep ends the jobs of runs whose watcher was killed, and takes their files away.
func sweep(m *machine.Machine, by batch.Scheduler) error {
	runs, err := filepath.Glob(filepath.Join(runsOf(m), "run-*"))
	if err != nil {
		return err
	}
	for _, dir := range runs {
		unlock, err := filelock.Now(filepath.Join(dir, lockFile))
		if errors.Is(err, filelock.ErrHeld) {
			continue
		}
		if err != nil {
			return m.Store.Wrap(err)
		}
		ids, _ := ground.ReadFile(filepath.Join(dir, idsFile), largestFile)
		err = end(by, strings.Fields(string(ids)))
		if err == nil {
			err = m.Store.Wrap(ground.Remove(dir))
		}
		unlock()
		if err != nil {
			return err
		}
	}
	return nil
}

// submit hands jobs over, held, and lets them run when the last is there: the scheduler
// takes one that has ended and is forgotten for one that has succeeded.
func (r *run) submit(ctx context.Context, jobs []*build.Job) error {
	var first []string
	for _, j := range jobs {
		text, err := json.Marshal(order{Ask: r.asked, Build: j.Ref})
		if err != nil {
			return err
		}
		if err := durable.WriteFile(file(r.dir, j.Ref, orderSuffix), text, 0o644); err != nil {
			return r.m.Store.Wrap(err)
		}
		b, err := r.job(j)
		if err != nil {
			return err
		}
		for _, need := range j.Needs {
			if id := r.ids[need]; id != "" && r.result[need] == nil {
				b.After = append(b.After, id)
			}
		}
		b.Held = len(b.After) == 0
		id, err := r.by.Submit(ctx, b)
		if err != nil {
			return err
		}
		r.ids[j] = id
		if b.Held {
			first = append(first, id)
		}
		if _, err := fmt.Fprintln(r.written, id); err != nil {
			return r.m.Store.Wrap(err)
		}
		if r.tails[j] == nil {
			r.tails[j] = &tail{file: file(r.dir, j.Ref, eventsSuffix)}
		}
	}
	return r.by.Release(ctx, first)
}

// job is a build as the scheduler is told of it.
func (r *run) job(j *build.Job) (batch.Job, error) {
	program, err := os.Executable()
	if err != nil {
		return batch.Job{}, err
	}
	c := r.m.Settings.Cluster
	command := []string{program, "--root", r.m.Store.Root}
	if r.m.Settings.File != "" {
		command = append(command, "--settings", r.m.Settings.File)
	}
	command = append(command, "at-node", "-j", fmt.Sprint(c.Processors), file(r.dir, j.Ref, orderSuffix))
	memory, minutes := wants(r.estimates[j.Ref], c)
	times := max(1, r.more[j])
	return batch.Job{Name: "fl-" + nameOf(j.Ref), Command: command, Dir: r.m.Place.Working, Output: file(r.dir, j.Ref, printedSuffix), Processors: c.Processors, Memory: memory * times, Minutes: minutes * times}, nil
}

// wants is what a job may take: what the settings say, or more where it has taken more.
// History knows its largest process, of which there are as many as processors at the worst.
func wants(e store.Estimate, c settings.Cluster) (memory, minutes int) {
	const margin, mib = 2, 1 << 20
	memory = max(c.Memory, int(e.Memory*int64(c.Processors)*margin/mib))
	return memory, max(c.Minutes, int((e.Time*margin).Minutes())+1)
}

// again submits a job once more that was short of something, with those that stand on it,
// which have ended with it.
func (r *run) again(ctx context.Context, j *build.Job, short string) error {
	r.more[j] = 2
	stand := map[*build.Job]bool{j: true}
	var jobs []*build.Job
	var old []string
	for _, k := range r.jobs {
		for _, need := range k.Needs {
			stand[k] = stand[k] || stand[need]
		}
		if stand[k] && r.result[k] == nil {
			jobs, old = append(jobs, k), append(old, r.ids[k])
		}
	}
	if err := r.by.Cancel(ctx, old); err != nil {
		return err
	}
	for _, k := range jobs {
		delete(r.silent, k)
		r.ids[k] = ""
	}
	b, err := r.job(j)
	if err != nil {
		return err
	}
	r.m.Tell(event.Event{Kind: event.Retried, Package: j.Name, Version: j.Version, ID: j.ID, Text: fmt.Sprintf("its job ran out of %s; once more with %d MiB and %d minutes", short, b.Memory, b.Minutes)})
	return r.submit(ctx, jobs)
}

// watch waits for what becomes of the jobs, and tells of it.
func (r *run) watch(ctx context.Context, record func(store.Record)) error {
	const often, seldom = 200 * time.Millisecond, 2 * time.Second
	var asked time.Time
	for len(r.result) < len(r.jobs) {
		r.take(record)
		if len(r.result) == len(r.jobs) {
			break
		}
		if r.m.Now().Sub(asked) >= seldom {
			asked = r.m.Now()
			if err := r.ask(ctx); err != nil {
				return err
			}
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(often):
		}
	}
	return nil
}

// take takes in what nodes have written.
func (r *run) take(record func(store.Record)) {
	for _, j := range r.jobs {
		if r.result[j] != nil {
			continue
		}
		if because := r.failedBelow(j); because != nil {
			r.result[j] = &build.Result{Job: j, Outcome: schedule.Skipped, Because: because}
			r.m.Tell(event.Event{Kind: event.PackageSkipped, Package: j.Name, Version: j.Version, ID: j.ID, Text: because.Name})
			continue
		}
		done := ended(file(r.dir, j.Ref, outcomeSuffix))
		r.tails[j].more(r.m.Tell)
		if done == nil {
			continue
		}
		if done.Record != nil {
			record(*done.Record)
		}
		result := &build.Result{Job: j, Outcome: schedule.Succeeded}
		switch {
		case done.Failure != nil:
			result.Outcome, result.Err = schedule.Failed, done.Failure
		case !done.Built:
			result.Outcome, result.Err = schedule.Failed, errors.New(done.Error)
			r.failed(j, result.Err)
		}
		r.result[j] = result
	}
}

func (r *run) failed(j *build.Job, err error) {
	r.m.Tell(event.Event{Kind: event.PackageFailed, Package: j.Name, Version: j.Version, ID: j.ID, Err: err})
}

// failedBelow is the job below one that has failed, if one has.
func (r *run) failedBelow(j *build.Job) *build.Job {
	for _, need := range j.Needs {
		switch done := r.result[need]; {
		case done == nil:
		case done.Outcome == schedule.Failed:
			return need
		case done.Outcome == schedule.Skipped:
			return done.Because
		}
	}
	return nil
}

// ask finds jobs that have ended and left nothing. What a node has written may be seen
// late, so they are waited for a while.
func (r *run) ask(ctx context.Context) error {
	var ids []string
	for _, j := range r.jobs {
		if r.result[j] == nil {
			ids = append(ids, r.ids[j])
		}
	}
	statuses, err := r.by.Look(ctx, ids)
	if err != nil {
		var refused *batch.Refused
		if errors.As(err, &refused) { // it is started again, perhaps; the jobs go on
			return nil
		}
		return err
	}
	now := r.m.Now()
	for _, j := range r.jobs {
		status, known := statuses[r.ids[j]]
		if r.result[j] != nil || r.failedBelow(j) != nil || known && !status.State.Ended() {
			delete(r.silent, j)
			continue
		}
		if _, waits := r.silent[j]; !waits {
			r.silent[j] = now
		}
		if now.Sub(r.silent[j]) < patience {
			continue
		}
		had, wrong := r.job(j)
		if wrong != nil {
			return wrong
		}
		err := &Ended{Build: j.Ref, Job: r.ids[j], Status: status, Printed: lastLines(file(r.dir, j.Ref, printedSuffix)), Memory: had.Memory, Minutes: had.Minutes}
		memory, time := err.Short()
		if (memory || time) && r.more[j] == 0 {
			return r.again(ctx, j, map[bool]string{true: "memory", false: "time"}[memory])
		}
		r.result[j] = &build.Result{Job: j, Outcome: schedule.Failed, Err: err}
		r.failed(j, err)
	}
	return nil
}

// left are the jobs of which nothing is wanted any more: those that have not ended, and
// those that stand on what has failed.
func (r *run) left() (ids []string) {
	for _, j := range r.jobs {
		if done := r.result[j]; r.ids[j] != "" && (done == nil || done.Outcome == schedule.Skipped) {
			ids = append(ids, r.ids[j])
		}
	}
	return ids
}

// end ends jobs, and waits for that a while: they write into the directory of their run
// until they have ended.
func end(by batch.Scheduler, ids []string) error {
	const moment, enough = 200 * time.Millisecond, 15 * time.Second
	ctx, stop := context.WithTimeout(context.Background(), enough)
	defer stop()
	if err := by.Cancel(ctx, ids); err != nil {
		return err
	}
	for {
		statuses, err := by.Look(ctx, ids)
		running := false
		for _, status := range statuses {
			running = running || !status.State.Ended()
		}
		if err != nil || !running {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(moment):
		}
	}
}
