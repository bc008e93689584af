package main_test

import (
	"bufio"
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

// clustered is a world with a real batch scheduler of three nodes on this machine.
func clustered(t *testing.T) *world {
	// Only the cluster's tests read these, one after the other.
	os.Setenv("PATH", os.Getenv("PATH")+":/usr/sbin")
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
	out, err := exec.CommandContext(ctx, "sh", script, "start", dir).CombinedOutput()
	if err != nil {
		t.Skip("no batch scheduler can be started here: " + string(out))
	}
	conf := regexp.MustCompile(`SLURM_CONF='(.*)'`).FindSubmatch(out)
	require.NotNil(t, conf, string(out))
	os.Setenv("SLURM_CONF", string(conf[1]))
	w := newWorld(t)
	w.env = append(w.env, "SLURM_CONF="+string(conf[1]))
	w.write("fernladder.toml", w.read("fernladder.toml")+
		"\n[cluster]\nscheduler = \"slurm\"\nprocessors = 1\nmemory = 300\nminutes = 5\n")
	return w
}

// needing is a need of a library.
func needing(name string) string { return "[[need]]\nrecipe = \"" + name + "\"\nrole = \"library\"\n" }

func queued(t *testing.T) string {
	out, err := exec.Command("squeue", "-h", "-o", "%i %T %r").Output()
	require.NoError(t, err)
	return string(out)
}

// other installs another version of a package on a node.
func other(t *testing.T, w *world, node string) {
	conf := os.Getenv("SLURM_CONF")
	status, err := os.ReadFile("/var/lib/dpkg/status")
	require.NoError(t, err)
	at := strings.Index(string(status), "\nPackage: tar\n")
	require.Positive(t, at)
	version := strings.Index(string(status)[at:], "\nVersion: ") + at + len("\nVersion: ")
	end := strings.Index(string(status)[version:], "\n") + version
	w.write("status", string(status[:version])+"9.9-1"+string(status[end:]))
	pid := filepath.Join(filepath.Dir(conf), "slurmd-"+node+".pid")
	number, err := os.ReadFile(pid)
	require.NoError(t, err)
	script := "kill " + strings.TrimSpace(string(number)) + "; while [ -e '" + pid +
		"' ]; do sleep 0.1; done; mount --bind '" + filepath.Join(w.dir, "status") +
		"' /var/lib/dpkg/status && exec slurmd -N " + node
	out, err := exec.Command("unshare", "-m", "sh", "-c", script).CombinedOutput()
	require.NoError(t, err, string(out))
}

// The planned jobs are shown without a scheduler; without one, nothing is submitted.
func TestPlannedJobs(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.pkg("moss", script("place", place("moss")))
	w.pkg("fern", needing("moss")+script("place", place("fern")))
	w.fails(2, []string{"build", "fern", "--cluster"}, "the settings have no [cluster]", "scheduler = \"slurm\"")
	settings := w.read("fernladder.toml")
	w.write("fernladder.toml", settings+"\n[cluster]\nscheduler = \"tray\"\n")
	w.fails(3, []string{"plan", "fern", "--cluster"}, "\"tray\" is not a known scheduler")
	w.write("fernladder.toml", settings+"\n[cluster]\nscheduler = \"slurm\"\nprocessors = 2\nmemory = 1\n")
	r := w.must("plan", "fern", "--cluster")
	assert.Regexp(t, `moss 1\.0 +2 +1 MiB +240 *\nfern 1\.0 +2 +1 MiB +240 +moss`, r.stdout)
	assert.Contains(t, r.stdout, "2 jobs would be submitted to slurm.")
	w.must("build", "moss")
	w.must("remove", "--trees", "moss")
	w.write("recipes/fern/recipe.toml", strings.Replace(w.read("recipes/fern/recipe.toml"), "[build]",
		"[build]\nmemory = 77\nminutes = 3", 1))
	r = w.must("plan", "fern", "--cluster")
	assert.Regexp(t, `moss 1\.0 +2 +[1-9]\d+ MiB +10`, r.stdout, "it has taken more memory, and little time")
	assert.Regexp(t, `fern 1\.0 +2 +77 MiB +3 `, r.stdout, "as its recipe says, while nothing is known")
	var planned struct {
		Jobs []struct{ Builds []struct{ Name string } }
	}
	w.parsed(&planned, "plan", "fern", "--cluster")
	assert.Len(t, planned.Jobs, 2)
	assert.Equal(t, "moss", planned.Jobs[0].Builds[0].Name)
}

// A ladder is built on the nodes as it is locally; a failure stops only its dependents; no job
// stays in the queue, and the next run completes the ladder.
func TestOnACluster(t *testing.T) {
	long(t)
	t.Parallel()
	w := clustered(t)
	file := func(name string) string { return script("place", place(name)) }
	w.pkg("moss", file("moss"))
	w.pkg("reed", needing("moss")+script("place", "echo 'reed.c:3:1: error: no leaf here'; exit 1"))
	w.pkg("sage", needing("moss")+file("sage"))
	w.pkg("fern", needing("reed")+needing("sage")+file("fern"))
	r := w.fails(1, []string{"build", "fern", "--cluster"}, "reed 1.0 failed in stage place",
		"reed.c:3:1: error: no leaf here", "Not built, because they depend on what failed: fern.")
	assert.Regexp(t, `sage 1\.0 +built in`, r.stderr)
	assert.Empty(t, queued(t))
	assert.Regexp(t, `reed +1\.0 .* failed in place`, w.must("history").stdout, "the history knows what nodes have done")
	assert.NotContains(t, w.must("log", "reed").stdout, "cannot", "logs are where they are otherwise")

	// A run builds exactly what was planned, or nothing.
	w.pkg("reed", needing("moss")+file("reed"))
	w.must("install", "fern", "--cluster")
	assert.Contains(t, w.must("list", "--landing").stdout, "fern")
	assert.Contains(t, w.must("install", "fern", "--cluster").stdout, "Nothing to do")

	// The watcher is killed, and then interrupted; a user cancels a job.
	w.pkg("slow", script("place", "touch $FL_SOURCE/started; sleep 5; "+place("slow")))
	w.pkg("last", needing("slow")+file("last"))
	killed := w.command("build", "last", "--cluster")
	require.NoError(t, killed.Start())
	w.waitFor("root/work/slow-*/box/source/started")
	require.NoError(t, killed.Process.Kill())
	killed.Wait()
	assert.NotEmpty(t, queued(t))
	left := w.glob("root/work/cluster/run-*")
	w.fails(2, []string{"follow", "none"}, "there is no run none")
	interrupted := w.command("build", "last", "--cluster")
	said, err := interrupted.StderrPipe()
	require.NoError(t, err)
	require.NoError(t, interrupted.Start())
	line, err := bufio.NewReader(said).ReadString('\n')
	require.NoError(t, err)
	assert.Contains(t, line, "the same command started the run", "what the first has submitted goes on")
	assert.Equal(t, left, w.glob("root/work/cluster/run-*"))
	require.NoError(t, interrupted.Process.Signal(syscall.SIGINT))
	assert.Error(t, interrupted.Wait())
	require.Eventually(t, func() bool { return queued(t) == "" }, 30*time.Second, 100*time.Millisecond)
	assert.Empty(t, w.glob("root/work/cluster/run-*"))
	ended := make(chan result, 1)
	go func() { ended <- w.run("build", "last", "--cluster") }()
	require.Eventually(t, func() bool {
		return strings.Contains(queued(t), "RUNNING") || len(ended) > 0
	}, 30*time.Second, 100*time.Millisecond)
	require.Empty(t, ended, "it has ended already")
	w.fails(7, []string{"follow"}, "another fernladder is already following the run")
	id, _, _ := strings.Cut(regexp.MustCompile(`\d+ RUNNING`).FindString(queued(t)), " ")
	require.NoError(t, exec.Command("scancel", id).Run())
	r = <-ended
	assert.Equal(t, 1, r.status)
	assert.Contains(t, r.stderr, "slow 1.0: the batch job "+id+" has ended (cancelled")
	assert.Contains(t, r.stderr, "Not built, because they depend on what failed: last.")
	w.must("build", "last", "--cluster")
	assert.Contains(t, w.must("mend").stdout, "Nothing is wrong")

	// A watcher that was cut off can come back, even if that was before the jobs began.
	w.pkg("rush", script("place", "sleep 2; "+place("rush")))
	w.pkg("vine", needing("rush")+file("vine"))
	assert.Contains(t, w.must("install", "vine", "--cluster", "--detach").stdout, "The run ")
	w.fails(1, []string{"show", "vine"}, "vine")
	require.Eventually(t, func() bool { return queued(t) == "" }, 30*time.Second, 100*time.Millisecond)
	r = w.must("follow")
	assert.Contains(t, r.stderr, "install vine")
	assert.Contains(t, r.stdout, "+ vine 1.0")
	assert.Contains(t, w.must("list", "--landing").stdout, "vine")
	assert.Contains(t, w.must("history").stdout, "rush", "what was built meanwhile is in the history")
	assert.Contains(t, w.must("follow").stdout, "No run is in progress.")
	w.pkg("hung", script("place", "sleep 60; "+place("hung")))
	gone := w.command("build", "hung", "--cluster")
	require.NoError(t, gone.Start())
	require.Eventually(t, func() bool {
		return strings.Contains(queued(t), "RUNNING")
	}, 30*time.Second, 100*time.Millisecond)
	require.NoError(t, gone.Process.Signal(syscall.SIGHUP))
	gone.Wait()
	assert.NotEmpty(t, queued(t), "whose terminal is gone leaves the jobs to go on")
	w.must("follow", "--end")
	assert.Empty(t, queued(t))
	person := w.terminal("build", "hung", "--cluster")
	require.Eventually(t, func() bool {
		return strings.Contains(queued(t), "RUNNING")
	}, 30*time.Second, 100*time.Millisecond)
	person.press("\x03")
	person.wait("End them? [y/N]")
	person.press("\n")
	person.wait("continues, with 1 job.")
	assert.Equal(t, 130, person.end())
	assert.Contains(t, queued(t), "RUNNING")
	person = w.terminal("follow")
	person.wait("build hung")
	time.Sleep(time.Second)
	person.press("\x03")
	person.wait("End them? [y/N]")
	person.press("y\n")
	assert.Equal(t, 130, person.end())
	assert.Empty(t, queued(t))
	assert.Empty(t, w.glob("root/work/cluster/run-*"))

	// Small packages share a job; a failure in it stops only its dependents, even if the scheduler
	// cancels more.
	w.must("remove", "fern", "vine")
	for _, name := range []string{"moss", "reed", "sage", "fern"} {
		os.RemoveAll(filepath.Join(w.dir, "root/trees", name))
	}
	assert.Contains(t, w.must("plan", "fern", "--cluster").stdout, "1 job would be submitted")
	w.pkg("ivy", needing("reed")+script("place", "sleep 4; "+place("ivy")))
	w.pkg("reed", needing("moss")+script("place", "exit 1"))
	w.pkg("arch", needing("sage")+needing("moss")+script("place", "sleep 4; "+place("arch")))
	w.pkg("wall", needing("arch")+needing("ivy")+needing("fern")+file("wall"))
	r = w.fails(1, []string{"build", "wall", "--cluster"}, "reed 1.0 failed in stage place")
	assert.Regexp(t, `sage 1\.0 +built`, r.stderr)
	assert.Regexp(t, `arch 1\.0 +built`, r.stderr)
	assert.Empty(t, queued(t))

	// A node with other packages is not used, and nothing of the ladder is lost.
	other(t, w, "bed3")
	w.pkg("dune", file("dune"))
	require.NoError(t, exec.Command("scontrol", "update", "nodename=bed1,bed2", "state=drain", "reason=test").Run())
	waits := make(chan result, 1)
	go func() { waits <- w.run("build", "dune", "--cluster") }()
	require.Eventually(t, func() bool {
		return strings.Contains(queued(t), "ReqNodeNotAvail")
	}, 30*time.Second, 100*time.Millisecond)
	require.NoError(t, exec.Command("scontrol", "update", "nodename=bed1,bed2", "state=resume").Run())
	r = <-waits
	assert.Equal(t, 0, r.status, r.stderr)
	assert.Contains(t, r.stderr, "package tar: 9.9-1 there, ")

	// No more jobs run at once than the settings allow.
	settings := w.read("fernladder.toml")
	w.write("fernladder.toml", settings+"most_jobs = 1\n")
	for _, name := range []string{"kale", "mint", "dill"} {
		w.pkg(name, script("place", "sleep 1; "+place(name)))
	}
	few := make(chan result, 1)
	go func() { few <- w.run("build", "kale", "mint", "dill", "--cluster") }()
	for len(few) == 0 {
		assert.LessOrEqual(t, strings.Count(queued(t), "RUNNING"), 1)
		time.Sleep(100 * time.Millisecond)
	}
	r = <-few
	assert.Equal(t, 0, r.status, r.stderr)
	w.write("fernladder.toml", settings)

	// A job that no node can run does not wait forever.
	w.pkg("oak", file("oak"))
	w.write("recipes/oak/recipe.toml", strings.Replace(w.read("recipes/oak/recipe.toml"), "[build]",
		"[build]\nmemory = 99999999", 1))
	w.fails(1, []string{"build", "oak", "--cluster"}, "oak 1.0: no node can run the batch job ", "BadConstraints")
	assert.Empty(t, queued(t))

	// A job that runs out of memory is tried once more with twice as much, as are its dependents.
	w.pkg("gourd", asking("perl")+script("place", "perl -e '$x = \"a\" x 200000000; sleep 5'; "+place("gourd")))
	w.pkg("seed", needing("gourd")+file("seed"))
	r = w.must("build", "seed", "--cluster")
	assert.Contains(t, r.stderr, "its job ran out of memory; trying again with 600 MiB and 10 minutes")

	w.write("fernladder.toml", strings.Replace(w.read("fernladder.toml"), "minutes = 5",
		"minutes = 5\npartition = \"nowhere\"", 1))
	w.pkg("rust", file("rust"))
	w.fails(6, []string{"build", "rust", "--cluster"}, "sbatch refuses: ")
	assert.Empty(t, w.glob("root/work/cluster/run-*"))
}
