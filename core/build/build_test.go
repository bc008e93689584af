package build

import (
	"context"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fernladder/core/recipe"
	"fernladder/core/resolve"
	"fernladder/core/sandbox"
	"fernladder/core/store"
	"fernladder/core/tomlfile"
)

// jobs plans the jobs of a small ladder: plan needs lib, which needs base, and is built with
// tool, which runs with helper.
func jobs(t *testing.T, build string) (Target, []*Job) {
	dir := t.TempDir()
	need := func(name, role string) string {
		return "[[need]]\nrecipe = \"" + name + "\"\nrole = \"" + role + "\"\n"
	}
	for name, more := range map[string]string{
		"base": "", "helper": "", "lib": need("base", "library"), "tool": need("helper", "runtime"),
		"plan": need("lib", "library") + need("tool", "tool") + build,
	} {
		text := "format = 1\n[package]\nname = \"" + name +
			"\"\nsummary = \"x\"\n[[release]]\nversion = \"1\"\narchive = \"file:///x\"\nsha256 = \"" +
			strings.Repeat("0", 64) + "\"\n"
		if !strings.Contains(more, "[build]") {
			more += "[build]\nmethod = \"make\"\n"
		}
		require.NoError(t, os.MkdirAll(filepath.Join(dir, name), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name, recipe.FileName), []byte(text+more), 0o644))
	}
	shelves := recipe.NewShelves([]recipe.Shelf{{Dir: dir, Shown: "s"}})
	ladder, err := resolve.Solve(context.Background(), shelves, resolve.Request{Wanted: []resolve.Wanted{{Name: "plan"}}})
	require.NoError(t, err)
	target := Target{Store: &store.Store{Root: "/R"}, Path: []string{"/usr/bin", "/bin"}, Jobs: 4}
	planned, err := Plan(ladder, target)
	require.NoError(t, err)
	return target, planned
}

// short removes the ids from a text and shortens the directories in it.
func short(job *Job, text string) string {
	for _, j := range append(job.Needs, job) {
		text = strings.ReplaceAll(text, "-"+j.ID, "")
		for _, below := range j.Needs {
			text = strings.ReplaceAll(text, "-"+below.ID, "")
		}
	}
	text = strings.ReplaceAll(text, "/R/work/plan-1/box/", "W/")
	return strings.ReplaceAll(text, "/R/trees/", "T/")
}

func TestStagesOfTheMethods(t *testing.T) {
	for _, c := range []struct {
		build string
		want  []string
	}{
		{"method = \"configure\"\nargs = [\"--with=$FL_TREE_LIB\"]", []string{
			"configure W/build: W/source/configure --prefix=T/plan/1 --with=T/lib/1 --disable-static",
			"compile W/build: make (shared)", "place W/build: make install DESTDIR=W/stage"}},
		{"method = \"configure\"\nin_tree = true\nparallel = false", []string{
			"configure W/source: ./configure --prefix=T/plan/1 --disable-static", "compile W/source: make",
			"place W/source: make install DESTDIR=W/stage"}},
		{"method = \"meson\"", []string{
			"configure W/build: meson setup W/build W/source --prefix=T/plan/1 --libdir=lib --buildtype=release " +
				"--wrap-mode=nodownload -Ddefault_library=shared",
			"compile W/build: ninja -j$FL_JOBS (leased)", "place W/build: meson install --no-rebuild"}},
		{"method = \"make\"\nargs = [\"all\", \"A=$FL_JOBS\"]", []string{
			"compile W/source: make all PREFIX=T/plan/1 prefix=T/plan/1 A=4 (shared)",
			"place W/source: sh -c " + makeUsual + " sh W/stageT/plan/1 T/plan/1",
			"place W/source: make install DESTDIR=W/stage PREFIX=T/plan/1 prefix=T/plan/1 A=4",
			"place W/source: sh -c " + removeUsual + " sh W/stageT/plan/1 T/plan/1"}},
		{"method = \"make\"\n[steps]\nbefore_configure = '''a'''\nbefore_compile = '''b'''\nafter_compile = " +
			"'''c'''\ncheck = '''d'''\nplace = '''e'''", []string{
			"configure W/source: sh -e -c a (shared)", "compile W/source: sh -e -c b (shared)",
			"compile W/source: make PREFIX=T/plan/1 prefix=T/plan/1 (shared)", "compile W/source: sh -e -c c (shared)",
			"check W/source: sh -e -c d (shared)", "place W/source: sh -e -c e (shared)"}},
	} {
		_, planned := jobs(t, "[build]\n"+c.build)
		job := planned[len(planned)-1]
		var got []string
		for _, s := range job.Stages[1:] {
			for _, command := range s.Commands {
				line := s.Name + " " + command.Dir + ": " + strings.Join(command.Argv, " ")
				got = append(got, short(job, line)+[]string{"", " (shared)", " (leased)"}[command.Jobs])
			}
		}
		assert.Equal(t, c.want, got)
		assert.Equal(t, StageUnpack, job.Stages[0].Name)
	}
}

func TestBuildsFindTheirNeedsAndNothingElse(t *testing.T) {
	t.Setenv("CFLAGS", "-from-outside")
	target, planned := jobs(t,
		"[build]\nmethod = \"make\"\n[build.env]\nCPPFLAGS = \"-DMINE\"\nPATH = \"$FL_SOURCE/bin\"\nCC = \"gcc\"")
	job := planned[len(planned)-1]
	env := map[string]string{}
	for _, pair := range environment(target, job, dirsOf(target.Store, job, false),
		time.Date(2026, 3, 20, 12, 0, 0, 0, time.UTC)) {
		name, value, _ := strings.Cut(pair, "=")
		env[name] = short(job, value)
	}
	assert.Equal(t,
		"W/source/bin:T/lib/1/bin:T/lib/1/sbin:T/tool/1/bin:T/tool/1/sbin:T/helper/1/bin:T/helper/1/sbin:/usr/bin:/bin",
		env["PATH"])
	assert.Equal(t, "-DMINE -IT/lib/1/include", env["CPPFLAGS"])
	assert.Equal(t, "-LT/lib/1/lib -Wl,-rpath,T/lib/1/lib -Wl,-rpath-link,T/base/1/lib -Wl,-rpath,T/plan/1/lib",
		env["LDFLAGS"])
	assert.Equal(t, "T/lib/1/lib/pkgconfig:T/lib/1/share/pkgconfig:T/base/1/lib/pkgconfig:T/base/1/share/pkgconfig",
		env["PKG_CONFIG_PATH"])
	assert.Equal(t, "T/lib/1:T/base/1", env["CMAKE_PREFIX_PATH"])
	assert.Equal(t, "T/lib/1/include", env["CPATH"])
	assert.Equal(t, "T/lib/1/lib:T/plan/1/lib", env["LD_RUN_PATH"])
	assert.Equal(t, "1774008000", env["SOURCE_DATE_EPOCH"])
	assert.Equal(t, "gcc", env["CC"])
	assert.NotContains(t, env, "CFLAGS")
	assert.Equal(t, "T/tool/1", env["FL_TREE_TOOL"])
}

func TestOnlyWhatIsNeededIsBuilt(t *testing.T) {
	target, planned := jobs(t, "")
	target.Store.Root = t.TempDir()
	names := func() (names []string) {
		needed := Needed(planned, target.Store.Installed)
		for _, j := range planned {
			if needed[j] {
				names = append(names, j.Name)
			}
		}
		return names
	}
	install := func(name string) {
		for _, j := range planned {
			if j.Name == name {
				file := filepath.Join(target.Store.Tree(j.Ref), "share/fernladder/receipt.json")
				require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
				require.NoError(t, os.WriteFile(file, []byte("{}"), 0o644))
			}
		}
	}
	assert.Equal(t, []string{"base", "helper", "lib", "tool", "plan"}, names())
	install("tool")
	assert.Equal(t, []string{"base", "helper", "lib", "plan"}, names(),
		"a tool that is built still needs what it runs with")
	install("plan")
	assert.Equal(t, []string{"base", "lib"}, names(), "for what is built, its tools do not matter")
}

// entered is an open room.
func entered(t *testing.T) *sandbox.Session {
	s, err := sandbox.Room{}.Enter("x")
	require.NoError(t, err)
	t.Cleanup(func() { s.Leave() })
	return s
}

func TestStatusInWords(t *testing.T) {
	room := entered(t)
	for script, want := range map[string]string{
		"exit 3": "ended with status 3", "kill -9 $$": "was killed, perhaps because memory ran out",
		"kill -15 $$":   "was ended by signal 15 (terminated)",
		"kill -XFSZ $$": "was ended because it wrote a file above the limit (largest_file in the settings)",
	} {
		_, err := runIn(context.Background(), room, sandbox.User{},
			process{dir: "/", argv: []string{"sh", "-c", script}, env: []string{"PATH=/usr/bin:/bin"}})
		assert.Equal(t, want, status(err))
	}
	missing := process{argv: []string{"no-such-program"}, env: []string{"PATH=/usr/bin"}}.run(context.Background(), room)
	assert.Equal(t, "could not be run: there is no such program", status(missing))
}

// A process that ignores the request to end is killed, with its background processes.
func TestProcessesEndWithTheirContext(t *testing.T) {
	ctx, cancel := context.WithCancel(context.Background())
	time.AfterFunc(200*time.Millisecond, cancel)
	data, err := runIn(ctx, entered(t), sandbox.User{}, process{dir: t.TempDir(),
		argv: []string{"sh", "-c", "trap '' TERM; setsid sleep 876 & echo $!; while :; do sleep 0.1; done"},
		env:  []string{"PATH=/usr/bin:/bin"}})
	assert.ErrorIs(t, err, context.Canceled)
	pid, err := strconv.Atoi(strings.TrimSpace(string(data)))
	require.NoError(t, err)
	assert.Eventually(t, func() bool { return syscall.Kill(pid, 0) != nil }, 5*time.Second, 10*time.Millisecond)
}

// Output is kept up to a limit, and a process that keeps the pipe open does not block.
func TestAnOutletEnds(t *testing.T) {
	var kept strings.Builder
	over := 0
	o, err := newOutlet(&kept, 10, sandbox.User{}, func() { over++ })
	require.NoError(t, err)
	fd, err := syscall.Dup(int(o.write.Fd()))
	require.NoError(t, err)
	defer syscall.Close(fd)
	for range 1000 {
		o.write.WriteString("leaf and frond\n")
	}
	require.NoError(t, o.close())
	assert.Equal(t, "leaf and f", kept.String())
	assert.Equal(t, 1, over)
}

// A receipt is only accepted for a job if it has what the job's id stands for.
func TestReceiptsOfOtherJobsDoNotFit(t *testing.T) {
	_, planned := jobs(t, "")
	job := planned[len(planned)-1]
	receipt := func() *store.Receipt {
		return &store.Receipt{Ref: job.Ref, Sources: []store.Source{{Digest: job.Parts[0].Archive.Digest}},
			Options: maps.Clone(job.Package.Options), Needs: job.Links()}
	}
	assert.NoError(t, job.fits(receipt()))
	for what, forge := range map[string]func(*store.Receipt){
		"other sources": func(r *store.Receipt) { r.Sources[0].Digest.Hex = strings.Repeat("1", 64) },
		"other options": func(r *store.Receipt) { r.Options["plots"] = "on" },
		"other needs":   func(r *store.Receipt) { r.Needs = nil },
	} {
		r := receipt()
		forge(r)
		assert.ErrorContains(t, job.fits(r), what)
	}
}

// Leftovers of killed or failed runs are reused as far as they can be trusted, and the time of a
// stage includes all runs.
func TestWhatIsLeftOfAJournal(t *testing.T) {
	all := []string{StageUnpack, StagePatch, StageConfigure, StageCompile}
	for name, c := range map[string]struct {
		running           string
		done              []string
		inSource, patched bool
		want              []string
		ninja, boot       string
	}{
		"killed while ninja compiled":  {StageCompile, all[:3], false, true, all[:3], "ninja", "now"},
		"the machine stopped":          {StageCompile, all[:3], false, true, all[:2], "ninja", "before"},
		"ended in good order":          {"", all[:3], false, true, all[:3], "", "now"},
		"killed in the source":         {StageCompile, all[:3], true, true, []string{}, "", "now"},
		"killed beside the source":     {StageCompile, all[:3], false, true, all[:2], "", "now"},
		"killed while it was unpacked": {StageUnpack, nil, false, false, nil, "", "now"},
		"half patched":                 {"", all[:1], false, true, []string{}, "", "now"},
		"killed in a try":              {StageTry, all, true, true, all, "", "now"},
	} {
		j := journal{Running: c.running, Boot: c.boot, Done: slices.Clone(c.done)}
		j.begin()
		j.invalidateInterrupted(c.inSource, c.patched, c.ninja != "", "now")
		assert.Equal(t, c.want, j.Done, name)
		assert.Empty(t, j.Running)
	}
	j := journal{}
	j.begin()
	j.complete(StageUnpack, "a", time.Second, 0)
	j.complete(StageConfigure, "b", time.Second, time.Second)
	j.spend(StageCompile, 100*time.Second, 150*time.Second) // it failed
	j.complete(StageCompile, "c", 5*time.Second, 5*time.Second)
	assert.Equal(t, map[string]float64{StageUnpack: 1, StageConfigure: 1, StageCompile: 105}, j.Seconds)
	j.invalidateChanged(func(stage string) string {
		return map[string]string{StageUnpack: "a", StageConfigure: "b", StageCompile: "other"}[stage]
	})
	assert.Equal(t, []string{StageUnpack, StageConfigure}, j.Done)
	assert.NotContains(t, j.Seconds, StageCompile, "what is done anew begins at nothing")
	assert.Equal(t, float64(1), j.CPU[StageConfigure])
}

// The number of jobs changes no stage: after a failure, the build continues with fewer.
func TestJobsAreNoInput(t *testing.T) {
	target, planned := jobs(t, "[build]\nmethod = \"make\"\nargs = [\"A=$FL_JOBS\"]")
	job := planned[len(planned)-1]
	inputs := func(n int) string {
		b := &Builder{target: target}
		b.target.Jobs = n
		a := &attempt{b: b, job: job, dirs: dirsOf(target.Store, job, false)}
		return a.inputs(StageCompile)
	}
	assert.Equal(t, inputs(1), inputs(64))
	before := inputs(4)
	job.Recipe.Build.Env = []tomlfile.Pair{{Name: "CFLAGS", Values: []string{"-g"}}}
	assert.NotEqual(t, before, inputs(4))
}

// Two builds of a package are told apart by their ingredients.
func TestDifferencesBetweenBuilds(t *testing.T) {
	need := func(id string) []store.Link {
		return []store.Link{{Ref: store.Ref{Name: "soil", Version: "1", ID: id}}}
	}
	old := store.Made{Options: map[string]string{"a": "on", "gone": "on"},
		Needs: append(need("x"), store.Link{Ref: store.Ref{Name: "leaf"}}), Sources: []string{"1"}, Compiler: "cc"}
	now := store.Made{Options: map[string]string{"a": "off", "new": "on"}, Needs: need("y"), Sources: []string{"2"},
		Patches: []string{"p"}, Compiler: "gcc"}
	assert.Equal(t, []string{"a=off, not on", "option new is new", "option gone is gone", "another build of soil",
		"without leaf", "another source", "other patches", "another compiler"}, now.Against(old))
	assert.Equal(t, []string{"other instructions"}, old.Against(old))
}

// Compilers get a directory of headers unless one of its names is a header of the C library.
func TestHarmlessDirectoriesOfHeaders(t *testing.T) {
	for name, want := range map[string]bool{"fern.h": true, "util.h": true, "bsd/fern.h": true, "test/fern.h": true,
		"stdio.h": false, "sys/fern.h": false, "string": false} {
		dir := t.TempDir()
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), nil, 0o644))
		assert.Equal(t, want, harmless(dir), name)
	}
}

// CMake projects need not ask for what they include. In CPATH, pkg-config would hide it from them.
func TestCompilersFindHeadersBelow(t *testing.T) {
	tree := t.TempDir()
	below := filepath.Join(tree, "include", "moss")
	require.NoError(t, os.MkdirAll(below, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(below, "moss.h"), nil, 0o644))
	needs := []Neighbour{{Tree: tree, Role: recipe.Library, Direct: true}}
	flag := "-idirafter " + filepath.Dir(below) + " -idirafter " + below
	assert.Equal(t, map[string]string{"CFLAGS": flag, "CXXFLAGS": flag}, CompilerPaths(recipe.CMake, needs))
	assert.Equal(t, filepath.Dir(below)+":"+below, CompilerPaths(recipe.Make, needs)["CPATH"])
}

// A package that is needed as a tool and as a library is found as both, and shown to a room once.
func TestToolAndLibrary(t *testing.T) {
	moss := &Job{Package: &resolve.Package{}, Ref: store.Ref{Name: "moss"}, Prefix: "/trees/moss"}
	both := []resolve.Link{{Role: recipe.Tool}, {Role: recipe.Library}}
	fern := &Job{Package: &resolve.Package{Needs: both}, Needs: []*Job{moss, moss}}
	assert.Len(t, visible(fern), 1)
	var found []string
	for _, pair := range Surroundings(neighbours(fern)) {
		found = append(found, pair.Name+"="+pair.Values[0])
	}
	assert.Contains(t, found, "PATH=/trees/moss/bin:/trees/moss/sbin")
	assert.Contains(t, found, "PKG_CONFIG_PATH=/trees/moss/lib/pkgconfig:/trees/moss/share/pkgconfig")
}
