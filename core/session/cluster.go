package session

import (
	"context"
	"os"

	"fernladder/core/build"
	"fernladder/core/cluster"
)

// Runs are those on a cluster that are in progress, or have ended and were not looked at since,
// the oldest first; followed are those that another program watches.
func (s *Session) Runs() (runs []*cluster.Run, followed map[*cluster.Run]bool, err error) {
	return cluster.Runs(s.Machine)
}

// EndRun ends the jobs of a run on a cluster. What is built stays.
func (s *Session) EndRun(ctx context.Context, name string) error {
	return cluster.End(ctx, s.Machine, name)
}

// ExecuteOrder builds what the file of an order says, on a node of a cluster.
func (s *Session) ExecuteOrder(ctx context.Context, file string) error {
	return cluster.Execute(ctx, s.Machine, file)
}

// Shell runs a shell in the room of a package's failed build. Its terminal is opened when all else
// is ready, and is the caller's to close.
func (s *Session) Shell(ctx context.Context, r LadderRequest, terminal func() (*os.File, error)) (status int,
	err error) {
	r.NoDepots = true
	l, err := s.Ladder(ctx, r)
	if err != nil {
		return 0, err
	}
	if err := s.Store.Prepare(); err != nil {
		return 0, err
	}
	b, err := build.NewBuilder(ctx, s.Machine)
	if err != nil {
		return 0, err
	}
	in, err := terminal()
	if err != nil {
		return 0, err
	}
	return b.Shell(ctx, l.Asked()[0], in)
}
