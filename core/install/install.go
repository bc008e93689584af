// Package install carries out a plan: it fetches and builds what is missing and puts what
// was requested on the landing. It also pins heads of branches, writes the lock file,
// builds a second time to compare, and probes drafts.
//
// The plan has decided what is built and what stays. Whatever can have changed since is
// checked again under the lock that protects the change.
package install

import (
	"context"
	"errors"
	"slices"
	"strings"
	"sync"
	"time"

	"fernladder/core/build"
	"fernladder/core/cluster"
	"fernladder/core/draft"
	"fernladder/core/machine"
	"fernladder/core/plan"
	"fernladder/core/problem"
	"fernladder/core/recipe"
	"fernladder/core/schedule"
	"fernladder/core/store"
	"fernladder/core/timeline"
)

// A Report is the outcome of a plan's builds.
type Report struct {
	Results    []build.Result // of all that was to be built, in the order of the ladder
	Records    []store.Record // of the builds that were begun, as they ended
	Took       time.Duration
	Expected   time.Duration // its expected time, or 0
	Timeline   *timeline.Run // when its stages ran; nil: nothing was built
	Unrecorded error         // why the history could not be written, or nil
	Wrong      []Wrong       // deviations from recipes found by first builds
}

// Failures is the error for failed builds. The first one counts.
type Failures struct {
	Results []build.Result // that failed, or were skipped because of a failed need
}

func (e *Failures) Error() string { return e.Unwrap().Error() }

func (e *Failures) Unwrap() error {
	for _, r := range e.Results {
		if r.Err != nil {
			return r.Err
		}
	}
	return errors.New("nothing was built")
}

// NotBrought are the builds that no depot has intact.
func (e *Failures) NotBrought() (all []store.Ref) {
	for _, r := range e.Results {
		var not *build.NotBrought
		if errors.As(r.Err, &not) {
			all = append(all, not.Ref)
		}
	}
	return all
}

// Skipped are the names of packages that were not built because they depend on failed ones.
func (e *Failures) Skipped() []string {
	var names []string
	for _, r := range e.Results {
		if r.Outcome == schedule.Skipped {
			names = append(names, r.Job.Name)
		}
	}
	return names
}

// failures is the error of results, or nil. What ctx interrupted has not failed.
func failures(ctx context.Context, results []build.Result) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	failed := slices.DeleteFunc(slices.Clone(results), func(r build.Result) bool {
		return r.Outcome != schedule.Failed && r.Outcome != schedule.Skipped
	})
	if len(failed) == 0 {
		return nil
	}
	return &Failures{failed}
}

// Run fetches and builds what does not exist, and leaves the landing unchanged. It reports what
// is missing of the operating system, of supplies, or offline, before anything begins. Errors
// are of type *Failures, *host.Missing, source.MissingSupplies, source.NotHere, or those of the
// machine and its store; the report has what was done in any case.
func Run(ctx context.Context, m *machine.Machine, p *plan.Plan) (*Report, error) {
	report := &Report{}
	todo := p.Todo()
	if len(todo) == 0 {
		return report, nil
	}
	b, err := begin(ctx, m, p.ToBuild())
	if err != nil {
		return report, err
	}
	return report, report.fill(ctx, m, p, func(record func(store.Record)) error {
		report.Expected = p.Left(nil, nil)
		report.Timeline = recorded(ctx, m, p, report.Expected, m.Slots, func() {
			report.Results = b.Run(ctx, todo, p.Estimates, record)
		})
		report.Took = time.Duration(report.Timeline.Seconds * float64(time.Second))
		return nil
	})
}

// OnNodes does what Run does, on the nodes of a cluster: everything is fetched first, because
// nodes have no network. If a run is followed, the plan is the one that it was submitted for.
// Errors are those of Run and of cluster.Build; a *cluster.Left says that the builds continue.
func OnNodes(ctx context.Context, m *machine.Machine, p *plan.Plan, how cluster.How) (*Report, error) {
	report := &Report{}
	todo := p.Todo()
	if len(todo) == 0 && how.Follow == "" {
		same, err := cluster.Same(m, how.Command, p.Ask)
		if err != nil || same == "" {
			return report, err
		}
		how.Follow = same // everything is built, but not all of it is on the landing
	}
	if how.Follow == "" {
		if _, err := begin(ctx, m, todo); err != nil {
			return report, err
		}
		if err := failures(ctx, build.Fetch(ctx, m, todo)); err != nil {
			return report, err
		}
	}
	return report, report.fill(ctx, m, p, func(record func(store.Record)) error {
		var done *cluster.Done
		var err error
		report.Timeline = recorded(ctx, m, p, p.Left(nil, nil), nil, func() {
			done, err = cluster.Build(ctx, m, p, how, record)
		})
		if done != nil {
			report.Results, report.Expected, report.Took = done.Results, done.Expected, m.Now().Sub(done.Began)
		}
		return err
	})
}

// mayBuild is the error for builds on a machine that only takes them from depots.
func mayBuild(m *machine.Machine, todo []*build.Job) error {
	if !m.Settings.OnlyDepots || len(todo) == 0 {
		return nil
	}
	return problem.New(problem.Usage, todo[0].Name,
		"nothing is built on this machine (depots = \"only\" in the settings), and %s %s would be", todo[0].Name,
		todo[0].Version)
}

// begin makes sure that everything that builds need exists.
func begin(ctx context.Context, m *machine.Machine, todo []*build.Job) (*build.Builder, error) {
	if err := mayBuild(m, todo); err != nil {
		return nil, err
	}
	if err := ready(ctx, m, todo); err != nil {
		return nil, err
	}
	if err := build.CheckHost(ctx, m, todo); err != nil {
		return nil, err
	}
	if err := m.Store.Prepare(); err != nil {
		return nil, err
	}
	b, err := build.NewBuilder(ctx, m)
	if err != nil {
		return nil, err
	}
	return b, b.CanBuild(todo)
}

// fill runs builds, and takes their results into the report. A finished build counts even if it
// cannot be added to the history; its receipt has everything.
func (report *Report) fill(ctx context.Context, m *machine.Machine, p *plan.Plan,
	do func(record func(store.Record)) error) error {
	history := m.Store.History()
	if err := history.Complete(ctx); err != nil {
		return err
	}
	if p.Estimates == nil {
		if err := p.Estimate(m); err != nil {
			return err
		}
	}
	var lock sync.Mutex
	err := do(func(r store.Record) {
		lock.Lock()
		defer lock.Unlock()
		report.Records = append(report.Records, r)
		if err := history.Add(context.WithoutCancel(ctx), r); err != nil {
			report.Unrecorded = err
		}
	})
	if t := report.Timeline; t != nil && t.Count(timeline.Unfinished) < len(t.Builds) {
		if err := history.AddRun(context.WithoutCancel(ctx), t); err != nil && report.Unrecorded == nil {
			report.Unrecorded = err
		}
	}
	if err := report.judge(m); err != nil && report.Unrecorded == nil {
		report.Unrecorded = err // finished builds stay
	}
	if err != nil {
		return err
	}
	return failures(ctx, report.Results)
}

// judge judges the first builds of recipes, and writes into the recipes what they offer.
func (report *Report) judge(m *machine.Machine) (err error) {
	var known *draft.Known
	for _, result := range report.Results {
		j := result.Job
		if result.Outcome != schedule.Succeeded || j.Until != "" || len(j.From) > 0 || !j.Recipe.Offers.Empty() {
			continue
		}
		if known == nil {
			if known, err = draft.Survey(m.Shelves, m.Store); err != nil {
				return err
			}
		}
		built, err := m.Store.Receipt(j.Ref)
		if err != nil {
			return m.Store.Wrap(err)
		}
		var found judgement
		if built.Prefix == "" { // files for another directory are redirected there
			found, err = judge(m, known, j.Recipe, built)
		}
		if wrong := found.wrong(); len(wrong) > 0 {
			report.Wrong = append(report.Wrong, Wrong{j.Name, j.Recipe.File, wrong})
		}
		if err := errors.Join(err, offer(m, j.Recipe, j.Ref)); err != nil {
			return err
		}
	}
	return nil
}

// Wrong is what the first build of a recipe has disproved.
type Wrong struct {
	Package string
	Recipe  string // its file
	What    []string
}

// ready reports what has to be supplied or fetched before anything begins.
func ready(ctx context.Context, m *machine.Machine, jobs []*build.Job) error {
	for _, j := range jobs {
		if open := j.Recipe.Open(); len(open) > 0 {
			return problem.New(problem.Recipe, j.Name, "%s cannot be built yet: in %s, the step %s is not written\n"+
				"  The draft did not recognise how the source is built. Its README and INSTALL may say it.", j.Name, j.Recipe.File,
				strings.Join(open, " and "))
		}
	}
	if err := build.CheckSupplies(m, jobs); err != nil {
		return err
	}
	return build.CheckOffline(ctx, m, jobs)
}

// Take takes from depots what they have, as far as nothing has to be built first.
func Take(ctx context.Context, m *machine.Machine, p *plan.Plan) (*Report, error) {
	report := &Report{}
	var todo []*build.Job
	for _, j := range p.Todo() {
		waits := false
		for i, need := range j.Needs {
			waits = waits || j.Package.Needs[i].Role != recipe.Tool && p.Needed[need] && !slices.Contains(todo, need)
		}
		if len(j.From) > 0 && !waits {
			todo = append(todo, j)
		}
	}
	if len(todo) == 0 {
		return report, nil
	}
	b, err := begin(ctx, m, nil)
	if err == nil {
		began := m.Now()
		report.Results = b.Run(ctx, todo, nil, func(store.Record) {})
		report.Took = m.Now().Sub(began)
		err = failures(ctx, report.Results)
	}
	return report, err
}

// Fetched is the outcome of fetching.
type Fetched struct {
	Brought int // packages some of whose sources were not here
	There   int // those whose sources were, and were verified again
}

// Fetch downloads and verifies the sources of everything that is to be built.
func Fetch(ctx context.Context, m *machine.Machine, p *plan.Plan) (Fetched, error) {
	todo := p.ToBuild()
	var f Fetched
	for _, j := range todo {
		if build.Fetched(ctx, m, j) {
			f.There++
		} else {
			f.Brought++
		}
	}
	if len(todo) == 0 {
		return f, nil
	}
	if err := ready(ctx, m, todo); err != nil {
		return f, err
	}
	if err := m.Store.Prepare(); err != nil {
		return f, err
	}
	return f, failures(ctx, build.Fetch(ctx, m, todo))
}
