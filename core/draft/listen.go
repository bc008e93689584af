package draft

// This file runs the configure step of a source in a listening room, which records every
// look-up and answers it as the caller says.
//
// The room is sealed and bare: of the operating system it has the base, a compiler, make
// and what the caller names. Scripts in front of the compilers and pkg-config record which
// headers, libraries and modules are looked for. Those that the caller answers with yes
// exist there, in the trees of a step or as empty stand-ins. CMake reports its own
// searches. The step has a time limit, and nothing of the room is used beyond what a Run
// reports. A run reports what the source said: names and ranges, checked for form only.

import (
	"bufio"
	"cmp"
	"context"
	"embed"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"fernladder/core/build"
	"fernladder/core/host"
	"fernladder/core/machine"
	"fernladder/core/pattern"
	"fernladder/core/recipe"
	"fernladder/core/safefs"
	"fernladder/core/sandbox"
	"fernladder/core/subprocess"
)

//go:embed cc.sh pkg-config.sh answers.cmake
var scripts embed.FS

// An inquiry is something of another package that a configure step has looked for and that the
// base of the operating system does not have.
type inquiry struct {
	Kind  string   // header, library, module, package (of CMake), program, or a function of a library that was answered
	Names []string // any of which will do
	Range string   // of versions, as the step says it, or ""
	// For CMake packages, if CMake reports it.
	Required bool
}

// Key identifies the answer to it.
func (a inquiry) Key() string { return keyOf(a.Kind, a.Names[0]) }

// keyOf identifies an answer.
func keyOf(kind, name string) string {
	if kind == "package" {
		name = strings.ToLower(name)
	}
	return kind + " " + name
}

// isConfig reports whether something is a program that says how to build with a library, such as
// moss-config. An inquiry about it is only noticed if its tree is among those of a step.
func isConfig(kind, name string) bool {
	return kind == "program" && strings.HasSuffix(name, "-config") && !strings.Contains(name, "/")
}

// An answer is something that a step finds.
type answer struct {
	Version string
	Tree    string // with it; "": a stand-in is created
}

// answers are what a step finds, by their keys.
type answers map[string]answer

// A configureStep is one way to run the configure step.
type configureStep struct {
	Args    []string
	Answers answers
	Trees   []build.Neighbour // that it finds as a build does
	Cache   []byte            // of tests that need not be made again, as the cache of a heardRun has it
}

// A heardRun is the outcome of a step.
type heardRun struct {
	OK     bool
	Asked  []inquiry         // in the order in which it asked
	CXX    bool              // a C++ compiler was run
	Lines  int               // that it printed
	Made   map[string]string // digests of the files it made, and values of its decisions, by name
	Late   bool              // it exceeded the time limit
	Output string            // the end of its output
	CPU    time.Duration
	Cache  []byte // results of its tests, except for inquiries; nil if it keeps none

	Options   []cmakeOption // of CMake
	Downloads []Download
	Built     []string // programs and libraries that a makefile has made
}

// A cmakeOption is a boolean variable of CMake, with its value.
type cmakeOption struct {
	Name, About string
	On          bool
}

// Heard is a source whose configure step is run.
type Heard struct {
	Dir      string // its files; they stay as they are
	Below    string // the directory in it that has the build system, or ""
	Method   recipe.Method
	InTree   bool          // it is configured in its source directory
	Prepare  string        // shell text that makes the configure script, or ""
	Trees    []string      // that Prepare finds, as a build does
	Programs []string      // that it needs of the operating system
	Longest  time.Duration // that one run may take; 0: three minutes
}

// ErrNoRoom is the error for a machine without listening rooms: it has no sealed builds, or no
// list of the files of its packages.
var ErrNoRoom = errors.New("this machine has no sealed, bare rooms")

// unmade is the error for a source whose configure script cannot be made here.
type unmade struct{ Output string }

func (e *unmade) Error() string {
	lines := strings.Split(strings.TrimSpace(e.Output), "\n")
	return "its configure script cannot be made: " + lines[len(lines)-1]
}

// A listeningRoom runs the configure step of a source. Close deletes it.
type listeningRoom struct {
	ctx      context.Context
	m        *machine.Machine
	source   Heard
	base     string
	user     sandbox.User
	done     func()
	sight    *sandbox.Sight
	programs []string
	runs     atomic.Int32
	modules  func() map[string]bool // of CMake, that the source has itself
}

// enter makes a room for a source.
func enter(ctx context.Context, m *machine.Machine, s Heard) (*listeningRoom, error) {
	if err := m.Store.Prepare(); err != nil {
		return nil, err
	}
	level, err := m.Isolation(ctx)
	if err != nil {
		return nil, err
	}
	if level != sandbox.Sealed || m.Bare == nil || m.Settings.NotBare != "" {
		return nil, ErrNoRoom
	}
	base, user, done, err := m.Scratch(ctx, "listen")
	if err != nil {
		return nil, err
	}
	r := &listeningRoom{ctx: ctx, m: m, source: s, base: base, user: user, done: done,
		modules: sync.OnceValue(func() map[string]bool { return modulesIn(s.Dir) })}
	r.programs = slices.Concat([]string{"cc", "c++", "make", "pkg-config"},
		map[recipe.Method][]string{recipe.CMake: {"cmake"}, recipe.Meson: {"meson", "ninja"}}[s.Method])
	if err = r.Show(s.Programs...); err == nil {
		err = r.prepare()
	}
	if err != nil {
		done()
		return nil, m.Stored(err)
	}
	return r, nil
}

// Show makes programs of the operating system visible to further runs, if they are installed.
func (r *listeningRoom) Show(programs ...string) (err error) {
	r.programs = append(r.programs, programs...)
	declared := sandbox.Declared{Mounted: []string{r.m.Store.Root}}
	for _, name := range r.programs {
		declared.Questions = append(declared.Questions, host.Question{Kind: host.Program, Name: name})
	}
	r.sight, err = r.m.Bare.Sight(r.ctx, declared)
	return err
}

// Sees reports whether a run sees a file of the operating system.
func (r *listeningRoom) Sees(file string) bool { return !r.sight.Hides(file) }

// lacksOwn reports whether a run in another directory than the source's has stopped, and looked for a
// file there that the source has.
func (r *listeningRoom) lacksOwn(run *heardRun) bool {
	return !run.OK && !r.source.InTree && slices.ContainsFunc(notThere.FindAllStringSubmatch(run.Output, -1),
		func(m []string) bool {
			return filepath.IsLocal(m[1]) && safefs.Exists(filepath.Join(r.source.Dir, r.source.Below, m[1]))
		})
}

var notThere = pattern.New(`(?m)^\S+: (?:cannot open )?'?([\w+-][\w./+-]*)'?: No such file or directory$`)

// Close deletes the room.
func (r *listeningRoom) Close() { r.done() }

// at is a path in the room. The room's user can write to some of them, but not to base, so that
// no run finds or leaves anything in the place of another run's directory.
func (r *listeningRoom) at(names ...string) string {
	return filepath.Join(r.base, filepath.Join(names...))
}

func (r *listeningRoom) given() string { return r.at("given") }

// prepare creates the contents of the room.
func (r *listeningRoom) prepare() error {
	for _, dir := range []string{"given", "given/bin"} {
		if err := os.Mkdir(r.at(dir), 0o755); err != nil {
			return err
		}
	}
	if err := r.mkdir("kept", nil); err != nil {
		return err
	}
	for script, names := range map[string][]string{"cc.sh": {"cc", "gcc", "c++", "g++"},
		"pkg-config.sh": {"pkg-config", "pkgconf"}, "answers.cmake": {"../answers.cmake"}} {
		text, err := scripts.ReadFile(script)
		if err != nil {
			return err
		}
		for _, name := range names {
			if err := os.WriteFile(filepath.Join(r.given(), "bin", name), text, 0o755); err != nil {
				return err
			}
		}
	}
	if err := r.copy("source"); err != nil {
		return err
	}
	if r.source.Prepare == "" {
		return nil
	}
	step := configureStep{}
	for _, tree := range r.source.Trees {
		step.Trees = append(step.Trees, build.Neighbour{Tree: tree, Role: recipe.Library, Direct: true})
	}
	run, err := r.run(r.ctx, "prepare", r.at("source", r.source.Below), []string{"sh", "-e", "-c", r.source.Prepare}, step)
	if err == nil && !run.OK {
		err = &unmade{run.Output}
	}
	return err
}

// prepared reports whether the step before the configure step has made what that needs.
func (r *listeningRoom) prepared() bool {
	has := func(name string) bool { return safefs.Exists(r.at("source", r.source.Below, name)) }
	return has("configure") && (has("Makefile.in") || !has("Makefile.am"))
}

// copy copies the source for the room's user to change.
func (r *listeningRoom) copy(name string) error {
	from, to := r.source.Dir, r.at(name)
	if r.source.Prepare != "" && name != "source" && r.source.Method != recipe.Make {
		from = r.at("source")
	}
	cp := subprocess.Command{Argv: []string{r.m.Programs.Find("cp"), "-a", "--", from, to},
		Env: []string{"LC_ALL=C"}, Dir: "/"}
	if _, says, err := cp.Text(r.ctx); err != nil {
		return fmt.Errorf("%w: %s", err, strings.TrimSpace(says))
	}
	return r.give(to)
}

func (r *listeningRoom) give(dir string) error {
	if !r.user.Other() {
		return nil
	}
	return safefs.Give(dir, safefs.Ours, r.user.UID, r.user.GID)
}

// Run runs the configure step.
func (r *listeningRoom) Run(ctx context.Context, step configureStep) (*heardRun, error) {
	name := "run-" + strconv.Itoa(int(r.runs.Add(1)))
	source, below := "source", ""
	if r.source.InTree {
		source, below = name, r.source.Below
		if err := r.copy(name); err != nil {
			return nil, err
		}
	} else if err := r.mkdir(name, nil); err != nil {
		return nil, err
	}
	defer safefs.Remove(r.at(name))
	top, out, says := r.at(source, r.source.Below), r.at(name, below), r.at("says-"+name)
	prefix := "/opt/fl-listen"
	var argv []string
	switch r.source.Method {
	case recipe.Configure:
		argv = []string{filepath.Join(top, "configure"), "--prefix=" + prefix}
		autoconf, runs := r.script()
		if !runs {
			argv = append([]string{"sh"}, argv...)
		}
		if autoconf {
			// Its decisions are in config.status.
			argv = append(argv, "--no-create", "--cache-file="+filepath.Join(says, "cache"))
		}
	case recipe.CMake:
		argv = []string{"cmake", "-S", top, "-B", out, "-G", "Unix Makefiles", "-DCMAKE_INSTALL_PREFIX=" + prefix,
			"-DCMAKE_BUILD_TYPE=Release", "-DFETCHCONTENT_FULLY_DISCONNECTED=ON",
			"-DCMAKE_PROJECT_TOP_LEVEL_INCLUDES=" + filepath.Join(r.given(), "answers.cmake"), "-DCMAKE_PREFIX_PATH=" +
				filepath.Join(r.given(), name, "stubs"),
			"--trace-expand", "--trace-format=json-v1", "--trace-redirect=" + filepath.Join(says, "trace")}
	case recipe.Meson:
		argv = []string{"meson", "setup", out, top, "--prefix=" + prefix, "--libdir=lib", "--buildtype=release",
			"--wrap-mode=nodownload"}
	case recipe.Make: // it has no other step: what it lacks shows when it compiles
		argv = []string{"make", "-k", "-C", top}
		if r.source.Prepare != "" { // a script that makes the makefile may look for the same
			script := "cd \"$0\"\n" + r.source.Prepare + "\nexec \"$@\""
			argv = append([]string{"sh", "-e", "-c", script, top}, argv...)
		}
	default:
		return nil, ErrNoRoom
	}
	run, err := r.run(ctx, name, out, append(argv, step.Args...), step)
	if err != nil {
		return nil, err
	}
	made, err := safefs.OpenDir(r.at(name))
	if err != nil {
		return nil, err
	}
	defer made.Close()
	said, err := safefs.OpenDir(says)
	if err != nil {
		return nil, err
	}
	defer said.Close()
	run.notes(said, step.Answers)
	if below != "" {
		sub, err := made.Sub(below)
		if err != nil {
			return run, nil // it has removed its own directory
		}
		defer sub.Close()
		made = sub
	}
	switch r.source.Method {
	case recipe.CMake:
		asked, downloads := r.traced(said, r.at(source))
		run.Asked, run.Downloads = append(run.Asked, asked...), downloads
		// CMake may fail to generate with empty stand-ins; that does not matter. A look-up whose result is
		// used unseen does.
		run.OK = run.OK || strings.Contains(run.Output, "\n-- Configuring done") &&
			!strings.Contains(run.Output, "Cannot find source file") && !strings.Contains(run.Output, "are set to NOTFOUND")
	case recipe.Configure:
		// With --no-create, later commands of the script may have failed.
		_, err := made.Lstat("config.status")
		run.OK = run.OK || err == nil && !strings.Contains(beforeCreating(run.Output), "configure: error:")
	}
	run.Asked = merged(run.Asked)
	run.Made = r.made(made, out, step.Args)
	run.Options = options(made)
	if r.source.Method == recipe.Make {
		run.Built = build.Built(made, func(name string) bool {
			return safefs.Exists(filepath.Join(r.source.Dir, r.source.Below, name))
		})
	}
	run.Cache = cache(said, run.Asked)
	return run, nil
}

// mkdir makes a directory, with files, for the room's user.
func (r *listeningRoom) mkdir(name string, files map[string][]byte) error {
	if err := os.Mkdir(r.at(name), 0o755); err != nil {
		return err
	}
	for file, data := range files {
		if err := os.WriteFile(r.at(name, file), data, 0o644); err != nil {
			return err
		}
	}
	return r.give(r.at(name))
}

// answer writes what a run finds.
func (r *listeningRoom) answer(name string, answers answers) error {
	given := filepath.Join(r.given(), name)
	if err := os.Mkdir(given, 0o755); err != nil {
		return err
	}
	var lines strings.Builder
	for key, a := range answers {
		kind, name, _ := strings.Cut(key, " ")
		file := ""
		switch {
		case !filepath.IsLocal(name), kind == "package" && a.Tree != "": // CMake finds it itself
			continue
		case kind == "module":
			key += " " + a.Version
		case a.Tree != "":
		case kind == "header":
			file = filepath.Join(given, "stubs", "include", name)
		case kind == "library":
			file = filepath.Join(given, "stubs", "lib", "lib"+name+".a")
		}
		lines.WriteString(key + "\n")
		if file == "" {
			continue
		}
		if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(file, []byte("!<arch>\n"), 0o644); err != nil {
			return err
		}
	}
	return os.WriteFile(filepath.Join(given, "answers"), []byte(lines.String()), 0o644)
}

// run runs a command in a room of its own, and reads the notes.
func (r *listeningRoom) run(ctx context.Context, name, dir string, argv []string,
	step configureStep) (*heardRun, error) {
	if err := r.answer(name, step.Answers); err != nil {
		return nil, err
	}
	says := r.at("says-" + name)
	if err := r.mkdir("says-"+name, map[string][]byte{"cache": step.Cache}); err != nil {
		return nil, err
	}
	point := filepath.Join(r.base, "room-"+name)
	if err := os.Mkdir(point, 0o755); err != nil {
		return nil, err
	}
	inside, err := r.isolated(name, point, says, step)
	if err != nil {
		return nil, err
	}
	defer inside.Leave()
	longest := cmp.Or(r.source.Longest, 3*time.Minute)
	limited, cancel := context.WithTimeout(ctx, longest)
	defer cancel()
	defer context.AfterFunc(limited, inside.Leave)()
	output, err := os.Create(filepath.Join(r.base, "output-"+name))
	if err != nil {
		return nil, err
	}
	defer output.Close()
	ended := make(chan struct{})
	defer close(ended)
	go endRetries(output, inside.Leave, ended)
	file, env := r.environment(argv[0], name, says, step)
	end, err := inside.Run(sandbox.Command{File: file, Argv: argv, Dir: dir, Output: output,
		Env: append(env, "PWD="+dir)})
	if ctx.Err() != nil {
		return nil, ctx.Err()
	}
	run := &heardRun{OK: err == nil && end.Failed == "" && end.Status == 0, CPU: end.CPU, Output: tail(output)}
	if run.Late = limited.Err() != nil; run.Late {
		run.Output = fmt.Sprintf("it was not done after %s", longest)
	}
	inside.Leave()
	run.found(output, treesOf(step))
	return run, nil
}

// endRetries ends a run that waits to try a download again, for minutes: a room has no network.
func endRetries(output *os.File, end func(), ended <-chan struct{}) {
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for {
		select {
		case <-ended:
			return
		case <-tick.C:
			if retries.MatchString(tail(output)) {
				end()
				return
			}
		}
	}
}

var retries = pattern.New(`(?mi)(?:^-- retrying\.\.\.$|\bretry(?:ing)? (?:after|in) \d+ sec)`)

// isolated makes the sandbox of a run.
func (r *listeningRoom) isolated(name, point, says string, step configureStep) (*sandbox.Session, error) {
	limits := r.m.Settings.Most
	const largest = 1 << 30
	if limits.FileSize == 0 || limits.FileSize > largest {
		limits.FileSize = largest
	}
	writable := []string{says, r.at("kept")}
	for _, of := range []string{name, "source"} {
		if safefs.Exists(r.at(of)) && !(of == "source" && r.source.InTree && name != "prepare") {
			writable = append(writable, r.at(of))
		}
	}
	room := sandbox.Room{Level: sandbox.Sealed, Point: point, Home: says, User: r.user, Limits: limits,
		Visible: slices.Concat([]string{r.given()}, r.m.OwnPath(), treesOf(step)), Writable: writable, Layer: r.sight.Layer}
	if room.Layer == "" || !room.Apart() {
		hidden, err := r.sight.Hidden()
		if err != nil {
			return nil, err
		}
		room.Layer, room.Hidden = "", hidden
	}
	return room.Enter(r.base)
}

func treesOf(step configureStep) (trees []string) {
	for _, n := range step.Trees {
		trees = append(trees, n.Tree)
	}
	return trees
}

// environment finds the program of a run, and its environment.
func (r *listeningRoom) environment(program, name, says string, step configureStep) (file string, env []string) {
	dirs := []string{filepath.Join(r.given(), "bin")}
	for _, pair := range build.Surroundings(step.Trees) {
		switch value := pair.Values[0]; {
		case value == "":
		case pair.Name == "PATH":
			dirs = append(dirs, filepath.SplitList(value)...)
		default:
			env = append(env, pair.Name+"="+value)
		}
	}
	for name, value := range build.CompilerPaths(r.source.Method, step.Trees) {
		env = append(env, name+"="+value)
	}
	if r.source.Method == recipe.Make {
		env = append(env, "FL_CFLAGS=-O1") // it compiles everything, only to be listened to
	}
	dirs = append(dirs, r.m.Programs.Path...)
	if file = program; !strings.Contains(program, "/") {
		file = host.Programs{Path: dirs}.Find(program)
	}
	return file, append(env, "PATH="+strings.Join(dirs, ":"), "HOME="+says, "LC_ALL=C", "TZ=UTC", "SOURCE_DATE_EPOCH=0",
		"SHELL=/bin/sh", "CONFIG_SHELL=/bin/sh", "FL_LISTEN="+says, "FL_KEPT="+r.at("kept"),
		"FL_ANSWERS="+filepath.Join(r.given(), name, "answers"), "FL_STUBS="+filepath.Join(r.given(), name, "stubs"),
		"FL_COMPILERS="+filepath.Dir(r.m.Programs.Find("cc")), "FL_PKG_CONFIG="+r.m.Programs.Find("pkg-config"),
		"FL_TREES="+r.m.Store.TreesDir())
}

// beforeCreating is the part of a configure script's output about its own checks: what fails after
// it has created config.status, and was told to create no other file, does not matter, except for
// the checks of a script in a directory below.
func beforeCreating(output string) string {
	checks, after, created := strings.Cut(output, "configure: creating ./config.status\n")
	if created && !strings.Contains(after, "=== configuring in ") {
		return checks
	}
	return output
}

// tail is the end of the output.
func tail(f *os.File) string {
	const most = 16 << 10
	info, err := f.Stat()
	if err != nil {
		return ""
	}
	text, _ := io.ReadAll(io.NewSectionReader(f, max(0, info.Size()-most), most))
	return strings.ToValidUTF8(string(text), "?")
}

// found notes the programs of trees that a step reports as found, and programs that it may have
// looked for and reports as missing.
func (run *heardRun) found(output *os.File, trees []string) {
	lines := bufio.NewScanner(io.NewSectionReader(output, 0, largestNotes))
	for lines.Scan() {
		run.Lines++
		if match := lackedProgram.FindStringSubmatch(lines.Text()); match != nil {
			if name := match[1] + match[2]; !isConfig("program", name) {
				run.Asked = append(run.Asked, inquiry{Kind: "program", Names: []string{name}})
			}
			continue
		}
		file := lines.Text()[strings.LastIndexByte(lines.Text(), ' ')+1:]
		dir, name := path.Split(file)
		if slices.Contains(trees, strings.TrimSuffix(dir, "/bin/")) && isConfig("program", name) {
			run.Asked = append(run.Asked, inquiry{Kind: "program", Names: []string{name}})
		}
	}
}

// lackedProgram matches messages of configure scripts and shells about a missing program.
var lackedProgram = pattern.New(`^checking for ([^\s/.]+)\.\.\. no$` +
	`|: (?:line )?\d+: (?:\S+: )?([^\s/]+): (?:command )?not found$`)

// largestNotes is more than the notes of any real step.
const largestNotes = 4 << 20

// notes reads the notes of the scripts. What the source uses counts if it was given that.
func (run *heardRun) notes(says *safefs.Dir, given answers) {
	text, err := says.ReadFile("notes", largestNotes)
	if err != nil {
		return
	}
	for line := range strings.Lines(string(text)) {
		kind, rest, _ := strings.Cut(strings.TrimSpace(line), " ")
		if _, is := given[rest]; kind == "uses" && is {
			kind, rest, _ = strings.Cut(rest, " ")
		}
		name, rng, _ := strings.Cut(rest, " ")
		switch {
		case kind == "language":
			run.CXX = true
		case kind == "header" || kind == "library" || kind == "module" || kind == "function":
			run.Asked = append(run.Asked, inquiry{Kind: kind, Names: []string{name}, Range: rng})
		}
	}
}

// merged has each inquiry once, at its last position, without those that no recipe could name.
// If there are more than a real step makes, only the last count.
func merged(all []inquiry) []inquiry {
	const most = 1000
	last := map[string]inquiry{}
	var order []string // a key, each time
	for _, a := range all {
		a.Names = slices.DeleteFunc(slices.Clone(a.Names), func(name string) bool {
			return recipe.CheckSystemName(name) != nil || name == "ac_nonexistent.h"
		})
		if len(a.Names) == 0 {
			continue
		}
		before := last[a.Key()]
		a.Required, a.Range = a.Required || before.Required, cmp.Or(a.Range, before.Range)
		last[a.Key()] = a
		order = append(order, a.Key())
	}
	var some []inquiry
	for _, key := range slices.Backward(order) {
		if a, left := last[key]; left && len(some) < most {
			some = append(some, a)
			delete(last, key)
		}
	}
	slices.Reverse(some)
	return some
}
