package batch

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// standIn puts a program of that name before all others, which writes down its arguments
// and what it is given to read, and says what the text does.
func standIn(t *testing.T, name, text string) (said func() string) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte("#!/bin/sh\nprintf '%s\\n' \"$@\" >'"+dir+"/said'; cat >>'"+dir+"/said'\n"+text+"\n"), 0o755))
	t.Setenv("PATH", dir+":"+os.Getenv("PATH"))
	return func() string {
		data, err := os.ReadFile(filepath.Join(dir, "said"))
		require.NoError(t, err)
		return string(data)
	}
}

// A job is submitted with all that keeps it from waiting for ever, from running twice and
// from having the environment of who submits it; and comes to the node word for word.
func TestSubmit(t *testing.T) {
	said := standIn(t, "sbatch", "echo '17;vale'")
	j := Job{Name: "fl-fern-0123", Command: []string{"/opt/it's/fernladder", "at-node", "$HOME/a b"}, Dir: "/srv", Output: "/srv/100%j", Processors: 4, Memory: 300, Minutes: 5, After: []string{"3", "5"}}
	id, err := Slurm{Partition: "beds"}.Submit(context.Background(), j)
	require.NoError(t, err)
	assert.Equal(t, "17", id)
	for _, flag := range []string{"--dependency=afterok:3:5\n", "--kill-on-invalid-dep=yes\n", "--no-requeue\n", "--export=NIL\n", "--cpus-per-task=4\n", "--mem=300M\n", "--time=5\n", "--partition=beds\n", "--output=/srv/100%%j\n"} {
		assert.Contains(t, said(), flag)
	}
	assert.NotContains(t, said(), "--hold")
	assert.NotContains(t, said(), "--account")
	assert.True(t, strings.HasSuffix(said(), "#!/bin/sh\nexec '/opt/it'\\''s/fernladder' 'at-node' '$HOME/a b'\n"), said())

	j.After, j.Held = nil, true
	_, err = Slurm{}.Submit(context.Background(), j)
	require.NoError(t, err)
	assert.Contains(t, said(), "--hold\n")

	standIn(t, "sbatch", "echo 'sbatch: error: Batch job submission failed: Invalid account' >&2; exit 1")
	_, err = Slurm{}.Submit(context.Background(), j)
	assert.EqualError(t, err, "sbatch refuses: Batch job submission failed: Invalid account")
	standIn(t, "sbatch", "echo Submitted batch job 17")
	_, err = Slurm{}.Submit(context.Background(), j)
	assert.ErrorAs(t, err, new(*Refused))
	t.Setenv("PATH", t.TempDir())
	_, err = Slurm{}.Submit(context.Background(), j)
	assert.ErrorAs(t, err, new(*Absent))
}

func TestOnlyJobsAreCancelled(t *testing.T) {
	said := standIn(t, "scancel", "")
	require.NoError(t, Slurm{}.Cancel(context.Background(), []string{"17", "--user=fern", "", "18"}))
	assert.Equal(t, "--quiet\n17\n18\n", said())
	standIn(t, "scancel", "exit 1")
	require.NoError(t, Slurm{}.Cancel(context.Background(), []string{"--me"}))
}

func TestLook(t *testing.T) {
	standIn(t, "squeue", `printf '%s\n' '1|PENDING||Dependency' '2|RUNNING|bed1|None' '3|NODE_FAIL|bed2|NodeDown' '4|OUT_OF_MEMORY|bed1|x' '5|COMPLETED|bed1|None' '6|SOMETHING_NEW|bed1|' '9|RUNNING|bed3|somebody else' '|' 'nonsense'`)
	all, err := Slurm{}.Look(context.Background(), []string{"1", "2", "3", "4", "5", "6", "7"})
	require.NoError(t, err)
	assert.Equal(t, map[string]Status{"1": {Waiting, "", "Dependency"}, "2": {Running, "bed1", "None"}, "3": {Lost, "bed2", "NodeDown"}, "4": {OutOfMemory, "bed1", "x"}, "5": {Done, "bed1", "None"}, "6": {Failed, "bed1", ""}}, all, "what is forgotten, and what is another's, is not there")
	assert.True(t, all["6"].State.Ended() && !all["1"].State.Ended() && !all["2"].State.Ended())
}
