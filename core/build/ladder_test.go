package build

import (
	"os/exec"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fernladder/core/machine"
	"fernladder/core/recipe"
	"fernladder/core/sandbox"
	"fernladder/core/store"
)

// A run only removes its own files at its end, not a build that another program has begun
// meanwhile.
func TestBuildsOfOthersAreNotEnded(t *testing.T) {
	s := &store.Store{Root: t.TempDir()}
	require.NoError(t, s.Prepare())
	b := &Builder{m: &machine.Machine{Store: s}}
	job := &Job{Ref: store.Ref{Name: "fern", Version: "1.0", ID: "aaaaaaaaaaaa"}, Recipe: &recipe.Recipe{}}
	left := exec.Command("sleep", "60")
	left.Env = []string{sandbox.Mark + "=" + dirsOf(s, job, false).stage}
	require.NoError(t, left.Start())
	ended := make(chan error)
	go func() { ended <- left.Wait() }()

	unlock, err := s.LockBuildNow(job.Ref)
	require.NoError(t, err)
	b.endLeft([]*Job{job})
	select {
	case <-ended:
		assert.Fail(t, "the build that holds the lock was ended")
	default:
		assert.NoError(t, syscall.Kill(left.Process.Pid, 0))
	}
	unlock()
	b.endLeft([]*Job{job})
	assert.ErrorContains(t, <-ended, "killed")
}
