package main_test

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// clustered is a world with a batch scheduler of three nodes, a real one, on this machine.
func clustered(t *testing.T) *world {
	for _, program := range []string{"sbatch", "slurmctld", "slurmd", "munged"} {
		if _, err := exec.LookPath(program); err != nil || os.Geteuid() != 0 {
			t.Skip("no batch scheduler is here that could be started")
		}
	}
	script, err := filepath.Abs("../../demo/cluster.sh")
	require.NoError(t, err)
	dir, err := os.MkdirTemp("", "cluster-") // sockets have short paths
	require.NoError(t, err)
	t.Cleanup(func() {
		exec.Command("sh", script, "stop", dir).Run()
		os.RemoveAll(dir)
	})
	ctx, stop := context.WithTimeout(context.Background(), time.Minute)
	defer stop()
	out, err := exec.CommandContext(ctx, "sh", script, "start", dir).Output()
	require.NoError(t, err)
	conf := regexp.MustCompile(`SLURM_CONF='(.*)'`).FindSubmatch(out)
	require.NotNil(t, conf, string(out))
	t.Setenv("SLURM_CONF", string(conf[1]))
	w := newWorld(t)
	w.env = append(w.env, "SLURM_CONF="+string(conf[1]))
	w.write("fernladder.toml", w.read("fernladder.toml")+"\n[cluster]\nscheduler = \"slurm\"\nprocessors = 1\nmemory = 300\nminutes = 5\n")
	return w
}

// needing is a need of a library.
func needing(name string) string { return "[[need]]\nrecipe = \"" + name + "\"\nrole = \"library\"\n" }

func queued(t *testing.T) string {
	out, err := exec.Command("squeue", "-h", "-o", "%i %T %r").Output()
	require.NoError(t, err)
	return string(out)
}

// What would be submitted is shown without a scheduler, and without one nothing is.
func TestPlannedJobs(t *testing.T) {
	w := newWorld(t)
	w.pkg("moss", script("place", place("moss")))
	w.pkg("fern", needing("moss")+script("place", place("fern")))
	w.fails(2, []string{"build", "fern", "--cluster"}, "the settings say nothing of a cluster", "scheduler = \"slurm\"")
	settings := w.read("fernladder.toml")
	w.write("fernladder.toml", settings+"\n[cluster]\nscheduler = \"tray\"\n")
	w.fails(3, []string{"plan", "fern", "--cluster"}, "\"tray\" is no scheduler that is known here")
	w.write("fernladder.toml", settings+"\n[cluster]\nscheduler = \"slurm\"\nprocessors = 2\nmemory = 1\n")
	r := w.must("plan", "fern", "--cluster")
	assert.Regexp(t, `moss +1\.0 +2 +1 MiB +240\n +?fern +1\.0 +2 +1 MiB +240 +moss|moss +1\.0 +2 +1 MiB +240 *\nfern +1\.0 +2 +1 MiB +240 +moss`, r.stdout)
	assert.Contains(t, r.stdout, "2 jobs would be submitted to slurm.")
	w.must("build", "moss")
	w.must("remove", "--trees", "moss")
	assert.Regexp(t, `moss +1\.0 +2 +[1-9]\d+ MiB`, w.must("plan", "fern", "--cluster").stdout, "it has taken more")
	var planned struct {
		Jobs []struct{ Build struct{ Name string } }
	}
	w.parsed(&planned, "plan", "fern", "--cluster")
	assert.Len(t, planned.Jobs, 2)
}

// A ladder is built on the nodes as it is here; what fails takes along what stands on it
// and nothing else; and whatever happens, nothing waits in the queue afterwards, and the
// next run completes.
func TestOnACluster(t *testing.T) {
	w := clustered(t)
	file := func(name string) string { return script("place", place(name)) }
	w.pkg("moss", file("moss"))
	w.pkg("reed", needing("moss")+script("place", "echo 'reed.c:3:1: error: no leaf here'; exit 1"))
	w.pkg("sage", needing("moss")+file("sage"))
	w.pkg("fern", needing("reed")+needing("sage")+file("fern"))
	r := w.fails(1, []string{"build", "fern", "--cluster"}, "reed 1.0 failed in stage place", "reed.c:3:1: error: no leaf here", "Not built, because they stand on what failed: fern.")
	assert.Regexp(t, `sage 1\.0 +built in`, r.stderr)
	assert.Empty(t, queued(t))
	assert.Regexp(t, `reed +1\.0 .* failed in place`, w.must("history").stdout, "the history knows what nodes have done")
	assert.NotContains(t, w.must("log", "reed").stdout, "cannot", "logs are where they are otherwise")

	// What was planned is what is built, or nothing.
	w.pkg("reed", needing("moss")+file("reed"))
	w.must("install", "fern", "--cluster")
	assert.Contains(t, w.must("list", "--landing").stdout, "fern")
	assert.Contains(t, w.must("install", "fern", "--cluster").stdout, "Nothing to do")

	// The watcher is killed, and then interrupted; a job is ended by somebody.
	w.pkg("slow", script("place", "touch $FL_SOURCE/started; sleep 5; "+place("slow")))
	w.pkg("last", needing("slow")+file("last"))
	killed := w.command("build", "last", "--cluster")
	require.NoError(t, killed.Start())
	w.waitFor("root/work/slow-*/box/source/started")
	require.NoError(t, killed.Process.Kill())
	killed.Wait()
	assert.NotEmpty(t, queued(t))
	left := w.glob("root/work/cluster/run-*")
	interrupted := w.command("build", "last", "--cluster")
	require.NoError(t, interrupted.Start())
	require.Eventually(t, func() bool {
		now := w.glob("root/work/cluster/run-*")
		return len(now) == 1 && now[0] != left[0] && strings.Count(queued(t), "RUNNING") == 1
	}, 30*time.Second, 100*time.Millisecond, "what the first has left is ended")
	require.NoError(t, interrupted.Process.Signal(syscall.SIGINT))
	assert.Error(t, interrupted.Wait())
	require.Eventually(t, func() bool { return queued(t) == "" }, 30*time.Second, 100*time.Millisecond)
	assert.Empty(t, w.glob("root/work/cluster/run-*"))
	ended := make(chan result, 1)
	go func() { ended <- w.run("build", "last", "--cluster") }()
	require.Eventually(t, func() bool { return strings.Contains(queued(t), "RUNNING") || len(ended) > 0 }, 30*time.Second, 100*time.Millisecond)
	require.Empty(t, ended, "it has ended already")
	id, _, _ := strings.Cut(regexp.MustCompile(`\d+ RUNNING`).FindString(queued(t)), " ")
	require.NoError(t, exec.Command("scancel", id).Run())
	r = <-ended
	assert.Equal(t, 1, r.status)
	assert.Contains(t, r.stderr, "slow 1.0: the batch job "+id+" has ended (cancelled")
	assert.Contains(t, r.stderr, "Not built, because they stand on what failed: last.")
	w.must("build", "last", "--cluster")
	assert.Contains(t, w.must("mend").stdout, "All is sound")

	// What is short of memory is tried once more with twice as much, and those that stand on it.
	w.pkg("gourd", asking("perl")+script("place", "perl -e '$x = \"a\" x 200000000; sleep 5'; "+place("gourd")))
	w.pkg("seed", needing("gourd")+file("seed"))
	r = w.must("build", "seed", "--cluster")
	assert.Contains(t, r.stderr, "its job ran out of memory; once more with 600 MiB and 10 minutes")

	w.write("fernladder.toml", strings.Replace(w.read("fernladder.toml"), "minutes = 5", "minutes = 5\npartition = \"nowhere\"", 1))
	w.pkg("rust", file("rust"))
	w.fails(6, []string{"build", "rust", "--cluster"}, "sbatch refuses: ")
	assert.Empty(t, w.glob("root/work/cluster/run-*"))
}
