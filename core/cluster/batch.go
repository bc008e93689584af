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

	Environment []string // NAME=VALUE, everything its command gets in addition to the scheduler's own
}

// State is how far a job has got.
type State string

// The states. Those after Running are final, except that an impossible job is still in the
// lists.
const (
	Queued      State = "waiting"
	Impossible  State = "impossible" // no node has what it waits for
	Running     State = "running"
	Finished    State = "done"
	Failed      State = "failed"        // by its status
	Cancelled   State = "cancelled"     // by a user, or because a job before it has failed
	OutOfMemory State = "out of memory" // and ended for it
	TimedOut    State = "out of time"
	Lost        State = "lost" // with its node
)

// ended reports whether a job will not run any more.
func (s State) ended() bool { return s != Queued && s != Impossible && s != Running }

// A Status is the state of a job, with details.
type Status struct {
	ID    string
	Name  string
	State State
	Node  string // that it runs on, or has
	Why   string // it waits, in the scheduler's words
}

// A Scheduler is a site's batch scheduler. Submit returns the names of jobs.
type Scheduler interface {
	Submit(ctx context.Context, j batchJob) (id string, err error)
	// Release lets held jobs run, in the given order if not all can run at once.
	Release(ctx context.Context, ids []string) error
	// Look returns the status of jobs whose names begin with mark; jobs that the scheduler has
	// forgotten are left out.
	Look(ctx context.Context, mark string) ([]Status, error)
	// Cancel ends jobs, running or not. A job that has ended is no error.
	Cancel(ctx context.Context, ids []string) error
	// Avoid keeps waiting jobs away from nodes.
	Avoid(ctx context.Context, ids, nodes []string) error
	// Room is the number of jobs of a size that all nodes together can run at once without other
	// jobs; 0 if it is not known.
	Room(ctx context.Context, processors, memory int) (int, error)
}
