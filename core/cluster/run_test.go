package cluster

import (
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fernladder/core/machine"
	"fernladder/core/store"
)

// Files that another user creates where runs are stored do not hide the runs of this user.
func TestRunsOfOthers(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root can make files of others")
	}
	m := &machine.Machine{Store: &store.Store{Root: t.TempDir()}}
	theirs := filepath.Join(runsDir(m), runPrefix+"theirs")
	require.NoError(t, os.MkdirAll(theirs, 0o755))
	require.NoError(t, syscall.Mkfifo(filepath.Join(theirs, runFile), 0o644))
	_, _, err := Runs(m)
	require.Error(t, err, "one of ours that cannot be read is told")
	require.NoError(t, os.Chown(theirs, 12345, 12345))
	runs, _, err := Runs(m)
	require.NoError(t, err)
	assert.Empty(t, runs)
}
