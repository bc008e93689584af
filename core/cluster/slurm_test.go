package cluster

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// standIn puts a program with that name before all others; it records its arguments and input,
// and runs the text.
func standIn(t *testing.T, name, text string) (said func() string) {
	dir := t.TempDir()
	require.NoError(t,
		os.WriteFile(filepath.Join(dir, name), []byte("#!/bin/sh\nprintf '%s\\n' \"$@\" >'"+dir+"/said'; cat >>'"+dir+
			"/said'\n"+text+"\n"), 0o755))
	t.Setenv("PATH", dir+":"+os.Getenv("PATH"))
	return func() string {
		data, err := os.ReadFile(filepath.Join(dir, "said"))
		require.NoError(t, err)
		return string(data)
	}
}

// A job is submitted with everything that prevents it from waiting forever, running twice or
// inheriting the submitter's environment, and reaches the node unchanged.
func TestSubmit(t *testing.T) {
	said := standIn(t, "sbatch", "echo '17;vale'")
	j := batchJob{Name: "fl-fern-0123", Command: []string{"/opt/it's/fernladder", "at-node", "$HOME/a b"}, Dir: "/srv",
		Output: "/srv/100%j", Processors: 4, Memory: 300, Minutes: 5, After: []string{"3", "5"}, Behind: []string{"4"},
		Avoid: []string{"bed1", "bed2"}, Environment: []string{"FERN=it's $HOME"}}
	id, err := slurm{Partition: "beds"}.Submit(context.Background(), j)
	require.NoError(t, err)
	assert.Equal(t, "17", id)
	for _, flag := range []string{"--dependency=afterany:4,afterok:3:5\n", "--exclude=bed1,bed2\n",
		"--kill-on-invalid-dep=yes\n", "--no-requeue\n", "--export=NIL\n", "--cpus-per-task=4\n", "--mem=300M\n",
		"--time=5\n", "--partition=beds\n", "--output=/srv/100%%j\n"} {
		assert.Contains(t, said(), flag)
	}
	assert.NotContains(t, said(), "--hold")
	assert.NotContains(t, said(), "--account")
	assert.True(t,
		strings.HasSuffix(said(),
			"#!/bin/sh\nexport FERN='it'\\''s $HOME'\nexec '/opt/it'\\''s/fernladder' 'at-node' '$HOME/a b'\n"), said())

	j.After, j.Behind, j.Avoid, j.Held = nil, nil, nil, true
	_, err = slurm{}.Submit(context.Background(), j)
	require.NoError(t, err)
	assert.Contains(t, said(), "--hold\n")

	standIn(t, "sbatch", "echo 'sbatch: error: Batch job submission failed: Invalid account' >&2; exit 1")
	_, err = slurm{}.Submit(context.Background(), j)
	assert.EqualError(t, err, "sbatch refuses: Batch job submission failed: Invalid account")
	standIn(t, "sbatch", "echo Submitted batch job 17")
	_, err = slurm{}.Submit(context.Background(), j)
	assert.ErrorIs(t, err, Refused)
	t.Setenv("PATH", t.TempDir())
	_, err = slurm{}.Submit(context.Background(), j)
	assert.ErrorIs(t, err, Absent)
}

func TestOnlyJobsAreCancelled(t *testing.T) {
	said := standIn(t, "scancel", "")
	require.NoError(t, slurm{}.Cancel(context.Background(), []string{"17", "--user=fern", "", "18"}))
	assert.Equal(t, "--quiet\n17\n18\n", said())
	standIn(t, "scancel", "exit 1")
	require.NoError(t, slurm{}.Cancel(context.Background(), []string{"--me"}))
}

func TestLook(t *testing.T) {
	standIn(t, "squeue", "echo 'slurm_load_jobs error: Unable to contact slurm controller (connect failure)' >&2; exit 1")
	_, err := slurm{}.Look(context.Background(), "fl-7-")
	assert.ErrorIs(t, err, Silent)
	said := standIn(t, "sbatch", "echo 17")
	_, err = slurm{}.Submit(context.Background(), batchJob{Name: "fl-7-1-x", Command: []string{"true"}})
	require.NoError(t, err)
	assert.NotContains(t, said(), "--dependency")
	assert.NotContains(t, said(), "--exclude")
	standIn(t, "sinfo", "echo '4|1000'")
	for _, none := range [][2]int{{0, 1}, {1, 0}} {
		room, err := slurm{}.Room(context.Background(), none[0], none[1])
		require.NoError(t, err)
		assert.Zero(t, room)
	}
	standIn(t, "squeue",
		`printf '%s\n' '1|PENDING||Dependency|fl-7-1-moss' '2|RUNNING|bed1|None|fl-7-2-fern+3' '3|NODE_FAIL|bed2|NodeDown`+
			`|fl-7-3-x' '4|OUT_OF_MEMORY|bed1|x|fl-7-4-x' '5|COMPLETED|bed1|None|fl-7-5-x' '6|SOMETHING_NEW|bed1|`+
			`|fl-7-6-x' '9|RUNNING|bed3|of another run|fl-71-1-x' '--me|RUNNING|bed3|None|fl-7-9-x' '7|PENDING|`+
			`|BadConstraints|fl-7-7-x' '10|RUNNING|bed3|None|a|b' '|' 'nonsense'`)
	all, err := slurm{}.Look(context.Background(), "fl-7-")
	require.NoError(t, err)
	assert.Equal(t, []Status{{"1", "fl-7-1-moss", Queued, "", "Dependency"},
		{"2", "fl-7-2-fern+3", Running, "bed1", "None"}, {"3", "fl-7-3-x", Lost, "bed2", "NodeDown"},
		{"4", "fl-7-4-x", OutOfMemory, "bed1", "x"},
		{"5", "fl-7-5-x", Finished, "bed1", "None"}, {"6", "fl-7-6-x", Queued, "bed1", "SOMETHING_NEW"},
		{"7", "fl-7-7-x", Impossible, "", "BadConstraints"}}, all, "what is forgotten, and what is another's, is not there")
	assert.True(t, all[4].State.ended() && !all[5].State.ended() && !all[0].State.ended() && !all[1].State.ended() &&
		!all[6].State.ended())
}

// The number of jobs that nodes can run at once depends on processors and memory.
func TestRoom(t *testing.T) {
	said := standIn(t, "sinfo", `printf '%s\n' '8|16000' '2|64000' '1|9000' 'n/a|x'`)
	room, err := slurm{Partition: "beds"}.Room(context.Background(), 2, 4000)
	require.NoError(t, err)
	assert.Equal(t, 4+1, room)
	assert.Contains(t, said(), "--partition=beds\n")
}
