package cluster

// This file is the interface to a site's batch scheduler, which queues commands, decides
// when and on which node each runs, and ends them.
//
// A job inherits nothing of the environment of the process that submits it. A job never
// waits for one that has failed. Every job can be found again by its name, even by a
// program that was killed before it learnt the job's number.

import "context"

// A batchJob is a command to run on some node.
type batchJob struct {
	Name       string   // shown in lists, and found by how it begins; letters, digits and . _ + -
	Command    []string // the program's path, and its arguments
	Dir        string   // to run it in
	Output     string   // the file that it prints into
	Processors int
	Memory     int      // MiB
	Minutes    int      // after which it is ended
	After      []string // jobs that have to succeed before
	Behind     []string // jobs that have to end before, in any way
	Avoid      []string // nodes that it must not run on
	Held       bool     // it does not run before it is released

	Environment []string // NAME=VALUE, all that its command gets besides what the scheduler sets
}

// State says how far a job is.
type State string

// The states. Each after Running is an end; what is impossible is still in the lists.
const (
	Queued      State = "waiting"
	Impossible  State = "impossible" // it waits for what no node has
	Running     State = "running"
	Finished    State = "done"
	Failed      State = "failed"        // by its status
	Cancelled   State = "cancelled"     // by a user, or because a job before it has failed
	OutOfMemory State = "out of memory" // and ended for it
	TimedOut    State = "out of time"
	Lost        State = "lost" // with its node
)

// Ended tells whether a job will not run any more.
func (s State) Ended() bool { return s != Queued && s != Impossible && s != Running }

// A Status is how a job is.
type Status struct {
	ID    string
	Name  string
	State State
	Node  string // that it runs on, or has
	Why   string // it waits, in the scheduler's words
}

// A Scheduler is a site's own. Jobs are named by what Submit returns.
type Scheduler interface {
	Submit(ctx context.Context, j batchJob) (id string, err error)
	// Release lets jobs run that are held. Where not all can, those go first that are
	// named first.
	Release(ctx context.Context, ids []string) error
	// Look tells how the jobs are whose names begin with mark; of those that the scheduler
	// has forgotten, nothing.
	Look(ctx context.Context, mark string) ([]Status, error)
	// Cancel ends jobs, whether they run or not. What has ended already is no error.
	Cancel(ctx context.Context, ids []string) error
	// Avoid keeps waiting jobs away from nodes.
	Avoid(ctx context.Context, ids, nodes []string) error
	// Room is how many jobs of a size all nodes together can run at once, with no other jobs
	// there; 0 where that is not known.
	Room(ctx context.Context, processors, memory int) (int, error)
}
