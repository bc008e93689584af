package session

import (
	"cmp"
	"context"
	"errors"
	"time"

	"fernladder/core/build"
	"fernladder/core/cluster"
	"fernladder/core/install"
	"fernladder/core/landing"
	"fernladder/core/plan"
	"fernladder/core/problem"
	"fernladder/core/recipe"
	"fernladder/core/schedule"
	"fernladder/core/store"
)

// A LadderRequest asks for the ladder of packages. The zero value asks for what the settings
// want.
type LadderRequest struct {
	plan.Ask

	// Planned is called with every plan before it is carried out; nil: it is not. Its error
	// ends the operation.
	Planned func(*Ladder) error

	except map[store.Ref]bool // builds that are not taken from depots
}

// A Ladder is a plan, and the branch heads that were pinned for it.
type Ladder struct {
	*plan.Plan
	Pins []install.Pinned
}

// PlanReport is a ladder, lowest rung first.
type PlanReport struct {
	Steps    []plan.Step        `json:"steps"`
	Rungs    int                `json:"rungs"`
	Packages []PlannedPackage   `json:"packages"`
	Totals   plan.Totals        `json:"totals"`
	Landing  landing.Difference `json:"landing"` // what an install would change
	Holes    Notice             `json:"holes"`   // published, of what would be on the ladder

	Ladder *Ladder `json:"-"`
}

// A PlannedPackage is a package of a ladder.
type PlannedPackage struct {
	Rung    int               `json:"rung"`
	Name    string            `json:"name"`
	Version string            `json:"version"`
	ID      string            `json:"id"`
	State   string            `json:"state"` // built, to_build, to_take or not_needed
	Options map[string]string `json:"options"`
	Asked   bool              `json:"asked"`
	Kept    bool              `json:"kept"`
	Preset  string            `json:"preset,omitempty"`
	// Options chosen earlier that this release does not have as they were.
	Missed   map[string]string `json:"missed,omitempty"`
	Apart    bool              `json:"apart"`
	Why      []string          `json:"why"`
	Needs    []PlannedNeed     `json:"needs"`
	ByHost   []string          `json:"by_host,omitempty"`
	Tree     string            `json:"tree"`
	Prefix   string            `json:"prefix"` // the directory its files are for; the tree by default
	Fetched  bool              `json:"fetched"`
	Depot    string            `json:"depot,omitempty"` // that it would be taken from
	Bytes    int64             `json:"bytes_to_take,omitempty"`
	Estimate float64           `json:"estimate_seconds,omitempty"`
}

// A PlannedNeed is a build that a planned package needs.
type PlannedNeed struct {
	Name string      `json:"name"`
	ID   string      `json:"id"`
	Role recipe.Role `json:"role"`
}

// Ladder works out the ladder. Nothing is fetched, built or written.
func (s *Session) Ladder(ctx context.Context, r LadderRequest) (*Ladder, error) {
	return s.ladder(ctx, r, nil)
}

func (s *Session) ladder(ctx context.Context, r LadderRequest, pins []install.Pinned) (*Ladder, error) {
	p, err := plan.For(ctx, s.Machine, r.Ask)
	l := &Ladder{p, pins}
	if err == nil {
		err = p.Offer(ctx, s.Machine, r.except)
	}
	if err == nil && r.Planned != nil {
		err = r.Planned(l)
	}
	return l, err
}

// Plan works out the ladder and reports all about it, with times and sizes of earlier builds.
func (s *Session) Plan(ctx context.Context, r LadderRequest) (*PlanReport, error) {
	l, err := s.Ladder(ctx, r)
	if err != nil {
		return nil, err
	}
	return s.planReport(ctx, l)
}

// planReport reports all about a ladder.
func (s *Session) planReport(ctx context.Context, l *Ladder) (*PlanReport, error) {
	if err := l.Estimate(s.Machine); err != nil {
		return nil, err
	}
	fetched := map[*build.Job]bool{} // found once: it takes a program to find a commit
	for _, j := range l.Jobs {
		fetched[j] = build.Fetched(ctx, s.Machine, j)
	}
	steps, err := l.Steps(s.Store)
	if err != nil {
		return nil, err
	}
	r := &PlanReport{Steps: listed(steps), Rungs: l.Rungs(), Packages: make([]PlannedPackage, len(l.Jobs)), Ladder: l,
		Totals: l.Totals(func(j *build.Job) bool { return fetched[j] }), Landing: landing.Compare(l.Before.Members, l.After)}
	for i, j := range l.Jobs {
		r.Packages[i] = planned(l, j, fetched[j])
	}
	if r.Holes, err = s.holesIn(ctx, l); problem.KindOf(err) == problem.Affected {
		err = nil // an install would be refused
	}
	return r, err
}

func planned(l *Ladder, j *build.Job, fetched bool) PlannedPackage {
	p := j.Package
	x := PlannedPackage{
		Rung: p.Rung, Name: p.Name(), Version: j.Version, ID: j.ID, State: l.State(j), Options: p.Options, Asked: p.Asked,
		Kept:   p.Kept,
		Preset: j.Preset, Missed: map[string]string{}, Apart: p.Apart, Needs: []PlannedNeed{}, Tree: j.Tree, Prefix: j.Prefix,
		Fetched: fetched, Estimate: l.Estimates[j.Ref].Time.Seconds(),
	}
	if len(j.From) > 0 {
		x.Depot, x.Bytes = j.From[0].Depot.Name, j.From[0].Bytes()
	}
	for _, o := range p.Missed {
		x.Missed[o.Name] = o.Values[0]
	}
	for k, need := range j.Needs {
		x.Needs = append(x.Needs, PlannedNeed{need.Name, need.ID, p.Needs[k].Role})
	}
	for _, d := range p.Why {
		x.Why = append(x.Why, d.String())
	}
	for _, h := range p.ByHost {
		x.ByHost = append(x.ByHost, h.String())
	}
	return x
}

// JobsReport is the jobs that a build on the cluster would submit.
type JobsReport struct {
	Jobs    []cluster.Submitted `json:"jobs"`
	Seconds float64             `json:"seconds"` // by earlier builds, on otherwise idle nodes; 0: unknown
}

// Jobs works out the jobs of a build on the cluster.
func (s *Session) Jobs(ctx context.Context, r LadderRequest) (*JobsReport, error) {
	l, err := s.Ladder(ctx, r)
	if err != nil {
		return nil, err
	}
	if err := l.Estimate(s.Machine); err != nil {
		return nil, err
	}
	jobs, takes, err := cluster.Jobs(ctx, s.Machine, l.Plan)
	return &JobsReport{listed(jobs), takes}, err
}

// pinned pins the branch heads that a request needs, then works out its ladder.
func (s *Session) pinned(ctx context.Context, r LadderRequest) (*Ladder, error) {
	pins, err := install.Pin(ctx, s.Machine, r.Ask)
	if err != nil {
		return &Ladder{Pins: pins}, err
	}
	return s.ladder(ctx, r, pins)
}

// LockReport is what was locked.
type LockReport struct {
	File     string      `json:"file"`
	Packages []store.Ref `json:"packages"`
	Builds   int         `json:"-"` // that the file has now
	Shown    string      `json:"-"` // the file, as people name it
}

// Lock writes the ladder to the lock file.
func (s *Session) Lock(ctx context.Context, r LadderRequest) (*LockReport, error) {
	l, err := s.pinned(ctx, r)
	if err != nil {
		return nil, err
	}
	file, err := install.Lock(ctx, s.Machine, l.Plan)
	if err != nil {
		return nil, err
	}
	return &LockReport{file.Path, refs(l.Jobs), len(file.Builds), file.Shown}, nil
}

// FetchReport is what was fetched.
type FetchReport struct {
	Fetched int `json:"fetched"` // packages of which sources were missing
	There   int `json:"there"`   // packages whose sources were verified again
	// Builds that were taken from depots.
	Taken []store.Ref `json:"taken"`

	Ladder   *Ladder      `json:"-"`
	Gathered []*build.Job `json:"-"` // jobs with extras that only a build gathers
}

// Fetch downloads and verifies the sources of everything that is still to be built.
func (s *Session) Fetch(ctx context.Context, r LadderRequest) (*FetchReport, error) {
	var l *Ladder
	var brought []store.Ref
	err := s.repeat(func(except map[store.Ref]bool) (err error) {
		r.except = except
		if l, err = s.pinned(ctx, r); err != nil {
			return err
		}
		run, err := install.Take(ctx, s.Machine, l.Plan)
		for _, result := range run.Results {
			if result.Outcome == schedule.Succeeded {
				brought = append(brought, result.Job.Ref)
			}
		}
		if err == nil && len(run.Results) > 0 {
			err = errOnce
		}
		return err
	})
	if err != nil {
		return nil, err
	}
	f, err := install.Fetch(ctx, s.Machine, l.Plan)
	report := &FetchReport{Fetched: f.Brought, There: f.There, Taken: listed(brought), Ladder: l}
	for _, j := range l.ToBuild() {
		if err == nil && !build.Fetched(ctx, s.Machine, j) {
			report.Gathered = append(report.Gathered, j)
		}
	}
	return report, err
}

// A BuildRequest asks for builds.
type BuildRequest struct {
	LadderRequest
	Nodes cluster.How // with Ask.Cluster
}

// BuildReport is what was built.
type BuildReport struct {
	Built    []store.Ref `json:"built"`
	Packages []store.Ref `json:"packages"` // all of the ladder
	Stopped  []store.Ref `json:"stopped"`  // built up to Ask.Until

	Ladder *Ladder         `json:"-"`
	Run    *install.Report `json:"-"` // nil where nothing began
}

// Build builds the ladder. The landing and the lock file stay as they are.
func (s *Session) Build(ctx context.Context, r BuildRequest) (*BuildReport, error) {
	report := &BuildReport{}
	err := s.repeat(func(except map[store.Ref]bool) error {
		r.except = except
		l, err := s.pinned(ctx, r.LadderRequest)
		if err != nil {
			return err // an earlier attempt is reported with its own ladder
		}
		report.Ladder = l
		report.Run, err = s.run(ctx, l, &r.Nodes)
		return err
	})
	if report.Ladder == nil {
		return report, err
	}
	report.Built, report.Packages, report.Stopped = []store.Ref{}, refs(report.Ladder.Jobs), []store.Ref{}
	for _, j := range report.Ladder.Todo() {
		if j.Until == "" {
			report.Built = append(report.Built, j.Ref)
		}
	}
	for _, j := range report.Ladder.Asked() {
		if j.Until != "" {
			report.Stopped = append(report.Stopped, j.Ref)
		}
	}
	return report, err
}

// run carries out a plan here, or on the nodes of the cluster.
func (s *Session) run(ctx context.Context, l *Ladder, nodes *cluster.How) (*install.Report, error) {
	if !l.Ask.Cluster {
		return install.Run(ctx, s.Machine, l.Plan)
	}
	if report, err := install.Take(ctx, s.Machine, l.Plan); err != nil || len(report.Results) > 0 {
		return report, cmp.Or(err, errOnce) // nodes build the rest
	}
	r, err := install.OnNodes(ctx, s.Machine, l.Plan, *nodes)
	nodes.Follow = "" // that run has ended; another builds the rest
	return r, err
}

// Rebuild builds the named packages again, in place of their trees. A package without a tree
// is only built.
func (s *Session) Rebuild(ctx context.Context, r BuildRequest) (*BuildReport, []install.Renewed, error) {
	b, err := s.Build(ctx, r)
	if err != nil {
		return b, nil, err
	}
	var there []store.Ref
	for _, j := range b.Ladder.Asked() {
		if b.Ladder.Installed[j.Ref] {
			there = append(there, j.Ref)
		}
	}
	all, err := install.Renew(ctx, s.Machine, install.NeedsFirst(s.Store, there), nil)
	for _, x := range all {
		err = errors.Join(err, x.Err)
	}
	return b, listed(all), err
}

// Prove builds what is named a second time, in another directory, and compares.
func (s *Session) Prove(ctx context.Context, r BuildRequest) (*BuildReport, []install.Proven, error) {
	b, err := s.Build(ctx, r)
	if err != nil {
		return b, nil, err
	}
	all, err := install.Prove(ctx, s.Machine, b.Ladder.Plan)
	return b, all, err
}

// Watch builds what is named and records every file that the builds read.
func (s *Session) Watch(ctx context.Context, r LadderRequest) (*BuildReport, error) {
	r.NoDepots = true // it is watched while it is built
	l, err := s.pinned(ctx, r)
	if err != nil {
		return &BuildReport{Ladder: l}, err
	}
	run, err := install.Watch(ctx, s.Machine, l.Plan)
	return &BuildReport{Ladder: l, Run: run}, err
}

// LandingReport is a change of the landing.
type LandingReport struct {
	Landing   landing.State        `json:"landing"`
	Changed   bool                 `json:"changed"`
	Configs   []store.ConfigChange `json:"configs"`
	Shared    *landing.Shared      `json:"shared"`
	Forgotten []int                `json:"forgotten_landings"`
	Caches    []landing.Cache      `json:"caches"`

	Landed install.Landed `json:"-"`
}

func landed(l install.Landed) LandingReport {
	return LandingReport{l.After, l.Changed(), listed(l.Configs), l.Shared, listed(l.Forgotten), listed(l.Caches), l}
}

// InstallReport is what was built and how the landing changed.
type InstallReport struct {
	LandingReport
	Built []store.Ref `json:"built"`
	Holes Notice      `json:"holes"` // published, of what is installed now

	Ladder   *Ladder         `json:"-"`
	Run      *install.Report `json:"-"` // nil where nothing began
	Unlocked error           `json:"-"` // why the lock file stayed as it was, or nil
}

// Install builds the ladder and puts it on the landing, in one step, when all of it is built;
// then it updates the lock file. With Ask.Upgrade packages move to their newest releases.
func (s *Session) Install(ctx context.Context, r BuildRequest) (*InstallReport, error) {
	report := &InstallReport{}
	err := s.repeat(func(except map[store.Ref]bool) error {
		r.except = except
		l, err := s.pinned(ctx, r.LadderRequest)
		if err != nil {
			return err // an earlier attempt is reported with its own ladder
		}
		report.Ladder = l
		if err := landable(l); err != nil {
			return err
		}
		if report.Holes, err = s.holesIn(ctx, l); err != nil {
			return err
		}
		if report.Run, err = s.run(ctx, l, &r.Nodes); err != nil {
			return err
		}
		done, err := install.Land(ctx, s.Machine, l.Plan)
		if err != nil {
			return err
		}
		report.LandingReport, report.Built = landed(done), refs(l.Todo())
		if r.Beside { // the lock file says which build has the plain names
			return nil
		}
		if err := install.KeepLock(ctx, s.Machine, l.Plan); errors.Is(err, install.Edited) {
			report.Unlocked = err
		} else if err != nil {
			return err
		}
		return nil
	})
	return report, err
}

// landable is an error where a plan cannot be landed, which is better known before anything
// is built.
func landable(l *Ladder) error {
	if l.Ask.Beside {
		for _, j := range l.Asked() {
			if len(j.Recipe.Beside) == 0 && j.Preset == "" {
				return problem.New(problem.Usage, j.Name,
					"%s has no names for being beside another build; build it by a preset, or add [[beside]] to %s, for example:\n "+
						"   [[beside]]\n    file = \"bin/%s\"\n    as   = \"bin/%s$FL_SERIES\"",
					j.Name, j.Recipe.File, j.Name, j.Name)
			}
		}
	}
	return l.Clash
}

// Since is how long ago an instant is, by the session's clock.
func (s *Session) Since(t time.Time) time.Duration { return s.Now().Sub(t) }

// refs are the builds of jobs.
func refs(jobs []*build.Job) []store.Ref {
	all := []store.Ref{}
	for _, j := range jobs {
		all = append(all, j.Ref)
	}
	return all
}

// listed is a list that JSON shows as [] when it is empty.
func listed[T any](all []T) []T { return append([]T{}, all...) }
