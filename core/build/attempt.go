package build

import (
	"context"
	"errors"
	"path"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"fernladder/core/diagnose"
	"fernladder/core/event"
	"fernladder/core/machine"
	"fernladder/core/pattern"
	"fernladder/core/safefs"
	"fernladder/core/store"
)

// An attempt is one run of a job's build. Each of its parts has its own task: the journal knows
// what is done, the room runs commands, the cost adds up.
type attempt struct {
	b       *Builder
	m       *machine.Machine
	job     *Job
	dirs    workDirs
	journal journal
	room    room
	cost    cost
	env     []string          // of commands, once it is known
	fetched []store.Source    // as they came in this run
	digests map[string]string // of the files taken over in this run
	left    *stamps           // of an earlier run's leftovers
	system  string            // the state of the operating system's packages when it began
	checked bool              // whether the leftovers were changed by hand is known
	cache   *compileCache     // or nil
	rebuild bool              // built already, and only compared
	filling bool              // its makefiles know no DESTDIR, and so have to write to the prefix
}

// stamps are those of the source, and of all directories that a build works in.
type stamps struct{ all, source string }

// cost is what an attempt has used.
type cost struct {
	began  time.Time
	stages []store.StageTime
	used   usage // by the commands of the stage
}

func (b *Builder) begin(job *Job, fetched []store.Source) *attempt {
	return &attempt{b: b, m: b.m, job: job, dirs: dirsOf(b.m.Store, job, false), cost: cost{began: b.m.Now()},
		fetched: fetched}
}

// build builds a job whose needs are installed and whose archive is in the store. It is a no-op
// if the job's tree exists. The caller holds one job slot. If the build is at fault, the error
// is a *Failure.
func (a *attempt) build(ctx context.Context) (receipt *store.Receipt, err error) {
	unlock, err := a.m.Store.LockBuild(ctx, a.job.Ref, func() {
		a.emit(event.Event{Kind: event.Waiting, Text: "another fernladder to build the same"})
	})
	if err != nil {
		return nil, err
	}
	defer unlock()
	if a.m.Store.Installed(a.job.Ref) {
		if receipt, err = a.m.Store.Receipt(a.job.Ref); err == nil {
			err = a.job.fits(receipt)
		}
		if err == nil { // a program that was killed at its very end may have left it
			err = a.m.Store.Wrap(safefs.Remove(a.m.Store.Work(a.job.Ref)))
		}
		return receipt, err
	}
	release, err := a.holdNeeds(ctx)
	if err != nil {
		return nil, err
	}
	defer release()
	defer a.end(&err)
	err = a.prepare(ctx)
	if err == nil {
		err = a.checkEdited()
	}
	if err == nil {
		err = a.trust()
	}
	if err != nil {
		return nil, a.m.Store.Wrap(err)
	}
	if len(a.journal.Done) == 0 {
		a.journal.Runs = nil
	}
	a.journal.Runs = append(a.journal.Runs, string(a.b.level))
	for _, stage := range a.job.Stages {
		if !a.journal.done(stage.Name) {
			if err := a.stage(ctx, stage.Name, func() error { return stage.run(ctx, a) }); err != nil {
				return nil, err
			}
		}
		if stage.Name == a.job.Until {
			return nil, errStopped
		}
	}
	return a.finish(ctx)
}

// errStopped ends a build that is to stop after a stage.
var errStopped = errors.New("it is built up to the stage that was requested")

// end leaves the room and returns the lent user, whatever the outcome of the build.
func (a *attempt) end(err *error) {
	if left := a.leave(); *err == nil {
		*err = a.m.Store.Wrap(left)
	}
	if *err != nil && !errors.As(*err, new(*Edited)) {
		a.leaveStamp()
	}
	if a.room.giveBack != nil {
		a.room.giveBack()
		a.room.giveBack = nil
	}
}

// stage runs a stage, times it, and reports it.
func (a *attempt) stage(ctx context.Context, name string, do func() error) error {
	began := a.m.Now()
	a.emit(event.Event{Kind: event.StageBegan, Stage: name, Log: a.log(name)})
	a.journal.Running, a.journal.Boot = name, bootID()
	if err := a.save(); err != nil {
		return err
	}
	a.cost.used.cpu = 0
	err := do()
	elapsed := max(0, a.m.Now().Sub(began)) // clocks can be set back
	a.cost.stages = append(a.cost.stages, store.StageTime{Stage: name, Seconds: elapsed.Seconds(),
		CPU: a.cost.used.cpu.Seconds()})
	ended := func() {
		a.emit(event.Event{Kind: event.StageEnded, Stage: name, Elapsed: elapsed, CPU: a.cost.used.cpu})
	}
	a.journal.Running = ""
	if err != nil {
		a.journal.spend(name, elapsed, a.cost.used.cpu)
		a.save() // if it cannot be, the next run trusts less
		if ctx.Err() != nil {
			return ctx.Err()
		}
		ended()
		var failure *Failure
		if !errors.As(err, &failure) {
			err = a.m.Store.Wrap(err)
		}
		return err
	}
	a.journal.complete(name, a.inputs(name), elapsed, a.cost.used.cpu)
	if a.journal.Pure && (name == StagePatch || name == StageUnpack && len(a.job.Patches) == 0) {
		a.journal.SourceStamp = a.stamp(a.dirs.source)
	}
	ended()
	return a.save()
}

// log is the file for the output of a stage; "" if the stage has none.
func (a *attempt) log(stage string) string {
	if stage == StageUnpack {
		return ""
	}
	if a.rebuild {
		return filepath.Join(a.dirs.work, stage+".log")
	}
	return filepath.Join(a.m.Store.Logs(a.job.Ref), stage+".log")
}

// emit reports an event of the build.
func (a *attempt) emit(e event.Event) {
	a.m.Tell(a.job.event(e.Kind, e))
}

// has reports whether the source has a file of that name in any directory.
func (a *attempt) has(name string) bool {
	found := false
	a.walkBox(a.dirs.source, func(e safefs.Entry) error {
		if !e.Mode.IsDir() && (e.Name == name || strings.HasSuffix(e.Name, "/"+name)) {
			found = true
			return safefs.Stop
		}
		return nil
	})
	return found
}

// ofSource is the name, in the source, of a file that was looked for in the build directory; ""
// for a file that was looked for in the source itself.
func (a *attempt) ofSource(name string) string {
	if !filepath.IsAbs(name) {
		return strings.TrimPrefix(filepath.Clean(name), "../")
	}
	if rest, is := strings.CutPrefix(name, a.dirs.build+"/"); is {
		return rest
	}
	return ""
}

// walkBox walks a directory of the box, as far as it can be read.
func (a *attempt) walkBox(dir string, visit func(safefs.Entry) error) error {
	box, err := safefs.OpenDir(a.dirs.box)
	if err != nil {
		return err
	}
	defer box.Close()
	d, err := box.Sub(a.dirs.below(dir))
	if err != nil {
		return err
	}
	defer d.Close()
	return d.Walk(true, visit)
}

var (
	withinMacro = pattern.New(`^(configure\.(?:ac|in)):(\d+): error: possibly undefined macro: A[CS]_`)
	archived    = pattern.New(`\b(AC?X_\w+)`)
)

// undefinedMacro is the macro of the macro archive that autoconf complains about: it names only
// one of its own macros inside, and the line of the source has the other.
func (a *attempt) undefinedMacro(c diagnose.Cause) string {
	match := withinMacro.FindStringSubmatch(c.Decisive())
	if match == nil {
		return ""
	}
	box, err := safefs.OpenDir(a.dirs.box)
	if err != nil {
		return ""
	}
	defer box.Close()
	const most = 4 << 20
	data, err := box.ReadFile(a.dirs.below(filepath.Join(a.dirs.source, a.job.Recipe.Build.Dir, match[1])), most)
	lines := strings.Split(string(data), "\n")
	number, _ := strconv.Atoi(match[2])
	if err != nil || number < 1 || number > len(lines) {
		return ""
	}
	if name := archived.FindStringSubmatch(lines[number-1]); name != nil {
		return name[1]
	}
	return ""
}

func (a *attempt) failure(stage, what, log string) *Failure {
	f := &Failure{Package: a.job.Name, Version: a.job.Version, Stage: stage, What: what, Log: log, Work: a.dirs.work}
	if log != "" {
		table, _ := a.m.Causes()
		cause := Diagnose(table, log, a.dirs.box, a.dirs.build)
		f.Lines = cause.Lines
		if cause.Known() && (cause.Kind != diagnose.Said || cause.Asks != "") { // those are shown as they are
			name := a.ofSource(cause.Name())
			switch {
			case cause.Kind == diagnose.MissingHeader && (a.has(cause.Name()) || path.Base(cause.Name()) == "config.h"),
				cause.Kind == diagnose.MissingInSource && a.dirs.build != a.dirs.system && name != "" && a.has(name):
				cause.Kind = diagnose.InSource
			}
			if macro := a.undefinedMacro(cause); macro != "" {
				cause.Kind, cause.Names, cause.Likely = diagnose.MissingMacro, []string{macro}, false
			}
			f.Cause = &cause
		}
		f.KeptOut = denials(log, a.b.level)
		if stage == StagePlace {
			a.listBuilt(f)
		}
	}
	const almostNothing = 1 << 20
	if a.m.Store.Full(almostNothing) {
		f.DiskFull = true
		f.What += "; the disk that holds " + a.m.Store.Root + " is full"
	}
	return f
}
