package main_test

import (
	"crypto/sha256"
	"encoding/hex"
	"flag"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fernladder/core/landing"
	"fernladder/core/recipe"
	"fernladder/core/store"
)

var (
	kills = flag.Int("kills", 40, "how often TestTorture kills the program")
	crowd = flag.Duration("crowd", 8*time.Second, "how long TestEightAtOnce goes on")
	race  = flag.Bool("racing", false, "have TestEightAtOnce look for data races, which takes a while to build")
	seed  = flag.Uint64("seed", 0, "of the random choices; 0 is a new one")
)

// buildProgram builds the program with extra flags for the compiler.
func buildProgram(t *testing.T, name string, flags ...string) string {
	file := filepath.Join(filepath.Dir(program), name)
	build := exec.Command("go", append(append([]string{"build"}, flags...), "-o", file, ".")...)
	build.Env = append(os.Environ(), "CGO_ENABLED="+
		map[bool]string{true: "1", false: "0"}[slices.Contains(flags, "-race")])
	out, err := build.CombinedOutput()
	require.NoError(t, err, string(out))
	return file
}

// newBed is a world for many changes: packages that depend on each other, in two versions, one
// with an edited configuration file.
func newBed(t *testing.T) *world {
	w := newWorld(t)
	need := func(name, role string) string {
		return "[[need]]\nrecipe = \"" + name + "\"\nrole = \"" + role + "\"\n"
	}
	w.pkg("soil", script("place", place("soil")))
	w.pkg("fern", need("soil", "library")+need("soil", "runtime")+
		"[option.tall]\nabout = \"Grow\"\ndefault = false\non = [\"x\"]\n"+
		script("compile", "for i in 1 2 3 4 5 6 7 8; do echo $i$FL_OPTION_TALL >leaf$i; done",
			"place", place("fern")+
				"; mkdir $DESTDIR$FL_PREFIX/share; cp leaf* $DESTDIR$FL_PREFIX/share; echo sample >$DESTDIR$FL_PREFIX/fern.conf")+
		"[[config]]\nfile = \"fern.conf\"\n[[try]]\nrun = \"fern\"\nexpect = \"fern\"\n")
	w.pkg("moss", need("fern", "runtime")+need("soil", "tool")+script("place", place("moss")))
	w.pkg("stone", script("place", place("stone")))
	w.pkg("weed", need("soil", "library")+script("place", place("weed"))+"[[try]]\nrun = \"exit 1\"\n")
	text := w.read("recipes/stone/recipe.toml")
	release := text[strings.Index(text, "[[release]]"):strings.Index(text, "[build]")]
	w.write("recipes/stone/recipe.toml",
		strings.Replace(text, release, release+strings.Replace(release, "1.0", "2.0", 1), 1))
	w.edit("fernladder.toml", "root = \"root\"\n",
		"root = \"root\"\nshared_landing = \"local\"\nkeep_landings = 3\nkeep_landings_days = 0\n")
	w.write("local/bin/alien", "theirs\n")
	w.write("local/bin/stone", "theirs\n")
	return w
}

// changes are the commands that change a root, with their exit statuses.
var changes = []struct {
	status  int
	command string
}{
	{0, "install moss"}, {0, "install moss stone"}, {0, "install stone:1.0"}, {0, "upgrade"},
	{0, "install fern -o tall=on"}, {0, "install moss fern -o fern.tall=off"},
	{0, "remove moss"}, {0, "remove stone fern moss --trees"}, {0, "remove --trees soil fern moss weed"},
	{1, "install weed"}, {0, "build stone:1.0 fern"},
	{0, "landing undo"}, {0, "landing use 0"}, {0, "mend --fix --rebuild"}, {0, "clean --trees --landings --yes"},
	{0, "clean --yes"}, {0, "clean --trees --yes"}, {0, "clean --trees --archives --yes"}, {0, "fetch moss stone"},
	{0, "install moss --isolation fenced"},
}

// whole checks everything that the documentation promises of a root at any instant.
func (w *world) whole(t require.TestingT) {
	s := &store.Store{Root: w.root}
	receipts, err := s.Receipts()
	require.NoError(t, err)
	for _, r := range receipts {
		w.wholeTree(t, s, r)
		for _, need := range r.Needs {
			require.True(t, need.Role == recipe.Tool || s.Installed(need.Ref), "%s stands on %s, which is gone", r.Ref, need.Ref)
		}
	}
	state, err := landing.Current(s)
	require.NoError(t, err)
	require.True(t, landing.Whole(s, state), "landing %d", state.Number)
	for _, m := range state.Members {
		require.True(t, s.Installed(m.Ref), "%s is on the landing and gone", m.Ref)
	}
	if state.Number > 0 {
		require.NoError(t, filepath.Walk(filepath.Join(w.root, "landings", fmt.Sprint(state.Number)),
			func(path string, info fs.FileInfo, err error) error {
				if err == nil && info.Mode()&fs.ModeSymlink != 0 {
					_, err = os.Stat(path)
				}
				return err
			}))
	}
	w.wholeShared(t)
	for _, file := range w.glob("root/archives/sha256/*") {
		if name := filepath.Base(file); !strings.Contains(name, ".") {
			require.Equal(t, name, sumOf(t, file))
		}
	}
	if data, err := os.ReadFile(w.root + "/config/fern/fern.conf"); err == nil {
		require.Contains(t, []string{"edited\n", "sample\n"}, string(data))
		if w.edited {
			require.Equal(t, "edited\n", string(data), "what somebody has edited stays")
		}
		require.NoError(t, os.WriteFile(w.root+"/config/fern/fern.conf", []byte("edited\n"), 0o644))
		w.edited = true
	}
	_, err = s.History().Latest("", 1000)
	require.NoError(t, err)
}

// wholeShared checks the shared directory: foreign files are unchanged, and everything else is
// links to the landing and directories of such links.
func (w *world) wholeShared(t require.TestingT) {
	for _, theirs := range []string{"alien", "stone"} {
		data, err := os.ReadFile(w.path("local/bin/" + theirs))
		require.NoError(t, err)
		require.Equal(t, "theirs\n", string(data))
	}
	require.NoError(t, filepath.WalkDir(w.path("local"), func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || strings.HasSuffix(path, "bin/alien") || strings.HasSuffix(path, "bin/stone") {
			return err
		}
		target, err := os.Readlink(path)
		if err == nil && !strings.HasPrefix(target, w.root+"/landing/") {
			err = fmt.Errorf("%s leads to %s", path, target)
		}
		return err
	}))
}

// settledShared checks that the shared directory has exactly the names of the landing.
func (w *world) settledShared(t require.TestingT) {
	var have, want []string
	require.NoError(t, filepath.WalkDir(w.path("local"), func(path string, d fs.DirEntry, err error) error {
		if err == nil && d.Type()&fs.ModeSymlink != 0 {
			have = append(have, strings.TrimPrefix(path, w.path("local")+"/"))
		}
		return err
	}))
	if real, err := filepath.EvalSymlinks(w.root + "/landing"); err == nil {
		require.NoError(t, filepath.WalkDir(real, func(path string, d fs.DirEntry, err error) error {
			if name := strings.TrimPrefix(path, real+"/"); err == nil && d.Type()&fs.ModeSymlink != 0 && name != "bin/stone" {
				want = append(want, name)
			}
			return err
		}))
	}
	require.Equal(t, want, have)
}

// wholeTree compares a tree with its list of files.
func (w *world) wholeTree(t require.TestingT, s *store.Store, r *store.Receipt) {
	files, err := s.Files(r.Ref)
	require.NoError(t, err)
	for _, f := range files {
		path := filepath.Join(r.Tree, f.Path)
		info, err := os.Lstat(path)
		require.NoError(t, err)
		require.Equal(t, f.Mode.IsDir(), info.IsDir(), path)
		if f.SHA256 != "" {
			require.Equal(t, f.SHA256, sumOf(t, path), path)
			require.Equal(t, f.Mode.Perm(), info.Mode().Perm(), path)
		}
		if f.Target != "" {
			target, err := os.Readlink(path)
			require.NoError(t, err)
			require.Equal(t, f.Target, target)
		}
	}
	require.NoError(t, filepath.Walk(r.Tree, func(path string, _ fs.FileInfo, err error) error {
		name := strings.TrimPrefix(path, r.Tree+"/")
		if err == nil && name != r.Tree && !strings.HasPrefix(name, "share/fernladder") &&
			!slices.ContainsFunc(files, func(f store.File) bool { return f.Path == name }) {
			err = fmt.Errorf("%s is in no list", path)
		}
		return err
	}))
}

func sumOf(t require.TestingT, file string) string {
	data, err := os.ReadFile(file)
	require.NoError(t, err)
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:])
}

// litter are files in a root that will never be used.
func (w *world) litter(t require.TestingT) (found []string) {
	filepath.Walk(w.root, func(path string, info fs.FileInfo, err error) error {
		if err == nil && strings.HasPrefix(info.Name(), ".") &&
			(strings.HasSuffix(info.Name(), ".new") || strings.HasSuffix(info.Name(), ".lent")) {
			found = append(found, path)
		}
		return nil
	})
	found = append(found, w.glob("root/work/scratch/*")...)
	found = append(append(found, w.glob("root/work/*.again")...), w.glob("root/work/room-*")...)
	for _, dir := range w.glob("root/trees/*/*") {
		if _, err := os.Stat(dir + "/share/fernladder/receipt.json"); err != nil {
			found = append(found, dir)
		}
	}
	for _, dir := range w.glob("root/landings/*") {
		if _, err := os.Stat(strings.TrimSuffix(dir, ".json") + ".json"); err != nil {
			found = append(found, dir)
		}
	}
	return found
}

// random is a reproducible source of choices.
func random(t *testing.T) *rand.Rand {
	number := *seed
	if number == 0 {
		number = rand.Uint64()
	}
	t.Logf("again: -seed %d", number)
	return rand.New(rand.NewPCG(number, 1))
}

// A machine can stop at any instant, and lose what was not synced by then, in any combination.
// So before each step, everything that it relies on must be synced: the files of a tree before
// its receipt, both before the landing links to them; and a receipt is deleted before anything
// of its tree.
func TestPowerLoss(t *testing.T) {
	long(t)
	t.Parallel()
	tortured := buildProgram(t, "fernladder-torture", "-tags", "torture")
	w := newBed(t)
	file := w.path("trace")
	w.env = append(w.env, "TORTURE_TRACE="+file)
	traced := func(args ...string) (lines []string) {
		t.Helper()
		require.NoError(t, os.WriteFile(file, nil, 0o600))
		c := exec.Command(tortured, args...)
		c.Dir, c.Env = w.dir, w.env
		out, err := c.CombinedOutput()
		require.NoError(t, err, string(out))
		return strings.Split(strings.TrimSpace(w.read("trace")), "\n")
	}
	lines := traced("install", "fern")
	at := func(from int, line string) int {
		t.Helper()
		i := slices.Index(lines[from:], line)
		require.GreaterOrEqual(t, i, 0, "%s is not done after line %d of\n%s", line, from, strings.Join(lines, "\n"))
		return from + i
	}
	ends := func(what string) (int, []string) {
		t.Helper()
		for i, line := range lines {
			if fields := strings.Split(line, "\t"); fields[0] == "rename" && strings.HasSuffix(fields[2], what) {
				return i, fields
			}
		}
		require.Fail(t, "nothing is renamed to "+what)
		return 0, nil
	}
	tree := w.glob("root/trees/fern/*")[0]
	moved, from := ends("/" + filepath.Base(tree))
	require.NoError(t, filepath.WalkDir(tree, func(path string, d fs.DirEntry, err error) error {
		below := strings.TrimPrefix(path, tree)
		switch {
		case err != nil || !d.IsDir() && !d.Type().IsRegular() || strings.HasSuffix(path, "/receipt.json"):
		case d.IsDir():
			assert.Contains(t, lines[:moved], "sync\t"+from[1]+below, "names in it")
		default:
			assert.Contains(t, lines[:moved], "sync\t"+from[1]+below, "what is in it")
		}
		return err
	}))
	placed := at(moved, "syncdir\t"+filepath.Dir(tree))
	receipt, written := ends(tree + "/share/fernladder/receipt.json")
	assert.Less(t, placed, receipt, "the tree has its name before its receipt is there")
	assert.Contains(t, lines[:receipt], "sync\t"+written[1])
	there := at(receipt, "syncdir\t"+filepath.Dir(written[2]))
	landed, link := ends("/root/landing")
	assert.Less(t, there, landed, "the landing leads to complete trees")
	state, written := ends("/landings/1.json")
	assert.Contains(t, lines[:state], "sync\t"+written[1])
	assert.Less(t, at(state, "syncdir\t"+w.root+"/landings"), landed)
	at(landed, "syncdir\t"+filepath.Dir(link[2]))

	lines = traced("remove", "--trees", "fern")
	gone := at(0, "remove\t"+tree+"/share/fernladder/receipt.json")
	noted := at(gone, "syncdir\t"+tree+"/share/fernladder")
	aside, _ := ends("/tree")
	assert.Less(t, noted, aside, "first it is no tree, then it goes")
}

// TestTorture kills the program at random instants, and just before and after every durable
// step, alone and with its whole process group. After each kill, all promises hold, and the same
// command runs to its end.
func TestTorture(t *testing.T) {
	long(t)
	t.Parallel()
	choices := random(t)
	tortured := buildProgram(t, "fernladder-torture", "-tags", "torture")
	w := newBed(t)
	took := map[string]time.Duration{}
	moments := map[string]int{}
	for i := range *kills {
		change := changes[choices.IntN(len(changes))]
		args := strings.Fields(change.command)
		c := exec.Command(tortured, args...)
		c.Dir, c.Env = w.dir, slices.Clone(w.env)
		c.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
		group := choices.IntN(2) == 0
		if group {
			c.Env = append(c.Env, "TORTURE_GROUP=1")
		}
		how := ""
		atMoment := choices.IntN(3) > 0
		if atMoment {
			most := max(10, moments[change.command])
			moment := 1 + choices.IntN(most)
			c.Env = append(c.Env, fmt.Sprintf("TORTURE_MOMENT=%d", moment))
			how = fmt.Sprintf("at moment %d", moment)
		}
		began := time.Now()
		require.NoError(t, c.Start())
		var timer *time.Timer
		if !atMoment {
			after := time.Duration(choices.Int64N(int64(max(took[change.command], 300*time.Millisecond))))
			how = fmt.Sprintf("after %s", after)
			timer = time.AfterFunc(after, func() {
				if group {
					syscall.Kill(-c.Process.Pid, syscall.SIGKILL)
				} else {
					c.Process.Kill()
				}
			})
		}
		c.Wait()
		if timer != nil {
			timer.Stop()
		}
		killed := !c.ProcessState.Exited()
		if killed && atMoment {
			moments[change.command] = moments[change.command] + 3 // there may be more of them
		}
		what := fmt.Sprintf("kill %d: %s, killed %s (group: %t): %t", i, change.command, how, group, killed)
		f := failing{t, what}
		require.Eventually(f, func() bool {
			return len(w.orphans()) == 0
		}, 10*time.Second, 10*time.Millisecond, "processes are left")
		w.whole(f)
		r := w.run(args...)
		took[change.command] = time.Since(began)
		require.True(f, r.status == change.status || explained(r), "status %d\n%s%s", r.status, r.stdout, r.stderr)
		w.whole(f)
		require.Empty(f, w.litter(f))
		if strings.HasPrefix(change.command, "install") && r.status == 0 && !strings.Contains(change.command, "weed") {
			w.settledShared(f)
		}
	}
	// And the history has every build that has a receipt.
	w.run("install", "weed") // which fails, and is written down
	var records []struct{ ID string }
	w.parsed(&records, "history", "-n", "100000")
	receipts, err := (&store.Store{Root: w.root}).Receipts()
	require.NoError(t, err)
	for _, r := range receipts {
		assert.True(t, slices.ContainsFunc(records, func(b struct{ ID string }) bool { return b.ID == r.ID }), r.Ref)
	}
}

// failing prints the steps with each failure.
type failing struct {
	*testing.T
	what string
}

func (f failing) Errorf(format string, args ...any) {
	f.T.Errorf("%s\n%s", f.what, fmt.Sprintf(format, args...))
}

// TestEightAtOnce lets eight programs change one root at once, for a while. Each command ends as
// it does alone, or explains its failure by the requests of the others.
func TestEightAtOnce(t *testing.T) {
	long(t)
	t.Parallel()
	random(t)
	if *race {
		was := program
		program = buildProgram(t, "fernladder-race", "-race")
		defer func() { program = was }()
	}
	w := newBed(t)
	if *race {
		// Dropping the rights of all threads only works in programs without C, and the race detector
		// needs C.
		w.isolation, w.uid = "open", 65534
		out, err := exec.Command("chown", "-R", fmt.Sprint(w.uid), w.dir).CombinedOutput()
		require.NoError(t, err, string(out))
	}
	var wait sync.WaitGroup
	var lock sync.Mutex
	ends := map[string]int{}
	end := time.Now().Add(*crowd)
	for i := range 8 {
		choices := rand.New(rand.NewPCG(*seed, uint64(i)))
		wait.Go(func() {
			for time.Now().Before(end) {
				change := changes[choices.IntN(len(changes))]
				if *race && strings.Contains(change.command, "fenced") {
					continue
				}
				if i == 7 {
					change.command, change.status = []string{"list", "show moss", "history", "files fern", "env",
						"plan moss"}[choices.IntN(6)], 0
				}
				r := w.run(strings.Fields(change.command)...)
				lock.Lock()
				ends[fmt.Sprintf("%s: %d", strings.Fields(change.command)[0], r.status)]++
				lock.Unlock()
				if r.status != change.status && !explained(r) {
					t.Errorf("%s ended with status %d, and says\n%s%s", change.command, r.status, r.stdout, r.stderr)
				}
				assert.NotContains(t, r.stderr, "DATA RACE")
				assert.NotContains(t, r.stderr, "panic")
			}
		})
	}
	wait.Wait()
	t.Log(ends)
	w.must("clean", "--yes")
	w.whole(t)
	assert.Empty(t, w.litter(t))
	assert.Empty(t, w.orphans())
}

// explained reports whether a command's message is caused by concurrent commands: another
// install needs its subject, or its subject is gone.
func explained(r result) bool {
	for _, why := range []string{" needs ", "is not built in", "removed while it was needed",
		"would be on the landing too", "runs with", "Nothing of", "has been removed", "nothing is installed",
		"there is no earlier landing", "cannot be used", "there is no landing"} {
		if strings.Contains(r.stderr, why) {
			return true
		}
	}
	return false
}

// TestRebuildsThatAreKilled kills the program at every moment of the rebuild of a damaged tree.
// The program in the tree works at all of them, and the next run repairs it.
func TestRebuildsThatAreKilled(t *testing.T) {
	long(t)
	t.Parallel()
	tortured := buildProgram(t, "fernladder-torture", "-tags", "torture")
	w := newBed(t)
	w.must("install", "fern")
	const most = 100
	for moment := 1; ; moment++ {
		require.Less(t, moment, most)
		require.Equal(t, 0, w.sh("cd root/trees/fern/* && echo rust >>share/leaf1").status)
		c := exec.Command(tortured, "mend", "--rebuild")
		c.Dir, c.Env = w.dir, append(slices.Clone(w.env), fmt.Sprintf("TORTURE_MOMENT=%d", moment))
		out, _ := c.CombinedOutput()
		f := failing{t, fmt.Sprintf("killed at moment %d: %s", moment, out)}
		require.Equal(f, "fern\n", w.sh("root/landing/bin/fern").stdout)
		if c.ProcessState.Exited() {
			break
		}
		r := w.run("mend", "--fix", "--rebuild")
		require.Zero(f, r.status, r.stdout+r.stderr)
		require.Contains(f, w.must("mend").stdout, "Nothing is wrong")
		w.whole(f)
		require.Empty(f, w.litter(f))
	}
	w.must("mend")
}
