// Package batch hands commands to the batch scheduler that a site has: it queues them,
// decides on which node each runs and when, and ends them. What knows a scheduler is behind
// one small interface.
//
// It promises that a job is submitted once or not at all, that nothing of the environment
// of who submits it comes along, and that a job never waits for one that has failed.
package batch

import "context"

// A Job is a command that is to run on some node.
type Job struct {
	Name       string   // shown in lists; letters, digits and . _ + -
	Command    []string // the program's path, and its arguments
	Dir        string   // to run it in
	Output     string   // the file that it prints into
	Processors int
	Memory     int      // MiB
	Minutes    int      // after which it is ended
	After      []string // jobs that have to succeed before
	Held       bool     // it does not run before it is released
}

// State says how far a job is.
type State string

// The states. Each after Running is an end.
const (
	Waiting     State = "waiting"
	Running     State = "running"
	Done        State = "done"
	Failed      State = "failed"        // by its status
	Cancelled   State = "cancelled"     // by somebody, or because a job before it has failed
	OutOfMemory State = "out of memory" // and ended for it
	TimedOut    State = "out of time"
	Lost        State = "lost" // with its node
)

// Ended tells whether a job will not run any more.
func (s State) Ended() bool { return s != Waiting && s != Running }

// A Status is how a job is.
type Status struct {
	State State
	Node  string // that it runs on, or has
	Why   string // it waits, in the scheduler's words
}

// A Scheduler is a site's own. Jobs are named by what Submit returns.
type Scheduler interface {
	Submit(ctx context.Context, j Job) (id string, err error)
	// Release lets jobs run that are held.
	Release(ctx context.Context, ids []string) error
	// Look tells how jobs are; of those that the scheduler has forgotten, nothing.
	Look(ctx context.Context, ids []string) (map[string]Status, error)
	// Cancel ends jobs, whether they run or not. What has ended already is no error.
	Cancel(ctx context.Context, ids []string) error
}
