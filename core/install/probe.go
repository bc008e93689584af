package install

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"fernladder/core/advice"
	"fernladder/core/build"
	"fernladder/core/compare"
	"fernladder/core/draft"
	"fernladder/core/host"
	"fernladder/core/machine"
	"fernladder/core/pattern"
	"fernladder/core/plan"
	"fernladder/core/recipe"
	"fernladder/core/safefs"
	"fernladder/core/sandbox"
	"fernladder/core/store"
	"fernladder/core/tomlfile"
)

// An Installer installs packages of the operating system, of which program says whether builds only
// run them. If it returns false, a person has to.
type Installer func(ctx context.Context, packages []string, program bool) (bool, error)

// A Probing says what a probe may do, and whom it reports to.
type Probing struct {
	Answered func(r *recipe.Recipe, lines string) // these lines were added to the recipe
	Undone   func(lines string)                   // they did not help, and are removed again
	Install  Installer                            // nil: a person has to install what is missing
}

// Probed is the outcome of a probe.
type Probed struct {
	Recipe  *recipe.Recipe
	Receipt *store.Receipt // of the build; nil where it failed
	Failure *build.Failure // of the last build; nil where it succeeded
	Lacks   bool           // it failed for something that is missing, which a person may install
	Wrong   []string       // deviations of the tree from the recipe, as found by judge
	Useless []string       // packages of the operating system that were installed for answers that did not help
}

// Probe builds a drafted recipe in a sealed room, and writes the outcome, and what its tree
// offers, into the recipe. It answers each failure that it knows an answer to, and goes on,
// through everything that is missing: answers that help are kept, others are rolled back. The
// landing does not change.
//
// If the package does not build, the error is that of its build, and the recipe says so, too.
func Probe(ctx context.Context, m *machine.Machine, name string, steps Probing) (Probed, error) {
	p := &probe{m: m, name: name, steps: steps, tried: map[string]bool{}}
	if err := p.askForPlace(); err != nil {
		return Probed{}, err
	}
	err := p.goOn(ctx)
	failure := p.failure(err)
	switch {
	case ctx.Err() != nil:
		return Probed{Useless: p.useless}, ctx.Err()
	case failure != nil:
		done := Probed{Recipe: p.recipe, Useless: p.useless, Failure: failure, Lacks: failure.Cause != nil &&
			len(failure.Cause.Questions()) > 0}
		return done, errors.Join(p.note(failed(failure, p.date())), err)
	case err != nil:
		return Probed{Recipe: p.recipe, Useless: p.useless}, err
	}
	for _, improve := range []func(context.Context) error{p.headers, p.link, p.unneeded, p.turnOff, p.skipUnplaced} {
		if err := improve(ctx); err != nil {
			return Probed{Recipe: p.recipe, Useless: p.useless}, err
		}
	}
	return p.succeeded()
}

// askForPlace takes out the step that places a program by the name of the package, which a draft has
// if it does not know what is built: a failure in stage place tells.
func (p *probe) askForPlace() error {
	if _, err := p.read(); err != nil {
		return err
	}
	if p.recipe.Build.Method != recipe.Make ||
		strings.TrimSpace(p.recipe.Step(build.StagePlace)) != draft.PlaceByName(p.recipe.Name) {
		return nil
	}
	_, err := p.rewrite(func() error {
		return p.recipe.Change(func(e *tomlfile.Edit) { e.Remove("steps", build.StagePlace) })
	})
	return err
}

// better builds the package once more, with a changed recipe. If that builds, and is better, the
// recipe keeps the change.
func (p *probe) better(ctx context.Context, says string, change func(*tomlfile.Edit),
	is func(before *build.Job) bool) error {
	r, job := p.recipe, p.job
	before, err := p.rewrite(func() error { return r.Change(change) })
	if err != nil {
		return err
	}
	err = p.attempt(ctx)
	if p.broke = p.failure(err) != nil; err == nil && is(job) {
		p.steps.Answered(p.recipe, says)
		return nil
	}
	p.recipe, p.job = r, job
	return errors.Join(ctx.Err(), p.restore(before))
}

// mend changes the recipe, because the tree is not as it says, and keeps that if fewer deviations
// are left. says is what is changed, and why, a line each.
func (p *probe) mend(ctx context.Context, now judgement, says []string, change func(*tomlfile.Edit)) error {
	if len(says) == 0 {
		return nil
	}
	text := fmt.Sprintf("# Changed by a probe on %s, because the tree was not as the recipe says:\n# %s", p.date(),
		strings.Join(says, "\n# "))
	return p.better(ctx, text, func(e *tomlfile.Edit) { change(e); e.Append(text) }, func(*build.Job) bool {
		after, err := p.judge()
		return err == nil && len(after.wrong()) < len(now.wrong())
	})
}

// headers places the headers in the directory in which they look for each other.
func (p *probe) headers(ctx context.Context) error {
	now, err := p.judge()
	argument := map[recipe.Method]string{recipe.Configure: "--includedir=$FL_PREFIX/include/",
		recipe.CMake: "-DCMAKE_INSTALL_INCLUDEDIR=include/", recipe.Meson: "--includedir=include/"}[p.recipe.Build.Method]
	if err != nil || len(now.below) != 1 || argument == "" {
		return err
	}
	argument += now.below[0]
	r := p.recipe
	says := fmt.Sprintf("headers include each other as %s/…; the argument %s places them there.", now.below[0], argument)
	return p.mend(ctx, now, []string{says}, func(e *tomlfile.Edit) { advice.AddArguments(e, r, argument) })
}

// link has the libraries linked with the needs that they use, if they are not.
func (p *probe) link(ctx context.Context) error {
	now, err := p.judge()
	if err != nil {
		return err
	}
	var flags, says []string
	for _, pair := range p.recipe.Build.Env {
		if pair.Name == "LDFLAGS" {
			flags = strings.Fields(pair.Values[0])
		}
	}
	for _, u := range now.alone {
		says = append(says, fmt.Sprintf("%s uses %s of %s and was not linked with it; LDFLAGS has its library.", u.file,
			u.symbol, u.need))
		if !slices.Contains(flags, u.flag()) {
			flags = append(flags, u.flag())
		}
	}
	return p.mend(ctx, now, says, func(e *tomlfile.Edit) {
		e.SetTable("build.env", []string{"LDFLAGS"}, map[string]string{"LDFLAGS": tomlfile.Quote(strings.Join(flags, " "))})
	})
}

// unneeded takes out needs that no file is linked with, if the source builds without them. An
// option that brought one stays on if it does something without.
func (p *probe) unneeded(ctx context.Context) error {
	now, err := p.judge()
	if err != nil || now.opens {
		return err
	}
	var says []string
	var needs []int
	for i, n := range p.recipe.Needs {
		name := n.Names()[0]
		o := advice.Brings(p.recipe, name)
		if len(n.Names()) == 1 && slices.Contains(now.unused, name) && (o == nil || len(o.On)+len(o.Off) > 0) {
			says = append(says, fmt.Sprintf("no file was linked with %s, and it builds without it.", name))
			needs = append(needs, i)
		}
	}
	err = p.mend(ctx, now, says, func(e *tomlfile.Edit) {
		for _, i := range slices.Backward(needs) {
			e.ReplaceInList("need", i, "")
		}
	})
	if len(needs) == 1 && p.broke { // it uses the headers, or only asks whether it is there
		if name := p.recipe.Needs[needs[0]].Names()[0]; advice.Brings(p.recipe, name) == nil {
			p.required, p.judged = name, nil
		}
	}
	return err
}

// turnOff turns off what needs a library that no file is linked with.
func (p *probe) turnOff(ctx context.Context) error {
	now, err := p.judge()
	if err != nil || now.opens {
		return err
	}
	var says, off []string
	for _, need := range now.unused {
		if o := advice.Brings(p.recipe, need); o != nil {
			says = append(says, fmt.Sprintf("no file was linked with %s; the option %s is off.", need, o.Name))
			off = append(off, o.Name)
		}
	}
	return p.mend(ctx, now, says, func(e *tomlfile.Edit) { setOff(e, off) })
}

// setOff turns options off by default.
func setOff(e *tomlfile.Edit, options []string) {
	for _, name := range options {
		e.SetTable("option."+name, []string{"default"}, map[string]string{"default": "false"})
	}
}

// judge judges the tree of the last build, once.
func (p *probe) judge() (judgement, error) {
	if p.judged == p.job {
		return p.found, nil
	}
	built, err := p.m.Store.Receipt(p.job.Ref)
	if err != nil {
		return judgement{}, p.m.Store.Wrap(err)
	}
	known, err := draft.Survey(p.m.Shelves, p.m.Store)
	if err != nil {
		return judgement{}, err
	}
	found, err := judge(p.m, known, p.recipe, built)
	found.unused = slices.DeleteFunc(found.unused, func(need string) bool { return need == p.required })
	if err == nil {
		p.judged, p.found = p.job, found
	}
	return found, err
}

// skipUnplaced builds the package once more, and compiles only what is placed. If the tree is the
// same, and that saves a tenth of the processor time, the recipe keeps it.
func (p *probe) skipUnplaced(ctx context.Context) error {
	whole, err := p.m.Store.Receipt(p.job.Ref)
	const worth = 5 // seconds
	if err != nil || p.recipe.Build.SkipUnplaced || compiling(whole) < worth || p.recipe.SkipsNothing() != "" {
		return err
	}
	return p.better(ctx, "# Compiling only what is placed gives the same files, in less processor time.\n"+
		"skip_unplaced = true", func(e *tomlfile.Edit) {
		e.Set("true", "build", "skip_unplaced")
		e.Append(fmt.Sprintf("# Probed on %s: it builds; the probe ended before skip_unplaced was proved.", p.date()))
	}, func(before *build.Job) bool {
		differ, err := compare.Trees(place(before), place(p.job))
		only, cannot := p.m.Store.Receipt(p.job.Ref)
		p.skips = err == nil && cannot == nil && len(differ) == 0 && only.SkippedUnplaced &&
			compiling(only) < compiling(whole)*9/10
		return p.skips
	})
}

func place(j *build.Job) compare.Place { return compare.Place{Dir: j.Tree, Tree: j.Tree} }

// compiling is the processor time of a build's compile stage.
func compiling(r *store.Receipt) (seconds float64) {
	for _, s := range r.Stages {
		if s.Stage == build.StageCompile {
			seconds += s.CPU
		}
	}
	return seconds
}

// probe is a probe in progress. A changed recipe is read again, by another machine value.
type probe struct {
	m      *machine.Machine
	name   string
	steps  Probing
	recipe *recipe.Recipe
	job    *build.Job
	tried  map[string]bool // answers, with their questions

	written []byte // the recipe, as the last answer has left it
	skips   bool   // compiling only what is placed was proved
	useless []string
	judged  *build.Job // the build that found is about
	found   judgement

	broke    bool   // what better has tried does not build
	required string // a need that no file is linked with, and that it does not build without
}

func (p *probe) date() string { return p.m.Now().Format("2006-01-02") }

// read reads the recipe as it is now, and returns a machine that builds with it.
func (p *probe) read() (*machine.Machine, error) {
	m, err := p.m.With(func(c *machine.Config) { c.Level = sandbox.Sealed })
	if err == nil {
		p.recipe, err = m.Shelves.Find(p.name)
	}
	return m, err
}

// attempt builds the package with its current recipe.
func (p *probe) attempt(ctx context.Context) error {
	m, err := p.read()
	if err != nil {
		return err
	}
	made, err := plan.For(ctx, m, plan.Ask{Names: []string{p.recipe.Buildable()}})
	if err != nil {
		return err
	}
	p.job = made.Asked()[0]
	_, err = Run(ctx, m, made)
	return err
}

// failure is that of the package itself, or nil.
func (p *probe) failure(err error) *build.Failure {
	var failure *build.Failure
	if errors.As(err, &failure) && failure.Package == p.name {
		return failure
	}
	return nil
}

// A step of a probe is an answer that was given.
type step struct {
	answer  *advice.Answer
	to      *build.Failure
	err     error    // that it came with
	text    []byte   // of the recipe before
	brought []string // packages that were installed for it
}

// goOn builds the package, and answers its failures one after another. Answers that only seemed
// to help are rolled back: going without something, or another directory, may be the wrong way.
func (p *probe) goOn(ctx context.Context) error {
	const enough = 40 // more than that, and something else is wrong
	var steps []step
	var last error
	back := func(to int) error {
		s := steps[to]
		for _, undone := range steps[to:] {
			p.useless = append(p.useless, undone.brought...)
		}
		steps, last = steps[:to], s.err
		p.steps.Undone(s.answer.Text)
		if err := p.restore(s.text); err != nil {
			return err
		}
		_, err := p.read()
		return err
	}
	fresh := false // whether the last step helps is unknown yet
	for range enough {
		err := p.attempt(ctx)
		if ctx.Err() != nil {
			return err
		}
		failure := p.failure(err)
		if failure == nil {
			installed, cannot := p.installMissing(ctx, err)
			if cannot == nil && len(installed) == 0 {
				var without bool
				if without, cannot = p.goWithout(err); without {
					continue
				}
			}
			if cannot != nil || len(installed) == 0 {
				return errors.Join(cannot, err)
			}
			if len(steps) > 0 {
				steps[len(steps)-1].brought = append(steps[len(steps)-1].brought, installed...)
			}
			continue
		}
		last = err
		if fresh && !further(steps[len(steps)-1].to, failure) {
			failure = steps[len(steps)-1].to
			if err := back(len(steps) - 1); err != nil {
				return err
			}
		}
		answer := p.next(failure)
		for answer == nil {
			detour := -1
			for i, s := range steps {
				if s.answer.Detour {
					detour = i
				}
			}
			if detour < 0 {
				return last
			}
			failure = steps[detour].to
			if err := back(detour); err != nil {
				return err
			}
			answer = p.next(failure)
		}
		text, err := p.give(answer, failure)
		if err != nil {
			return err
		}
		steps, fresh = append(steps, step{answer: answer, to: failure, err: last, text: text}), true
		if len(answer.Packages) > 0 || answer.Absent {
			installed, cannot := p.install(ctx, answer.Packages, answer.Program)
			if cannot != nil || !installed {
				return errors.Join(cannot, last)
			}
			steps[len(steps)-1].brought = answer.Packages
		}
	}
	return last
}

// goWithout turns off the options that bring what cannot be built: nothing optional stops a ladder.
func (p *probe) goWithout(err error) (bool, error) {
	var all *Failures
	var f *build.Failure
	if !errors.As(err, &all) || !errors.As(err, &f) {
		return false, nil
	}
	text := fmt.Sprintf("# Changed by a probe on %s, because %s %s failed in stage %s:", p.date(), f.Package, f.Version,
		f.Stage)
	var off []string
	for _, r := range all.Results { // those that failed, and those that need them
		if o := advice.Brings(p.recipe, r.Job.Name); o != nil && !slices.Contains(off, o.Name) {
			off = append(off, o.Name)
			text += fmt.Sprintf("\n# the option %s is off.", o.Name)
		}
	}
	if len(off) == 0 {
		return false, nil
	}
	_, cannot := p.rewrite(func() error {
		return p.recipe.Change(func(e *tomlfile.Edit) {
			setOff(e, off)
			e.Append(text)
		})
	})
	if cannot == nil {
		p.steps.Answered(p.recipe, text)
	}
	return cannot == nil, cannot
}

// next is the first answer to a failure that was not tried for it yet.
func (p *probe) next(f *build.Failure) *advice.Answer {
	for _, a := range advice.To(p.recipe, f, advice.Look(p.m)) {
		if key := says(f) + "\n" + a.Text; !p.tried[key] {
			p.tried[key] = true
			return a
		}
	}
	return nil
}

// says identifies a failure.
func says(f *build.Failure) string {
	switch {
	case f.Cause != nil:
		return f.Stage + " " + string(f.Cause.Kind) + " " + filepath.Base(f.Cause.Name()) + " " + f.Cause.Place
	case f.Stage == build.StagePlace: // files are placed one after another
		return f.Stage + " " + buildID.ReplaceAllString(strings.Join(f.Lines, "\n"), "")
	}
	return f.Stage + " " + f.What
}

// buildID matches a build's id in its paths.
var buildID = pattern.New(`-[0-9a-f]{12}\b`)

// further reports whether a build got further than the one before: to a later stage, or to
// another failure in the same one.
func further(before, now *build.Failure) bool {
	order := []string{build.StageConfigure, build.StageCompile, build.StageCheck, build.StagePlace, build.StageTry}
	was, is := slices.Index(order, before.Stage), slices.Index(order, now.Stage)
	return is > was || is == was && says(before) != says(now)
}

// give gives an answer, and returns the previous recipe.
func (p *probe) give(a *advice.Answer, f *build.Failure) (before []byte, err error) {
	what := f.What
	if f.Cause != nil {
		what = f.Cause.String()
	}
	why := fmt.Sprintf("# Added by a probe on %s, because in stage %s %s.", p.date(), f.Stage,
		strings.Join(strings.Fields(what), " "))
	if before, err = p.rewrite(func() error { return a.Give(p.recipe, why) }); err == nil {
		p.steps.Answered(p.recipe, why+"\n"+a.Text)
	}
	return before, err
}

// rewrite changes the recipe so that it can be restored, and returns the previous text.
func (p *probe) rewrite(change func() error) (before []byte, err error) {
	if before, err = p.text(); err != nil {
		return nil, err
	}
	if err := change(); err != nil {
		return nil, err
	}
	p.written, err = p.text()
	return before, err
}

func (p *probe) text() ([]byte, error) {
	return p.recipe.OnShelf(recipe.FileName).ReadFile(recipe.Largest)
}

// errChanged is the error for a recipe that another process has changed meanwhile.
var errChanged = errors.New("the recipe changed during the probe; what the probe wanted to remove stays")

// restore restores a previous recipe.
func (p *probe) restore(text []byte) error {
	return p.recipe.Rewrite(func(now []byte) ([]byte, error) {
		if !bytes.Equal(now, p.written) {
			return nil, errChanged
		}
		p.written = text
		return text, nil
	})
}

// installMissing installs what the recipe needs of the operating system and what is missing.
func (p *probe) installMissing(ctx context.Context, err error) (installed []string, cannot error) {
	var missing *host.Missing
	if !errors.As(err, &missing) || p.steps.Install == nil {
		return nil, nil
	}
	packages, unknown := missing.Packages()
	key := "missing " + strings.Join(packages, " ")
	if len(packages) == 0 || len(unknown) > 0 || p.tried[key] {
		return nil, nil
	}
	p.tried[key] = true
	program := !slices.ContainsFunc(missing.Needs, func(f host.Finding) bool { return f.Kind != host.Program })
	if done, err := p.install(ctx, packages, program); err != nil || !done {
		return nil, err
	}
	return packages, nil
}

func (p *probe) install(ctx context.Context, packages []string, program bool) (bool, error) {
	if p.steps.Install == nil || len(packages) == 0 {
		return false, nil
	}
	return p.steps.Install(ctx, packages, program)
}

// earlier are the notes of probes before.
var earlier = pattern.New(`(?m)^# Probed on .*\n(?:#   .*\n)*\n*`)

// WasProbed reports whether a recipe has the note of a probe.
func WasProbed(r *recipe.Recipe) bool {
	text, err := r.OnShelf(recipe.FileName).ReadFile(recipe.Largest)
	return err == nil && earlier.MatchString(string(text))
}

// note appends a text to the recipe, in place of an earlier probe's note.
func (p *probe) note(text string) error {
	return p.recipe.Rewrite(func(old []byte) ([]byte, error) {
		e, err := tomlfile.Parse(p.recipe.File, []byte(earlier.ReplaceAllString(string(old), "")))
		if err != nil {
			return nil, err
		}
		e.Append(text)
		return e.Bytes()
	})
}

func failed(f *build.Failure, date string) string {
	text := fmt.Sprintf("# Probed on %s: it does not build yet. %s %s failed in stage %s: %s", date,
		f.Package, f.Version, f.Stage, strings.Join(strings.Fields(f.What), " "))
	for _, line := range f.Lines {
		text += "\n#   " + line
	}
	return text
}

func (p *probe) succeeded() (Probed, error) {
	done := Probed{Recipe: p.recipe, Useless: p.useless}
	var err error
	if done.Receipt, err = p.m.Store.Receipt(p.job.Ref); err != nil {
		return done, p.m.Store.Wrap(err)
	}
	text := fmt.Sprintf("# Probed on %s: it builds, %s, in %.1f s; %d files were placed.", p.date(),
		done.Receipt.Isolation, done.Receipt.Seconds, done.Receipt.Files)
	switch {
	case p.skips:
		text += "\n# Compiling only what is placed gives the same files (skip_unplaced)."
	case done.Receipt.SkippedUnplaced:
		text += "\n# Only what is placed was compiled (skip_unplaced), and not compared with a complete build."
	}
	found, cannot := p.judge()
	done.Wrong = found.wrong()
	if len(done.Wrong) > 0 {
		text += "\n# Not as the recipe says:\n#   " + strings.Join(done.Wrong, "\n#   ")
	} else {
		text += "\n# Its libraries and features are as the recipe says."
	}
	return done, errors.Join(cannot, p.note(text), offer(p.m, p.recipe, p.job.Ref))
}

// offer writes what a build's tree offers into its recipe, if the recipe does not say so yet and
// belongs to the user.
func offer(m *machine.Machine, r *recipe.Recipe, built store.Ref) error {
	if !r.Offers.Empty() || strings.HasPrefix(r.Dir, m.Store.Root+"/") ||
		!safefs.Mine(filepath.Join(r.Dir, recipe.FileName)) {
		return nil
	}
	files, err := m.Store.Files(built)
	if err != nil {
		return err
	}
	offers := draft.Offered(m.Store.Tree(built), files)
	if offers.Empty() {
		return nil
	}
	return r.Change(func(e *tomlfile.Edit) { recipe.SetOffers(e, offers) })
}
