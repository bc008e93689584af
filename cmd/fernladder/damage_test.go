package main_test

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// If the disk fills up at any point, the command says so, nothing is broken, and the same
// command completes with more room.
func TestDisksThatFill(t *testing.T) {
	long(t)
	t.Parallel()
	if os.Getuid() != 0 {
		t.Skip("only root mounts a small disk")
	}
	for _, limit := range []string{"size=%dk", "nr_inodes=%d"} {
		for step := 1; step <= 12; step++ {
			t.Run(fmt.Sprintf(limit, step), func(t *testing.T) {
				t.Parallel()
				w := newBed(t)
				require.NoError(t, os.Mkdir(w.root, 0o755))
				small := fmt.Sprintf(limit, map[string]int{"size=%dk": 24, "nr_inodes=%d": 18}[limit]*step)
				require.NoError(t, syscall.Mount("small", w.root, "tmpfs", 0, small+",mode=755"))
				defer syscall.Unmount(w.root, syscall.MNT_DETACH)
				r := w.run("install", "moss", "stone")
				assert.Contains(t, []int{0, 1, 7}, r.status, r.stderr)
				if r.status == 1 { // then it is the build that was told, and says what is wrong
					assert.Regexp(t, `No space left|is full`, r.stderr)
				} else if r.status == 7 {
					assert.Contains(t, r.stderr, "is full")
				}
				w.whole(t)
				assert.Empty(t, w.orphans())
				require.NoError(t, syscall.Mount("small", w.root, "tmpfs", syscall.MS_REMOUNT, "size=200m,nr_inodes=100000"))
				w.must("install", "moss", "stone")
				w.whole(t)
				assert.Empty(t, w.litter(t))
			})
		}
	}
}

// A change of the landing that does not fit on the disk leaves the landing and the shared
// directory as they were.
func TestAFullDiskLeavesTheLanding(t *testing.T) {
	t.Parallel()
	if os.Getuid() != 0 {
		t.Skip("only root mounts a small disk")
	}
	w := newBed(t)
	require.NoError(t, os.Mkdir(w.root, 0o755))
	require.NoError(t, syscall.Mount("small", w.root, "tmpfs", 0, "size=20m,mode=755"))
	defer syscall.Unmount(w.root, syscall.MNT_DETACH)
	w.must("install", "stone")
	w.must("install", "moss")
	was := w.sh("readlink root/landing; find local").stdout
	w.sh("cat /dev/zero >root/filler")
	for _, command := range []string{"landing undo", "landing use 0", "remove moss"} {
		w.fails(7, strings.Fields(command), "is full")
		assert.Equal(t, was, w.sh("readlink root/landing; find local").stdout, command)
	}
	require.NoError(t, os.Remove(w.path("root/filler")))
	w.must("landing", "undo")
	w.whole(t)
	w.settledShared(t)
}

// A user who may only read can look, and nothing is written, whoever owns the root.
func TestAnotherUsersRoot(t *testing.T) {
	t.Parallel()
	if os.Getuid() != 0 {
		t.Skip("only root runs it as others")
	}
	w := newBed(t)
	w.must("install", "moss", "stone")
	w.write("fernladder.toml", w.read("fernladder.toml")+"[[advisories]]\npath = \"osv\"\n")
	w.write("osv/A.json", `{"id":"VALE-1","affected":[{"package":{"ecosystem":"npm","name":"moss"}}]}`)
	require.NoError(t, os.Chmod(w.dir, 0o755))
	before := listed(t, w.root)
	w.uid = 65534
	for _, command := range []string{"list", "show moss", "history", "files fern", "env", "env soil", "plan moss",
		"log fern", "clean", "check",
		"landing", "landing compare 0", "owner fern", "why fern", "compare fern moss", "mend", "tinker", "list --unused",
		"advisories"} {
		r := w.run(strings.Fields(command)...)
		assert.Equal(t, 0, r.status, "%s: %s", command, r.stderr)
	}
	for _, command := range []string{"install moss fern -o fern.tall=on", "remove moss", "clean --yes --trees",
		"upgrade stone", "landing undo", "landing use 0", "mend --fix", "tinker fern --in x"} {
		r := w.run(strings.Fields(command)...)
		assert.Equal(t, 7, r.status, "%s: %s%s", command, r.stdout, r.stderr)
		assert.Contains(t, r.stderr, "cannot be written by this user", command)
	}
	assert.Equal(t, before, listed(t, w.root))
	// Root does not write to a root, or a part of one, that another user can redirect.
	w.uid = 0
	for _, theirs := range []string{w.root, w.root + "/logs"} {
		require.NoError(t, os.Chown(theirs, 65534, 65534))
		for _, command := range []string{"install moss fern -o fern.tall=on", "remove moss", "clean --yes --trees",
			"lock moss", "advisories"} {
			w.fails(7, strings.Fields(command), "belongs to user 65534")
		}
		require.NoError(t, os.Chown(theirs, 0, 0))
	}
	// A command that only looks does not write where a link of theirs leads, either.
	require.NoError(t, errors.Join(os.Mkdir(w.dir+"/victim", 0o755), os.Remove(w.root+"/advisories"),
		os.Symlink(w.dir+"/victim", w.root+"/advisories"), os.Chown(w.root, 65534, 65534)))
	w.must("plan", "moss")
	assert.NoError(t, os.Remove(w.dir+"/victim"), "it is empty")
	require.NoError(t, errors.Join(os.Remove(w.root+"/advisories"), os.Chown(w.root, 0, 0)))
	// Nor to one below a directory in which another user can replace it by a link, or which a group
	// can write to.
	require.NoError(t, os.Chown(w.dir, 65534, 65534))
	w.fails(7, []string{"remove", "moss"}, w.dir+": it belongs to user 65534")
	require.NoError(t, os.Chown(w.dir, 0, 0))
	require.NoError(t, errors.Join(os.Chown(w.root, 0, 60), os.Chmod(w.root, 0o775)))
	w.fails(7, []string{"remove", "moss"}, w.root+": other users can write to it", "Run as a user who may install")
	require.NoError(t, errors.Join(os.Chmod(w.root, 0o755), os.Chown(w.root, 0, 0)))
	// On a read-only disk, root gets no advice to be another user.
	require.NoError(t, syscall.Mount(w.root, w.root, "", syscall.MS_BIND, ""))
	defer syscall.Unmount(w.root, syscall.MNT_DETACH)
	require.NoError(t, syscall.Mount("", w.root, "", syscall.MS_BIND|syscall.MS_REMOUNT|syscall.MS_RDONLY, ""))
	for _, command := range []string{"list", "show moss", "history", "plan moss", "advisories"} {
		assert.Equal(t, 0, w.run(strings.Fields(command)...).status, command)
	}
	w.fails(7, []string{"remove", "moss"}, "cannot be written")
}

// Damage to the landing is detected, and repaired where that is possible.
func TestBrokenLandings(t *testing.T) {
	t.Parallel()
	w := newBed(t)
	w.must("install", "moss", "stone")
	for what, do := range map[string]string{
		"bin is gone": "rm -r root/landing/bin", "its links are gone": "rm -r root/$(readlink root/landing)",
		"the link is gone": "rm root/landing",
		"a link is gone":   "rm root/landing/bin/stone",
	} {
		require.Equal(t, 0, w.sh(do).status)
		r := w.must("install", "moss", "stone")
		assert.NotContains(t, r.stdout, "Nothing to do", what)
		assert.Equal(t, "stone\n", w.sh("root/landing/bin/stone").stdout, what)
		assert.Contains(t, w.must("install", "moss", "stone").stdout, "Nothing to do", "and then it is whole")
	}
	// The current state survives the loss of any part of it.
	require.Equal(t, 0, w.sh("cp root/$(readlink root/landing).json saved; rm root/$(readlink root/landing).json").status)
	w.fails(7, []string{"remove", "stone"}, "this state of the landing is gone")
	assert.Equal(t, "stone\n", w.sh("root/landing/bin/stone").stdout, "and is in use")
	require.Equal(t, 0, w.sh("mv saved root/$(readlink root/landing).json").status)
	for what, c := range map[string][2]string{
		"a directory":      {"mv root/landing root/l; mkdir root/landing", "this should be a link to a numbered state"},
		"a link elsewhere": {"mv root/landing root/l; ln -s /tmp root/landing", "not to \"/tmp\""},
		"a state is gone": {"cp -P root/landing root/l; ln -sfn landings/999 root/landing",
			"this state of the landing is gone"},
	} {
		require.Equal(t, 0, w.sh(c[0]).status)
		w.fails(7, []string{"install", "moss"}, c[1], "fernladder landing use N")
		require.Equal(t, 0, w.sh("rm -rf root/landing; mv root/l root/landing").status, what)
	}
	w.must("install", "moss", "stone")
	// A root that was moved still refers to its old path.
	require.NoError(t, os.Rename(w.root, w.path("moved")))
	w.edit("fernladder.toml", "root = \"root\"", "root = \"moved\"")
	w.fails(7, []string{"install", "moss"}, "The root was moved")
}

// No named or discovered file makes the program hang: it reports at once what is wrong.
func TestPipesWhereFilesShouldBe(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.pkg("fern", script("place", place("fern")))
	w.must("install", "fern")
	settings := w.read("fernladder.toml")
	for _, c := range []struct {
		pipe, command string
		status        int
		says          string
	}{
		{"recipes/fern/recipe.toml", "check fern", 3, "not a regular file"},
		{"recipes/fern/recipe.toml", "plan fern", 3, "not a regular file"},
		{"ladder.lock", "plan fern", 3, "not a regular file"},
		{"other.toml", "list --settings other.toml", 3, "not a regular file"},
		{"secrets", "fetch moss", 3, "not a regular file"},
		{"recipes/moss/a.patch", "plan moss", 3, "there is no file recipes/moss/a.patch"},
		{"archive", "fetch moss", 5, "it is not a file"},
		{"archive", "draft archive", 5, "it is not a file"},
		{"supply", "supply moss supply", 2, "not a regular file"},
		{"root/trees/fern/*/share/fernladder/receipt.json", "show fern", 7, "not a regular file"},
		{"root/landings/1.json", "list", 7, "not a regular file"},
		{"root/history", "history", 7, "not a regular file"},
	} {
		w.pkg("moss", "[[supply]]\nfile = \"a\"\nsha256 = \""+strings.Repeat("0", 64)+"\"\nabout = \"x\"\n"+
			script("place", place("moss")))
		if c.pipe == "archive" {
			w.edit("recipes/moss/recipe.toml", "archives/moss.tar.gz", "archive")
			w.edit("recipes/moss/recipe.toml", "[[supply]]", "[[supply]]\nwhen = \"version < 1\"")
		}
		if strings.HasSuffix(c.pipe, ".patch") {
			w.edit("recipes/moss/recipe.toml", "version = \"1.0\"", "version = \"1.0\"\npatches = [\"a.patch\"]")
		}
		if c.pipe == "secrets" {
			w.write("fernladder.toml", w.read("fernladder.toml")+"credentials = \"secrets\"\n")
			w.edit("recipes/moss/recipe.toml", "[[supply]]", "[[supply]]\nwhen = \"version < 1\"")
		}
		paths := w.glob(c.pipe)
		if len(paths) == 0 {
			paths = []string{w.path(c.pipe)}
		}
		aside := paths[0] + ".aside"
		there := os.Rename(paths[0], aside) == nil
		require.NoError(t, syscall.Mkfifo(paths[0], 0o600))
		command := w.command(strings.Fields(c.command)...)
		timer := time.AfterFunc(20*time.Second, func() { command.Process.Kill() })
		r := w.finish(command)
		assert.True(t, timer.Stop(), "%s waits at %s", c.command, c.pipe)
		assert.Equal(t, c.status, r.status, "%s: %s%s", c.command, r.stdout, r.stderr)
		assert.Contains(t, r.stdout+r.stderr, c.says, c.command)
		w.write("fernladder.toml", settings)
		require.NoError(t, os.Remove(paths[0]))
		if there {
			require.NoError(t, os.Rename(aside, paths[0]))
		}
	}
}

// The first signal ends a command in order, the second immediately.
func TestTheSecondSignalEndsAtOnce(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	c := w.command("explain")
	in, err := c.StdinPipe()
	require.NoError(t, err)
	defer in.Close()
	require.NoError(t, c.Start())
	time.Sleep(300 * time.Millisecond)
	require.NoError(t, c.Process.Signal(syscall.SIGINT))
	time.Sleep(200 * time.Millisecond)
	c.Process.Signal(syscall.SIGINT)
	done := make(chan error)
	go func() { done <- c.Wait() }()
	select {
	case <-done:
	case <-time.After(5 * time.Second):
		c.Process.Kill()
		t.Fatal("it does not end")
	}
}

// Two simultaneous builds run as two users, and neither can access the other.
func TestBuildsCannotReachEachOther(t *testing.T) {
	long(t)
	t.Parallel()
	if os.Getuid() != 0 {
		t.Skip("builds of an ordinary user are that user's")
	}
	w := newWorld(t)
	other := "for d in " + w.root +
		"/work/*; do case $d in *$FL_NAME*) ;; *) ls $d/box && echo reached; touch $d/box/x && echo reached; esac; done; "
	wait := "id -u >uid; i=0; while [ $i -lt 30 ]; do " + other + " sleep 0.1; i=$((i+1)); done; :"
	for _, name := range []string{"fern", "moss"} {
		w.pkg(name, script("compile", wait, "place", place(name)+"; cp uid $DESTDIR$FL_PREFIX"))
	}
	w.must("build", "fern", "moss", "-j", "2", "--isolation", "fenced")
	users := map[string]bool{}
	for _, file := range w.glob("root/trees/*/*/uid") {
		data, err := os.ReadFile(file)
		require.NoError(t, err)
		users[string(data)] = true
	}
	assert.Len(t, users, 2)
	assert.NotContains(t, users, "0\n")
	for _, log := range w.glob("root/logs/*/compile.log") {
		text, err := os.ReadFile(log)
		require.NoError(t, err)
		assert.NotContains(t, string(text), "\nreached\n")
	}
	out, _ := exec.Command("find", "/run/fernladder", "-perm", "/022").Output()
	assert.Empty(t, string(out), "no other process holds their locks")
	w.write("fernladder.toml", w.read("fernladder.toml")+"build_users = \"0-10\"\n")
	w.fails(3, []string{"list"}, "the range is from 1")
	w.edit("fernladder.toml", "0-10", "1-10")
	w.must("remove", "--trees", "fern")
	w.fails(6, []string{"build", "fern", "--isolation", "sealed"}, "builds cannot run as the users 1-10: ",
		"build_users = \"FIRST-LAST\"")
	// Root without the means to switch users says what it lacks.
	c := exec.Command("setpriv", "--bounding-set=-setuid,-chown", "--inh-caps=-all", program, "build", "moss",
		"--isolation", "sealed")
	w.edit("fernladder.toml", "build_users = \"1-10\"", "")
	w.must("remove", "--trees", "moss")
	c.Dir, c.Env = w.dir, w.env
	if r := w.finish(c); assert.Equal(t, 6, r.status, r.stderr) {
		assert.Contains(t, r.stderr, "root lacks the capabilities CHOWN, SETUID here")
	}
}

// Variables that would take over every user's shell are refused, whatever their origin.
func TestVariablesThatTakeOver(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.pkg("fern", "[env]\nFERN_DATA = \"x\"\nLD_PRELOAD = \"$FL_PREFIX/lib/x.so\"\n"+script("place", place("fern")))
	w.fails(3, []string{"install", "fern"},
		"fern would set LD_PRELOAD for all users of the landing, which other programs may obey", "trusted_env = [\"fern\"]",
		"recipe.toml:")
	assert.Contains(t, w.must("check", "fern").stdout, "LD_PRELOAD")
	w.write("fernladder.toml", w.read("fernladder.toml")+"trusted_env = [\"fern\"]\n")
	w.must("install", "fern")
	assert.Contains(t, w.must("env").stdout, "export LD_PRELOAD=")
	w.edit("fernladder.toml", "trusted_env = [\"fern\"]", "")
	r := w.must("env")
	assert.NotContains(t, r.stdout, "LD_PRELOAD")
	assert.Contains(t, r.stdout, "export FERN_DATA='x'")
	assert.Contains(t, r.stderr, "LD_PRELOAD, which fern requests, is not set")
	assert.FileExists(t, filepath.Join(w.root, "landing/bin/fern"))
}

// Two simultaneous installs keep each other's entries in the lock file.
func TestTheLockFileForgetsNothing(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.write("ladder.lock", "format = 1\n")
	names := []string{"fern", "moss", "reed", "sage", "soil", "stone"}
	for i, name := range names {
		w.pkg(name, script("compile", fmt.Sprintf("sleep 0.%d", 9-i), "place", place(name)))
	}
	var wait sync.WaitGroup
	for _, name := range names {
		wait.Go(func() {
			r := w.run("install", name)
			assert.Equal(t, 0, r.status, r.stderr)
		})
	}
	wait.Wait()
	for _, name := range names {
		assert.Contains(t, w.read("ladder.lock"), "\""+name+"\"")
	}
}
