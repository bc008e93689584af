package cluster

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"fernladder/core/durable"
	"fernladder/core/filelock"
	"fernladder/core/machine"
	"fernladder/core/plan"
	"fernladder/core/problem"
	"fernladder/core/safefs"
	"fernladder/core/store"
)

// In ROOT/work/cluster, which nodes share, are
//
//	lock             held while a run begins, or who is there is looked at
//	latency          of the scheduler, as a run has seen it last
//	NAME.lock        held by who watches the run; not in its directory, which could not be
//	                 deleted on a network file system while a file in it is open
//	run-NAME/        a ladder on its way
//	  run.json       a Run, replaced in one rename before anything of it is submitted
//	  N.order        what the job with the number N is told
//	  N.told         what its node tells: lines, of which only whole ones count
//	  N.printed      what it prints
//
// A job's name in the scheduler's lists begins with the mark of its run, fl-NAME-, so all
// jobs of a run are found whatever was killed. N.told is made before the job is: a network
// file system shows a file late that was not there, and at once what is new in one that was.
const (
	lockFile      = "lock"
	lockSuffix    = ".lock"
	latencyFile   = "latency"
	runFile       = "run.json"
	runPrefix     = "run-"
	orderSuffix   = ".order"
	toldSuffix    = ".told"
	printedSuffix = ".printed"
	largestFile   = 64 << 20
)

// A Run is a ladder that the scheduler is building.
type Run struct {
	Name    string    `json:"name"`
	Command string    `json:"command"` // that has begun it: build, install or upgrade
	Ask     plan.Ask  `json:"ask"`
	Began   time.Time `json:"began"`
	Begun   bool      `json:"begun"` // all jobs were submitted; before, none of them runs
	Jobs    []*Job    `json:"jobs"`
	Avoid   []string  `json:"avoid,omitempty"` // nodes that are not like this machine

	dir string
}

// A Job is one that was submitted.
type Job struct {
	Number int         `json:"number"` // from 1 on
	Builds []store.Ref `json:"builds"` // in the order of the ladder
	After  []int       `json:"after,omitempty"`
	Lane   int         `json:"lane"`
	Size
	Again    bool `json:"again,omitempty"`    // it takes the place of one that came to nothing
	Over     bool `json:"over,omitempty"`     // nothing more is expected of it
	Replaced bool `json:"replaced,omitempty"` // another takes its place

	watched
}

// watched is what the watcher knows about a job, by this machine's clock.
type watched struct {
	id       string // in the scheduler's lists; "" while that is not known
	tail     *tail  // reports of its node; nil before it is submitted
	begun    time.Time
	node     string    // that runs it
	finished time.Time // when its reports were complete
	silent   time.Time // since when the scheduler says that it has ended, and it does not
	unlike   *Unlike   // its node has refused it
}

func (r *Run) mark() string { return "fl-" + r.Name + "-" }

// jobName is the name of a job in the scheduler's lists.
func (r *Run) jobName(j *Job) string {
	name := r.mark() + strconv.Itoa(j.Number) + "-" + j.Builds[len(j.Builds)-1].Name
	if more := len(j.Builds) - 1; more > 0 {
		name += "+" + strconv.Itoa(more)
	}
	return name
}

// called is the job of a name, or nil.
func (r *Run) called(name string) *Job {
	number, _, _ := strings.Cut(strings.TrimPrefix(name, r.mark()), "-")
	if n, err := strconv.Atoi(number); err == nil && n > 0 && n <= len(r.Jobs) {
		return r.Jobs[n-1]
	}
	return nil
}

// before are the jobs that have to succeed before another.
func (r *Run) before(j *Job) []*Job {
	all := make([]*Job, len(j.After))
	for i, n := range j.After {
		all[i] = r.Jobs[n-1]
	}
	return all
}

func (r *Run) file(j *Job, suffix string) string {
	return filepath.Join(r.dir, strconv.Itoa(j.Number)+suffix)
}

func (r *Run) save() error {
	text, err := json.MarshalIndent(r, "", "\t")
	if err != nil {
		return err
	}
	return durable.WriteFile(filepath.Join(r.dir, runFile), text, 0o644)
}

// Builds are those of all jobs, each once.
func (r *Run) Builds() (all []store.Ref) {
	for _, j := range r.Jobs {
		for _, b := range j.Builds {
			if !slices.Contains(all, b) {
				all = append(all, b)
			}
		}
	}
	return all
}

// runsDir is where runs are.
func runsDir(m *machine.Machine) string { return filepath.Join(m.Store.Root, "work", "cluster") }

// Runs are those in progress, or ended and not looked at since, the oldest first. followed has
// those that another program watches.
func Runs(m *machine.Machine) (runs []*Run, followed map[*Run]bool, err error) {
	followed = map[*Run]bool{}
	dirs, err := filepath.Glob(filepath.Join(runsDir(m), runPrefix+"*"))
	if err != nil {
		return nil, nil, err
	}
	for _, dir := range dirs {
		r, err := readRun(dir)
		if errors.Is(err, os.ErrNotExist) || err != nil && !own(dir) {
			continue // it has just ended, or is another user's
		}
		if err != nil {
			return nil, nil, m.Store.Wrap(err)
		}
		unlock, err := filelock.Now(lockOf(dir))
		switch {
		case err == nil:
			unlock()
		case errors.Is(err, filelock.ErrHeld):
			followed[r] = true
		default:
			return nil, nil, m.Store.Wrap(err)
		}
		runs = append(runs, r)
	}
	slices.SortStableFunc(runs, func(a, b *Run) int { return a.Began.Compare(b.Began) })
	return runs, followed, nil
}

func readRun(dir string) (*Run, error) {
	text, err := safefs.ReadFile(filepath.Join(dir, runFile), largestFile)
	if err != nil {
		return nil, err
	}
	r := &Run{}
	err = json.Unmarshal(text, r)
	r.dir, r.Name = dir, strings.TrimPrefix(filepath.Base(dir), runPrefix)
	if err != nil {
		return nil, &store.Error{Path: filepath.Join(dir, runFile), Err: err,
			Advice: "This run cannot be followed. End its jobs (" + r.mark() + "…), and remove its directory."}
	}
	return r, nil
}

// own reports whether this user has begun a run.
func own(dir string) bool {
	owner, err := ownerOf(dir)
	return err == nil && owner == os.Geteuid()
}

func ownerOf(dir string) (user int, err error) {
	var stat syscall.Stat_t
	err = syscall.Lstat(dir, &stat)
	return int(stat.Uid), err
}

// take locks a run for its watcher, and reads it again, because it may have changed meanwhile.
func take(m *machine.Machine, name string) (*Run, func(), error) {
	dir := filepath.Join(runsDir(m), runPrefix+name)
	owner, err := ownerOf(dir)
	if name != filepath.Base(name) || errors.Is(err, os.ErrNotExist) {
		return nil, nil, NoRun(name)
	}
	if err != nil {
		return nil, nil, m.Store.Wrap(err)
	}
	if owner != os.Geteuid() {
		return nil, nil, problem.New(problem.Root, name, "user %d started the run %s, and has to follow it", owner, name).
			Coded(OfAnother)
	}
	unlock, err := filelock.Now(lockOf(dir))
	if errors.Is(err, filelock.ErrHeld) {
		return nil, nil, problem.New(problem.Root, name, "another fernladder is already following the run %s", name).
			Coded(Followed)
	}
	if err != nil {
		return nil, nil, m.Store.Wrap(err)
	}
	r, err := readRun(dir)
	if err != nil {
		if errors.Is(err, os.ErrNotExist) {
			err = NoRun(name)
			os.Remove(lockOf(dir))
		}
		unlock()
		return nil, nil, m.Store.Wrap(err)
	}
	return r, unlock, nil
}

// End ends the jobs of a run and deletes it. What is built stays.
func End(ctx context.Context, m *machine.Machine, name string) error {
	by, err := scheduler(m)
	if err != nil {
		return err
	}
	r, unlock, err := take(m, name)
	if err != nil {
		return err
	}
	defer unlock()
	return r.end(ctx, m, by)
}

// end ends all jobs of a run, waits a while for that, because they write into its directory
// until they have ended, and deletes it. It leaves jobs alone that have reported everything.
func (r *Run) end(ctx context.Context, m *machine.Machine, by Scheduler) error {
	const moment, enough = 200 * time.Millisecond, 20 * time.Second
	ctx, stop := context.WithTimeout(ctx, enough)
	defer stop()
	for asked := false; ; {
		statuses, err := by.Look(ctx, r.mark())
		if err != nil {
			return err
		}
		var ids []string
		for _, s := range statuses {
			if j := r.called(s.Name); !s.State.ended() && (j == nil || j.finished.IsZero()) {
				ids = append(ids, s.ID)
			}
		}
		if len(ids) == 0 {
			return m.Store.Wrap(remove(r.dir))
		}
		if !asked {
			if err := by.Cancel(ctx, ids); err != nil {
				return err
			}
			asked = true
		}
		select {
		case <-ctx.Done():
			return fmt.Errorf("jobs of the run %s have not ended: %s", r.Name, strings.Join(ids, " "))
		case <-time.After(moment):
		}
	}
}

// begunBy reports whether a command has begun a run, and submitted all of it.
func (r *Run) begunBy(command string, ask plan.Ask) bool {
	one, err := json.Marshal(r.Ask)
	two, other := json.Marshal(ask)
	return r.Begun && r.Command == command && err == nil && other == nil && string(one) == string(two)
}

// Title is the command that began a run, as typed.
func (r *Run) Title() string {
	return strings.TrimSpace(r.Command + " " + strings.Join(r.Ask.Names, " "))
}

// The problems of runs.
const (
	Missing   problem.Code = "no_run"          // it does not exist
	Followed  problem.Code = "followed"        // another program watches it
	OfAnother problem.Code = "of_another_user" // a scheduler shows and ends the jobs of one user only
)

// NoRun is the problem of a run that does not exist.
func NoRun(name string) error {
	return problem.New(problem.Usage, name, "there is no run %s; it may have ended", name).Coded(Missing)
}
