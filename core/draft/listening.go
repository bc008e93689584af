package draft

import (
	"cmp"
	"context"
	"errors"
	"maps"
	"path"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"fernladder/core/buildfile"
	"fernladder/core/host"
	"fernladder/core/machine"
	"fernladder/core/pattern"
	"fernladder/core/recipe"
	"fernladder/core/safefs"
)

// patience is the number of lines that the configure step may print in runs about its switches.
// Lines are counted, not seconds, so that the same source always has the same draft; a line takes
// 10 to 20 ms of processor time, and one of CMake 60 ms. tooLong is where a slow step ends anyway.
const (
	patience = 3000
	tooLong  = 2 * time.Minute
)

// Unheard is the error for a source whose configure step shows nothing usable.
type Unheard struct{ Why string }

func (e *Unheard) Error() string { return e.Why }

// Listening says how much to find out about a source.
type Listening struct {
	Quick   bool          // only its look-ups, not its switches
	Longest time.Duration // that one run of the configure step may take; 0: three minutes
	// Progress is called after each run with the current question; nil: it is not.
	Progress func(doing string, runs int)
}

// Configured reports whether the source has a configure step that can be listened to, or only a
// makefile, which is listened to while it compiles.
func (s *Source) Configured() bool {
	return slices.Contains([]recipe.Method{recipe.Configure, recipe.CMake, recipe.Meson, recipe.Make},
		recipe.Method(s.Method.Value))
}

// Listen runs the source's own configure step in a listening room, and replaces what the
// source's files seem to say by what the step shows: what it looks for, whether that is
// required, which option controls it, and the defaults of its options. dir has the source's
// files. If nothing can be heard, the findings stay as read.
func (s *Source) Listen(ctx context.Context, m *machine.Machine, dir string, known *Known, how Listening) error {
	source := Heard{Dir: dir, Below: s.Dir, Method: recipe.Method(s.Method.Value), InTree: s.InTree ||
		s.Method.Value == string(recipe.Make), Prepare: s.Prepare, Longest: how.Longest}
	for _, l := range s.Lookups {
		if l.Kind == "program" && l.Required && !slices.Contains(s.mentioned, l.Name()) {
			source.Programs = append(source.Programs, l.Name())
		}
	}
	if source.Method == recipe.Make { // what it lacks shows soon
		source.Longest = min(cmp.Or(source.Longest, time.Minute), time.Minute)
	}
	room, err := s.enter(ctx, m, known, source)
	if errors.As(err, new(*unmade)) {
		return &Unheard{err.Error()}
	}
	if err != nil {
		return err
	}
	defer room.Close()
	// The number of runs is not limited, the time is.
	const whole = 10
	limited, cancel := context.WithTimeout(ctx, whole*cmp.Or(source.Longest, 3*time.Minute))
	defer cancel()
	h := &hearing{source: s, m: m, room: room, known: known, ctx: limited, answers: answers{}, needed: map[string]bool{},
		args: s.Args, quick: how.Quick, progress: how.Progress}
	err = h.hear()
	unheard := new(Unheard)
	if errors.As(err, &unheard) && (h.apart || s.Prepare == "" && s.otherwise(unheard.Why)) {
		s.InTree = s.InTree || h.apart
		return s.Listen(ctx, m, dir, known, how)
	}
	if limited.Err() != nil && ctx.Err() == nil {
		return &Unheard{"it took more than ten times the limit of a run"}
	}
	return err
}

// otherwise changes how the source is prepared, if the reason why its configure script stops can be
// mended by that.
func (s *Source) otherwise(why string) bool {
	switch {
	case noPrefix.MatchString(why): // it only makes the makefile, which has the prefix
		s.Method, s.Prepare = Finding{"method", string(recipe.Make),
			"configure, which takes no --prefix and makes the makefile", Guessed}, "./configure"
		s.InTree = false
	case tooOld.MatchString(why):
		s.prepare(newGuess, "config.sub is too old for this machine")
		s.Lookups = append(s.Lookups, required("program", "automake", "the newer config.sub that it has"))
	case incomplete.MatchString(why):
		s.prepare("autoreconf -fi", "the archive lacks files beside its configure script")
		for _, program := range []string{"autoreconf", "automake"} {
			s.Lookups = append(s.Lookups, required("program", program, "the files that it makes"))
		}
	default:
		return false
	}
	return true
}

// enter makes a room for a source. The programs that make its configure script find the macros
// of the shelf's trees, and programs that they turn out to run.
func (s *Source) enter(ctx context.Context, m *machine.Machine, known *Known, source Heard) (*listeningRoom, error) {
	for _, tree := range slices.Sorted(maps.Values(known.trees)) {
		if safefs.Exists(filepath.Join(tree, "share", "aclocal")) {
			source.Trees = append(source.Trees, tree)
		}
	}
	const most = 5
	own, first := s.Prepare, "" // the source's own script, and what it said when it failed
	for tried := 0; ; tried++ {
		room, err := enter(ctx, m, source)
		unmade := new(unmade)
		failed := errors.As(err, &unmade)
		switch {
		case tried < most && failed && s.runs(m, known, &source, unmade.Output):
		case strings.Contains(s.Prepare, "sh ./") && (failed || err == nil && !room.prepared()):
			if err == nil {
				room.Close()
			} else {
				first = unmade.Output
			}
			s.prepare("autoreconf -fi", "the source's own script makes no complete configure script")
			source.Prepare = s.Prepare
		case failed && notFoundIn(first) != "":
			s.prepare(own, "there is no configure script")
			s.Lookups = append(s.Lookups, required("program", notFoundIn(first), "what makes the configure script"))
			unmade.Output = first
			return nil, unmade
		default:
			return room, err
		}
	}
}

// runs shows a program that was not found to further runs, and adds it to the needs, if the
// shelf or this machine has it.
func (s *Source) runs(m *machine.Machine, known *Known, source *Heard, output string) bool {
	name := notFoundIn(output)
	tree := known.treeOf(name)
	if name == "" || slices.Contains(source.Programs, name) || tree == "" && m.Programs.Find(name) == "" {
		return false
	}
	source.Programs = append(source.Programs, name)
	if tree != "" {
		source.Trees = append(source.Trees, tree)
	}
	s.Lookups = append(s.Lookups, required("program", name, "what makes the configure script"))
	return true
}

// notFoundIn is the last program that a script did not find, or "".
func notFoundIn(output string) string {
	found := notFound.FindAllStringSubmatch(output, -1)
	if len(found) == 0 {
		return ""
	}
	return found[len(found)-1][1]
}

var notFound = pattern.New(`(?m)([\w+.-]+): (?:command )?not found$`)

// newGuess puts the files that know machines, of which old releases do not know today's, in the place
// of the source's.
const newGuess = `for file in config.guess config.sub; do find . -name $file ` +
	`-exec cp -f "$(automake --print-libdir)/$file" {} ';'; done`

var tooOld = pattern.New(`config\.(?:sub|guess)\b.* failed|cannot guess build type`)

var incomplete = pattern.New(`cannot find (?:required auxiliary files|install-sh)`)

var noPrefix = pattern.New(`(?i)(?:unrecogni[sz]ed|unknown|invalid|illegal|bad|unsupported)[^\n]*--prefix`)

// hearing is what is known about a source that is being listened to.
type hearing struct {
	source   *Source
	m        *machine.Machine
	room     *listeningRoom
	known    *Known
	ctx      context.Context
	answers  answers         // what is reported as present: the shelf's packages, and what it stops without
	needed   map[string]bool // what it stops without, by key
	args     []string        // of all runs
	lacking  bool            // it stops without a program that this machine lacks
	outward  bool            // its bundled libraries are missing: it is told to use external ones
	apart    bool            // it stops because its own files are not where it runs
	quick    bool
	forced   []inquiry           // answers that were given because it had stopped
	full     *heardRun           // with all of them
	programs []string            // that it does not go on without
	more     []*buildfile.Lookup // look-ups that are only made with a switch on, or with one value of it
	cache    []byte              // of tests that do not depend on switches
	progress func(doing string, runs int)
	doing    string     // the current question
	asked    int        // questions about switches
	lock     sync.Mutex // of the following fields
	runs     int
	cpu      time.Duration
}

func (h *hearing) run(args []string, answers answers) (*heardRun, error) {
	step := configureStep{Args: args, Answers: answers, Trees: h.known.around(answers), Cache: h.cache}
	run, err := h.room.Run(h.ctx, step)
	if err == nil && run.Late && h.source.Method.Value == string(recipe.Make) {
		// What the makefiles themselves look for shows without compiling.
		step.Args = append(slices.Clone(args), "--dry-run")
		var dry *heardRun
		if dry, err = h.room.Run(h.ctx, step); err == nil {
			run.Asked = merged(slices.Concat(dry.Asked, run.Asked))
		}
	}
	if err == nil {
		h.lock.Lock()
		defer h.lock.Unlock()
		h.cpu += run.CPU
		if h.runs++; h.progress != nil {
			h.progress(h.doing, h.runs)
		}
	}
	return run, err
}

// ask returns how many of a number of questions about switches there is time for, and takes that
// time. The first questions may take twice the time of the last.
func (h *hearing) ask(questions, share int) int {
	lines := max(h.full.Lines, 1)
	if h.source.Method.Value == string(recipe.CMake) {
		lines *= 2
	}
	most := share*patience/lines - h.asked
	if h.cpu > time.Duration(share)*tooLong {
		most = 0
	}
	questions = max(0, min(questions, most))
	h.asked += questions
	return questions
}

func (h *hearing) hear() error {
	h.doing = "what it looks for"
	none, err := h.run(h.args, nil)
	if err != nil {
		return err
	}
	if h.source.Method.Value == string(recipe.Make) {
		return h.compiling(none)
	}
	h.source.downloads(none.Downloads)
	for _, o := range none.Options {
		seen := buildfile.CMakeOption(o.Name, o.About, o.On)
		at := slices.IndexFunc(h.source.Switches, func(sw buildfile.Switch) bool { return sw.Raw == o.Name })
		switch {
		case seen.Name == "":
		case at < 0:
			h.source.Switches = append(h.source.Switches, seen)
		case h.source.Switches[at].Values == nil && h.source.Switches[at].Default != buildfile.Auto:
			h.source.Switches[at].Default = seen.Default
		}
	}
	buildfile.OwnPurposes(h.source.Switches, h.source.Name.Value)
	if err := h.settle(none); err != nil {
		h.partly()
		return err
	}
	h.doing = "what it does not go on without"
	if err := h.require(none); err != nil {
		return err
	}
	lookups := h.lookups()
	if h.cache = h.full.Cache; h.cache != nil && !h.quick { // runs that are compared must be alike
		if h.full, err = h.run(h.args, h.answers); err != nil {
			return err
		}
	}
	if !h.quick {
		h.doing = "what its switches do"
		if err := h.switches(lookups); err != nil {
			return err
		}
		lookups = append(lookups, h.more...)
	}
	s := h.source
	s.heard = true
	if h.full.CXX {
		h.programs = append(h.programs, "c++")
	}
	if slices.ContainsFunc(h.full.Asked, func(a inquiry) bool { return a.Kind == "module" }) {
		h.programs = append(h.programs, "pkg-config")
	}
	s.Lookups = slices.DeleteFunc(s.Lookups, func(l buildfile.Lookup) bool {
		return l.Kind != "program" || slices.Contains(s.mentioned, l.Name()) // it has gone on without them
	})
	for _, name := range h.programs {
		l := required("program", name, "the configure step")
		lookups = append(lookups, &l)
	}
	for _, l := range lookups {
		if l.Kind != "program" ||
			!slices.ContainsFunc(s.Lookups, func(o buildfile.Lookup) bool {
				return o.Kind == "program" && o.Name() == l.Name()
			}) {
			s.Lookups = append(s.Lookups, *l)
		}
	}
	if h.quick {
		return nil
	}
	return h.agree()
}

// compiling records what a makefile lacks when it compiles: first without answers, then with what
// the shelf has and, if it does not get to the end, with everything it asked for. All of that is
// required.
func (h *hearing) compiling(run *heardRun) (err error) {
	var more []string // arguments to try
	if m := otherMakefile.FindStringSubmatch(run.Output); m != nil && filepath.IsLocal(m[1]) {
		more = append(more, "--file="+m[1])
	}
	for _, target := range []string{"linux", "unix", "posix", "all", h.source.Name.Value} {
		if slices.Contains(h.source.targets, target) || slices.Contains(strings.Fields(run.Output), target) {
			more = append(more, target) // one that the makefile has, or names
		}
	}
	works := func(run *heardRun) bool { return len(run.Built) > 0 || len(run.Asked) > 0 || run.Late }
	for _, arg := range more {
		if works(run) {
			break
		}
		args := append(slices.Clone(h.args), arg)
		other, err := h.run(args, nil)
		if err != nil {
			return err
		}
		if works(other) {
			run, h.args, h.source.Args = other, args, append(h.source.Args, arg)
			h.source.Remarks = append(h.source.Remarks, Finding{"args", arg,
				"the makefile builds nothing without it, and names it", Guessed})
		}
	}
	const enough = 6
	var had []inquiry // about what the shelf has, which later runs may not notice
	for range enough {
		grew := false
		for _, a := range run.Asked {
			if name := h.provider(a); name != "" && !h.own(a) {
				grew = h.give(name, a) || grew
				h.need(keysOf(a))
				had = append(had, a)
			}
		}
		if !grew {
			grew = h.relink(run, had)
		}
		if !grew && !run.OK { // all that the shelf has is not enough
			for _, a := range run.Asked {
				grew = h.answer(a, answer{Version: "99"}) || grew
				h.need(keysOf(a))
			}
		}
		if !grew {
			break
		}
		if run, err = h.run(h.args, h.answers); err != nil {
			return err
		}
	}
	const common = "CC=cc -fcommon"
	if !run.OK && strings.Contains(run.Output, "multiple definition of") &&
		!slices.ContainsFunc(h.args, func(arg string) bool { return strings.HasPrefix(arg, "CC=") }) {
		other, err := h.run(append(slices.Clone(h.args), common), h.answers)
		if err != nil {
			return err
		}
		if len(other.Built) > len(run.Built) {
			run = other
			h.source.Args = append(h.source.Args, common)
			h.source.Remarks = append(h.source.Remarks,
				Finding{"args", common, "several files define the same variables, which GCC before 10 accepted", Guessed})
		}
	}
	run.Asked = merged(slices.Concat(had, run.Asked))
	h.full, h.source.heard = run, true
	h.source.Built = Placeable(run.Built)
	h.movable()
	if run.CXX && !slices.ContainsFunc(h.source.Lookups, func(l buildfile.Lookup) bool {
		return l.Kind == "program" && l.Name() == "c++"
	}) {
		h.source.Lookups = append(h.source.Lookups, required("program", "c++", "what it compiles with"))
	}
	h.source.Lookups = slices.DeleteFunc(h.source.Lookups, func(l buildfile.Lookup) bool {
		return l.Kind != "program" && !l.Required
	})
	for _, l := range h.lookups() {
		if !slices.ContainsFunc(h.source.Lookups, func(o buildfile.Lookup) bool {
			return o.Kind == l.Kind && o.Name() == l.Name()
		}) {
			h.source.Lookups = append(h.source.Lookups, *l)
		}
	}
	return nil
}

// relink has the makefiles link libraries of the packages that they use under the names that those
// libraries have on the shelf. It reports whether that is new.
func (h *hearing) relink(run *heardRun, used []inquiry) (changed bool) {
	var packages []string
	for _, a := range used {
		packages = append(packages, h.provider(a))
	}
	for _, a := range run.Asked {
		library := h.known.Implements(packages, a.Names[0])
		if _, answered := h.answers[a.Key()]; a.Kind != "library" || library == "" || answered || h.provider(a) != "" {
			continue
		}
		if line := Relink(a.Names[0], library); !strings.Contains(h.source.Prepare, line) {
			changed = true
			h.source.prepare(strings.TrimLeft(h.source.Prepare+"\n"+line, "\n"),
				"the makefiles link "+a.Names[0]+", and the shelf has "+library)
			h.room.source.Prepare = h.source.Prepare
		}
	}
	return changed
}

// otherMakefile matches how a makefile says which one to use in its place.
var otherMakefile = pattern.New(`\bmake -f ([\w./-]+\w)`)

// Placeable are the built programs and libraries that are of use to others.
func Placeable(built []string) []string {
	return slices.DeleteFunc(slices.Clone(built), func(name string) bool {
		inside := strings.Split(path.Dir(name), "/")
		return !plainPath.MatchString(name) || tries.MatchString(path.Base(name)) ||
			slices.ContainsFunc(inside, func(dir string) bool { return strings.Trim(dir, ".") != "" && aside.MatchString(dir) })
	})
}

// tries matches programs that only test, demonstrate or install the package.
var tries = pattern.New(`(?i)^(?:tests?|check|example|demo|sample|bench)|(?:[-_.]tests?|test|bench|[-_]demo` +
	`|[-_]example|^install)$`)

// movable compiles a static library with -fPIC if the makefile makes no shared one, so that
// shared libraries of other packages can include it.
func (h *hearing) movable() {
	library, shared := "", false
	for _, file := range slices.Sorted(maps.Keys(h.full.Made)) {
		base := path.Base(file)
		shared = shared || strings.Contains(base, ".so")
		if strings.HasPrefix(base, "lib") && strings.HasSuffix(base, ".a") {
			library = cmp.Or(library, base)
		}
	}
	if library == "" || shared || h.source.ownCompiler {
		return
	}
	compilers := []string{"CC=cc -fPIC"}
	if h.full.CXX {
		compilers = append(compilers, "CXX=c++ -fPIC")
	}
	for _, arg := range compilers {
		h.source.Args = append(h.source.Args, arg)
		h.source.Remarks = append(h.source.Remarks,
			Finding{"args", arg, "for shared libraries that take in " + library, Guessed})
	}
}

// partly records the inquiries of a source that stops: the last one without an answer is the
// likely reason.
func (h *hearing) partly() {
	if h.full == nil {
		return
	}
	if h.full.CXX {
		h.source.Lookups = append(h.source.Lookups, required("program", "c++", "the configure step"))
	}
	forced := map[string]bool{} // it had stopped without these, too
	for _, a := range h.forced {
		for _, key := range keysOf(a) {
			forced[key] = true
		}
	}
	last := !h.lacking
	for _, l := range slices.Backward(h.lookups()) {
		l.Required = !h.answered(l) && last
		last = last && !l.Required
		l.Required = l.Required || forced[keyOf(l.Kind, l.Name())]
		if !slices.ContainsFunc(h.source.Lookups, func(o buildfile.Lookup) bool {
			return buildfile.Stem(o.Name()) == buildfile.Stem(l.Name())
		}) {
			h.source.Lookups = append(h.source.Lookups, *l)
		}
	}
}

// provider is the recipe that has one of the names.
func (h *hearing) provider(a inquiry) string {
	for _, name := range a.Names {
		if found, _, is := h.known.Find(a.Kind, name); is && found != h.source.Name.Value {
			return found
		}
	}
	return ""
}

// own reports whether the source looks for itself: for its own name, which no other recipe
// offers.
func (h *hearing) own(a inquiry) bool {
	return h.provider(a) == "" && slices.ContainsFunc(a.Names, func(name string) bool {
		return buildfile.Stem(name) == buildfile.Stem(h.source.Name.Value)
	})
}

// settle finds the answers with which the step succeeds: everything on the shelf, and of the
// rest only what is required.
func (h *hearing) settle(run *heardRun) (err error) {
	const most = 24
	maps.Copy(h.answers, h.known.configs())
	aside, outside, picked := h.aside(), h.outside(), false
	here := func(name string) bool { return h.m.Programs.Find(name) != "" }
	for tried, grew := 0, len(h.answers) > 0; ; grew = false {
		for _, a := range run.Asked {
			if name := h.provider(a); name != "" && a.Kind != "program" && !h.own(a) && h.give(name, a) {
				grew = true
			}
		}
		if !grew && run.OK {
			h.full = run
			return nil
		}
		switch {
		case grew:
		case aside != nil: // the build will have these off, too
			args := slices.Concat(h.args, aside)
			aside = nil
			other, err := h.run(args, h.answers)
			if err != nil {
				return err
			}
			if other.OK || len(other.Asked) > len(run.Asked) { // it got further
				h.args, run = args, other
			}
			continue
		case slices.ContainsFunc(h.source.mentioned, here): // it may not go on without these
			err = h.room.Show(h.source.mentioned...)
			h.source.mentioned = slices.DeleteFunc(h.source.mentioned, here)
		case !picked:
			picked = true
			other, err := h.pick(run)
			if err != nil {
				return err
			}
			if other != nil {
				run = other
			}
			continue
		default:
			var culprit inquiry
			found := false
			if tried++; tried <= most && !run.Late {
				culprit, found = h.culprit(run)
			}
			if !found && outside != nil { // its copies may be missing
				h.args, outside, h.outward = slices.Concat(h.args, outside), nil, true
				break
			}
			if !found {
				h.full = run
				return h.stopped(run)
			}
			if culprit.Kind == "program" {
				h.programs = append(h.programs, culprit.Names[0])
				if tree := h.known.treeOf(culprit.Names[0]); tree != "" {
					h.answers[culprit.Key()] = answer{Tree: tree}
				} else {
					err = h.room.Show(culprit.Names[0])
				}
			} else {
				h.answer(culprit, answer{Version: "99"})
				h.forced = append(h.forced, culprit)
			}
		}
		if err != nil {
			return err
		}
		if run, err = h.run(h.args, h.answers); err != nil {
			return err
		}
	}
}

// aside are the arguments that turn off what is not the package itself: tests, documentation and
// the like.
func (h *hearing) aside() (args []string) {
	for _, sw := range h.source.Switches {
		if sw.Purpose != "" && sw.Purpose != buildfile.Shared && sw.Purpose != buildfile.Static &&
			sw.Default != buildfile.Off {
			args = append(args, sw.Off...)
		}
	}
	return args
}

// outside returns the arguments that make the source use libraries from outside.
func (h *hearing) outside() (args []string) {
	for _, sw := range h.source.Switches {
		if theirs.MatchString(sw.Raw) {
			args = append(args, sw.On...)
		}
	}
	return args
}

// give makes a step find what a recipe has: its whole tree if it is built, otherwise a stand-in
// for the inquiry. It reports whether that is new.
func (h *hearing) give(name string, a inquiry) (added bool) {
	tree := h.known.trees[name]
	if tree == "" {
		return h.answer(a, answer{Version: h.known.version(name, a)})
	}
	for key, of := range h.known.provides {
		kind, what, _ := strings.Cut(key, " ")
		a := inquiry{Kind: kind, Names: []string{what}}
		if of == name && kind != "program" && h.answer(a, answer{Version: h.known.version(name, a), Tree: tree}) {
			added = true
		}
	}
	return added
}

// answer adds an answer, and reports whether it is new.
func (h *hearing) answer(a inquiry, with answer) (added bool) {
	for _, name := range a.Names {
		key := keyOf(a.Kind, name)
		if _, there := h.answers[key]; !there {
			h.answers[key], added = with, true
		}
	}
	return added
}

func (h *hearing) answered(l *buildfile.Lookup) bool {
	_, there := h.answers[keyOf(l.Kind, l.Name())]
	return there
}

// culprit is the inquiry for which a run seems to have stopped: the last one that can be
// satisfied.
func (h *hearing) culprit(run *heardRun) (culprit inquiry, found bool) {
	for _, a := range slices.Backward(run.Asked) { // what an option of a recipe brings
		_, answered := h.answers[a.Key()]
		if _, behind := h.known.brings(a.Names[0], true); behind && !answered && a.Kind == "library" && !h.own(a) {
			return a, true
		}
	}
	var asked []host.Question
	for _, a := range run.Asked {
		asked = append(asked, questions(asLookup(a))...)
	}
	owners := h.m.HostFiles.Owners(asked)
	here := h.m.Programs.Ask(h.ctx, "cc", asked, func(host.Question) bool { return true })
	for _, a := range slices.Backward(run.Asked) {
		_, answered := h.answers[a.Key()]
		if answered || a.Kind == "program" || h.own(a) {
			continue
		}
		if a.Required || a.Kind == "function" ||
			slices.ContainsFunc(questions(asLookup(a)), func(q host.Question) bool {
				return here[q].There || len(owners[q]) > 0
			}) {
			return a, true
		}
	}
	sees := func(file string) bool { return file != "" && h.room.Sees(file) }
	programs := lastWords(run.Output)
	for _, a := range slices.Backward(run.Asked) {
		if a.Kind == "program" {
			programs = append(programs, a.Names...)
		}
	}
	for _, word := range programs { // a program of the shelf that it names when it stops, or has looked for
		if _, answered := h.answers["program "+word]; !answered && h.known.treeOf(word) != "" &&
			!sees(h.m.Programs.Find(word)) {
			return inquiry{Kind: "program", Names: []string{word}}, true
		}
	}
	for _, word := range programsOf(run.Output) { // a program that it says it needs
		file := h.m.Programs.Find(word)
		if file != "" && !h.room.Sees(file) && !slices.Contains(h.programs, word) {
			return inquiry{Kind: "program", Names: []string{word}}, true
		}
	}
	return culprit, false
}

// stopped is the error for a run that nothing here gets further. A program that it needs and
// that this machine lacks is noted.
func (h *hearing) stopped(run *heardRun) error {
	if run.Late {
		return &Unheard{run.Output}
	}
	h.apart = h.room.lacksOwn(run)
	var programs []host.Question
	for _, word := range programsOf(run.Output) {
		programs = append(programs, host.Question{Kind: host.Program, Name: word})
	}
	for line := range strings.Lines(run.Output) {
		m := lackedProgram.FindStringSubmatch(strings.TrimRight(line, "\n"))
		if m == nil {
			continue
		}
		if _, behind := h.known.brings(m[1]+m[2], true); behind { // an option of a recipe brings it
			h.source.Lookups = append(h.source.Lookups, required("program", m[1]+m[2],
				"the configure step, which stops without"))
		}
	}
	owners := h.m.HostFiles.Owners(programs)
	why := "it stops: " + lastError(run.Output)
	for _, q := range programs {
		if slices.Contains(owners[q], q.Name) && h.m.Programs.Find(q.Name) == "" &&
			slices.Contains(words(why), q.Name) {
			h.source.Lookups = append(h.source.Lookups, required("program", q.Name, "the configure step, which stops without"))
			h.lacking = true
			return &Unheard{why + ". The operating system has " + q.Name + " in " + owners[q][0] + ", which is not installed"}
		}
	}
	return &Unheard{why}
}

// lastWords are the words in the last lines of an output.
func lastWords(output string) []string {
	const few = 3
	lines := strings.Split(strings.TrimSpace(output), "\n")
	return words(strings.Join(lines[max(0, len(lines)-few):], " "))
}

func words(text string) []string {
	return strings.FieldsFunc(text, func(c rune) bool { return strings.ContainsRune(" \t\n,:;()'\"`<>=", c) })
}

// programsOf are the programs that a configure step may have looked for last, by what it says:
// "checking for suitable m4... no", "Please install m4", "Program 'nasm' not found".
func programsOf(output string) (names []string) {
	said := strings.TrimRight(lastError(output), ".")
	if all := checkingFor.Compiled().FindAllStringSubmatch(output, -1); len(all) > 0 {
		said = all[len(all)-1][1] + " " + said
	}
	for _, word := range words(said) {
		for _, name := range []string{word, strings.ToLower(word), strings.ToLower(word) + "3"} {
			if recipe.CheckSystemName(name) == nil && len(name) > 1 && !slices.Contains(articles, name) &&
				!slices.Contains(names, name) {
				names = append(names, name)
			}
		}
	}
	return names
}

var (
	checkingFor = pattern.New(`(?m)^checking (?:for|whether) (.*?)\.\.\.`)
	articles    = []string{"at", "as", "with", "for", "from", "which"} // that are programs, too
)

// require finds out what it does not go on without: of the recipes that have something, and of
// what was answered because it stopped. What of that is not needed after all is taken back.
func (h *hearing) require(none *heardRun) error {
	if none.OK {
		return nil
	}
	of := map[string][]string{} // the answers of each recipe
	for _, a := range h.full.Asked {
		if name := h.provider(a); name != "" && !h.own(a) && (a.Kind != "program" || isConfig(a.Kind, a.Names[0])) {
			of[name] = append(of[name], keysOf(a)...)
		}
	}
	goesOnWithout := func(recipes ...string) (*heardRun, error) {
		var keys []string
		for _, name := range recipes {
			keys = append(keys, of[name]...)
			for key, a := range h.answers {
				if a.Tree != "" && a.Tree == h.known.trees[name] {
					keys = append(keys, key)
				}
			}
		}
		return h.goesOnWithout(keys)
	}
	recipes := slices.Sorted(maps.Keys(of))
	if len(h.forced) > 0 && len(recipes) > 1 { // it may have stopped only for lack of those answers
		all, err := goesOnWithout(recipes...)
		if err != nil {
			return err
		}
		if all != nil {
			recipes = nil
		}
	}
	err := each(recipes, func(name string) (conclude func(), err error) {
		run, err := goesOnWithout(name)
		return func() {
			if run == nil {
				h.need(of[name])
			}
		}, err
	})
	if err != nil {
		return err
	}
	var groups [][]string // of given answers, by subject
	for _, a := range h.forced {
		i := slices.IndexFunc(groups, func(group []string) bool {
			_, name, _ := strings.Cut(group[0], " ")
			return buildfile.Stem(name) == buildfile.Stem(a.Names[0])
		})
		switch {
		case a.Kind == "function":
		case i >= 0:
			groups[i] = append(groups[i], keysOf(a)...)
		default:
			groups = append(groups, keysOf(a))
		}
	}
	for _, group := range groups {
		run, err := h.goesOnWithout(group)
		if err != nil {
			return err
		}
		if run == nil {
			h.need(group)
			continue
		}
		h.full = run
		for _, key := range group {
			delete(h.answers, key)
		}
	}
	return nil
}

func keysOf(a inquiry) (keys []string) {
	for _, name := range a.Names {
		keys = append(keys, keyOf(a.Kind, name))
	}
	return keys
}

// goesOnWithout runs the source without some answers. It returns nil where that stops.
func (h *hearing) goesOnWithout(keys []string) (*heardRun, error) {
	without := maps.Clone(h.answers)
	for _, key := range keys {
		delete(without, key)
	}
	run, err := h.run(h.args, without)
	if err != nil || !run.OK {
		return nil, err
	}
	return run, nil
}

func (h *hearing) need(keys []string) {
	for _, key := range keys {
		h.needed[key] = true
	}
}

// each calls a function for each of a list, as many at once as there are processors, and then
// what they return, in order, so that the result does not depend on which ends first.
func each[T any](list []T, do func(T) (conclude func(), err error)) error {
	var all errgroup.Group
	all.SetLimit(runtime.NumCPU())
	conclusions := make([]func(), len(list))
	for i, one := range list {
		all.Go(func() (err error) {
			conclusions[i], err = do(one)
			return err
		})
	}
	if err := all.Wait(); err != nil {
		return err
	}
	for _, conclude := range conclusions {
		conclude()
	}
	return nil
}

// asLookup is what was asked for as drafts know it.
func asLookup(a inquiry) buildfile.Lookup {
	return buildfile.Lookup{Kind: a.Kind, Names: a.Names, Version: a.Range, From: "the configure step"}
}

// lookups are what it has asked for when it had all answers.
func (h *hearing) lookups() (all []*buildfile.Lookup) {
	for _, a := range h.full.Asked {
		if h.own(a) || a.Kind == "function" ||
			a.Kind == "library" && slices.ContainsFunc(a.Names, func(name string) bool { return ofC[name] }) {
			continue
		}
		l := asLookup(a)
		l.Required = h.needed[a.Key()]
		switch {
		case isConfig(a.Kind, a.Names[0]): // it stands for its package
			l.Kind, l.Names = "package", []string{h.provider(a)}
		case a.Kind == "program" && buildfile.Ordinary(a.Names[0]): // as libtool asks for file
			continue
		case a.Kind == "program": // one that the shelf has, it gets
			l.Required = h.known.treeOf(a.Names[0]) != "" && h.provider(a) != ""
			if !l.Required && h.source.Method.Value == string(recipe.Configure) { // it may be none
				continue
			}
		}
		all = append(all, &l)
	}
	return all
}

// ofC are the libraries that come with the C library.
var ofC = map[string]bool{"c": true, "m": true, "dl": true, "rt": true, "pthread": true, "util": true, "resolv": true}

// errorLine matches how configure steps say why they stop.
var errorLine = pattern.New(`(?im)^(?:configure: error:\s+|.*CMake Error|.*?\bERROR: |error: ).*$`)

// lastError is the last line in which a configure step says why it stops, or its last line.
func lastError(output string) string {
	if all := errorLine.Compiled().FindAllString(output, -1); len(all) > 0 {
		return strings.Trim(plainText(all[len(all)-1]), " .")
	}
	lines := strings.Split(strings.TrimSpace(output), "\n")
	return cmp.Or(plainText(lines[len(lines)-1]), "without a word")
}
