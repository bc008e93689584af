// Package cluster builds a ladder on the nodes of a cluster, as jobs of the site's batch
// scheduler. Long builds have a job of their own, short ones share one. All jobs are
// submitted, in the order of the ladder, before any of them runs. Nodes share the root and
// need no network: all sources are fetched before.
//
// A node builds exactly the build that was planned, or nothing: a node that differs from
// the machine that planned is not used. Nodes do not open the history; the outcome of a
// build is in a file, which the watching program reads. Jobs whose needs have failed do not
// wait. The watching program can leave and come back or be killed; the next one takes over.
package cluster

import (
	"context"
	"fmt"
	"strings"
	"time"

	"fernladder/core/build"
	"fernladder/core/machine"
	"fernladder/core/plan"
	"fernladder/core/problem"
	"fernladder/core/store"
)

// How says how a ladder is built on a cluster.
type How struct {
	Command string                 // for coming back: build, install or upgrade
	Detach  bool                   // submit, and leave
	Follow  string                 // the run to follow, instead of submitting; ""
	Leave   func(cause error) bool // when the context ends: whether the jobs go on; nil: they do not
}

// Left is the error for leaving a run, which continues.
type Left struct {
	Run      string
	Jobs     int  // on their way
	Detached bool // as it was asked for
}

func (e *Left) Error() string {
	return fmt.Sprintf("the run %s continues, with %d jobs", e.Run, e.Jobs)
}

// Ended is the error for a job without an outcome: the scheduler or a user ended it, or its node
// is gone.
type Ended struct {
	Build   store.Ref
	Job     string // its number
	Status  Status
	Printed []string // its last lines
	Size    Size     // that it had
	Avoided []string // nodes that are not used
}

func (e *Ended) Error() string {
	if e.Status.State == Impossible {
		but := ""
		if len(e.Avoided) > 0 {
			but = ", and these are not used: " + strings.Join(e.Avoided, ", ")
		}
		return fmt.Sprintf("%s %s: no node can run the batch job %s (%s)%s\n  It has %d processors, %d MiB and %d minutes.",
			e.Build.Name, e.Build.Version, e.Job, e.Status.Why, but, e.Size.Processors, e.Size.Memory, e.Size.Minutes)
	}
	text := fmt.Sprintf("%s %s: the batch job %s has ended (%s", e.Build.Name, e.Build.Version, e.Job, e.Status.State)
	if e.Status.Node != "" {
		text += ", on " + e.Status.Node
	}
	text += "), and the outcome of the build is unknown"
	for _, line := range e.Printed {
		text += "\n    │ " + line
	}
	return text
}

// scheduler is the one that the settings name.
func scheduler(m *machine.Machine) (Scheduler, error) {
	c := m.Settings.Cluster
	if c.Scheduler == "" {
		return nil, problem.New(problem.Usage, "cluster", "the settings have no [cluster]").Remedy(problem.SetCluster)
	}
	return slurm{Partition: c.Partition, Account: c.Account, QoS: c.QoS, Constraint: c.Constraint}, nil
}

// room is the number of jobs that can run at once: by the settings, or else by the existing
// nodes; 0 if unknown.
func room(ctx context.Context, m *machine.Machine, by Scheduler, pieces []Piece) int {
	c := m.Settings.Cluster
	usual := Size{}
	for _, p := range pieces {
		usual.Processors, usual.Memory = usual.Processors+p.Processors, usual.Memory+p.Memory
	}
	const longest = 3 * time.Second // that it is worth
	ctx, stop := context.WithTimeout(ctx, longest)
	defer stop()
	n := max(1, len(pieces))
	nodes, err := by.Room(ctx, max(1, usual.Processors/n), max(1, usual.Memory/n))
	if err != nil {
		nodes = 0
	}
	if c.Most > 0 && (nodes == 0 || c.Most < nodes) {
		return c.Most
	}
	return nodes
}

// Submitted is a job as it would be submitted.
type Submitted struct {
	Builds []store.Ref `json:"builds"`
	Size
	After []store.Ref `json:"after"` // the builds of other jobs that it needs
}

// Jobs are those of a plan, in the order in which they would be submitted, and the expected
// total seconds on idle nodes; 0 if a build's time is not known. Nothing is submitted.
func Jobs(ctx context.Context, m *machine.Machine, p *plan.Plan) (jobs []Submitted, seconds float64, err error) {
	by, err := scheduler(m)
	if err != nil {
		return nil, 0, err
	}
	todo := p.Todo()
	groups, takes := groupsOf(ctx, m, by, todo, p.Estimates)
	for _, g := range groups {
		s := Submitted{Size: g.Size}
		for _, i := range g.Pieces {
			s.Builds = append(s.Builds, todo[i].Ref)
		}
		s.After = outside(todo, g)
		jobs = append(jobs, s)
	}
	return jobs, takes.Seconds(), nil
}

// groupsOf combines builds into jobs, and returns the expected total time, or 0.
func groupsOf(ctx context.Context, m *machine.Machine, by Scheduler, jobs []*build.Job,
	estimates map[store.Ref]store.Estimate) (groups []Group, takes time.Duration) {
	all := pieces(jobs, estimates, m.Settings.Cluster)
	each, at := latencyOf(m), room(ctx, m, by, all)
	groups = Groups(all, each, at)
	if known(groups) {
		takes = Makespan(groups, each, at)
	}
	return groups, takes
}

// outside are the builds that a group depends on, of those that are to be built, in their order.
func outside(todo []*build.Job, g Group) []store.Ref {
	inside, needed := map[*build.Job]bool{}, map[*build.Job]bool{}
	for _, i := range g.Pieces {
		inside[todo[i]] = true
		for _, need := range todo[i].Needs {
			needed[need] = true
		}
	}
	all := []store.Ref{}
	for _, j := range todo {
		if needed[j] && !inside[j] {
			all = append(all, j.Ref)
		}
	}
	return all
}

// ProblemKind is the kind of the error.
func (e *Ended) ProblemKind() problem.Kind { return problem.Build }

// ProblemKind is empty if the caller asked to detach, else problem.Interrupted.
func (e *Left) ProblemKind() problem.Kind {
	if e.Detached {
		return ""
	}
	return problem.Interrupted
}
