package build

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"fernladder/core/diagnose"
	"fernladder/core/event"
	"fernladder/core/ground"
	"fernladder/core/host"
	"fernladder/core/inspect"
	"fernladder/core/schedule"
	"fernladder/core/seal"
	"fernladder/core/source"
	"fernladder/core/store"
	"fernladder/core/used"
	"fernladder/core/version"
)

// A Builder runs jobs.
type Builder struct {
	*Workshop
	Archives *source.Archives
	Slots    *schedule.Slots
	// Downloads is how many packages' sources are fetched at once.
	Downloads int
	Events    event.Sink
	Now       func() time.Time

	asked  sync.Once // whether the ninja of the machine takes job slots
	shares bool
	loader func() host.Loader  // of the operating system
	system func() *used.System // the same
	// modulePath is where pkg-config looks for the modules of the operating system.
	modulePath func() []string
}

// building is one job on its way.
type building struct {
	*Builder
	job  *Job
	dirs workDirs
	env  []string
	journal
	parts    []store.Source // as they came in this run
	began    time.Time
	stages   []store.StageTime
	used     usage         // by the commands of the stage
	inside   *seal.Session // the room, once there is one
	user     seal.User     // whom its commands are on the machine
	giveBack func()        // the user
}

// NewBuilder returns a builder with these slots.
func NewBuilder(w *Workshop, slots *schedule.Slots) *Builder {
	return &Builder{Workshop: w, Slots: slots, Events: event.Nowhere, Now: time.Now, loader: sync.OnceValue(host.SystemLibraries),
		system: sync.OnceValue(func() *used.System {
			return &used.System{Programs: w.Programs, Packages: w.Programs.Packages(w.Machine.Family)}
		}),
		modulePath: sync.OnceValue(func() []string { return w.Programs.ModulePath(context.Background()) }),
	}
}

func (b *Builder) begin(job *Job, parts []store.Source) *building {
	return &building{Builder: b, job: job, dirs: b.dirs(job), began: b.Now(), parts: parts}
}

// build builds a job whose needs are installed and whose archive is in the
// store. It does nothing when its tree is there. The caller holds one job slot.
// Errors are of type *Failure when the build is at fault.
func (g *building) build(ctx context.Context) (receipt *store.Receipt, err error) {
	unlock, err := g.Store.LockBuild(ctx, g.job.Ref, func() {
		g.Events.Event(event.Event{Kind: event.Waiting, Package: g.job.Name, Version: g.job.Version, Text: "another fernladder to build the same"})
	})
	if err != nil {
		return nil, err
	}
	defer unlock()
	if g.Store.Installed(g.job.Ref) {
		if receipt, err = g.Store.Receipt(g.job.Ref); err == nil {
			err = g.job.fits(receipt)
		}
		if err == nil { // a program that was killed at its very end may have left it
			err = g.Store.Wrap(ground.Remove(g.Store.Work(g.job.Ref)))
		}
		return receipt, err
	}
	free, err := g.holdNeeds(ctx)
	if err != nil {
		return nil, err
	}
	defer free()
	defer g.end(&err)
	if err := g.prepare(ctx); err != nil {
		return nil, g.Store.Wrap(err)
	}
	for _, stage := range g.job.Stages {
		if slices.Contains(g.Done, stage.Name) {
			continue
		}
		if err := g.stage(ctx, stage.Name, func() error { return g.run(ctx, stage) }); err != nil {
			return nil, err
		}
	}
	return g.finish(ctx)
}

// end leaves the room and gives the user back, whatever came of the build.
func (g *building) end(err *error) {
	if left := g.leave(); *err == nil {
		*err = g.Store.Wrap(left)
	}
	if g.giveBack != nil {
		g.giveBack()
		g.giveBack = nil
	}
}

// stage does a stage, times it, and tells of it.
func (g *building) stage(ctx context.Context, name string, do func() error) error {
	began := g.Now()
	g.Events.Event(event.Event{Kind: event.StageBegan, Package: g.job.Name, Version: g.job.Version, Stage: name, Log: g.log(name)})
	g.Running = name
	if err := g.save(); err != nil {
		return err
	}
	g.used.cpu = 0
	err := do()
	elapsed := max(0, g.Now().Sub(began)) // clocks can be set back
	g.stages = append(g.stages, store.StageTime{Stage: name, Seconds: elapsed.Seconds(), CPU: g.used.cpu.Seconds()})
	g.Running = ""
	if err != nil {
		g.save() // if it cannot be, the next run trusts less
		if ctx.Err() != nil {
			return ctx.Err()
		}
		var failure *Failure
		if !errors.As(err, &failure) {
			err = g.Store.Wrap(err)
		}
		return err
	}
	if !slices.Contains(g.Done, name) {
		g.Done = append(g.Done, name)
	}
	g.Inputs[name] = g.inputs(name)
	g.Seconds[name] += elapsed.Seconds()
	g.CPU[name] += g.used.cpu.Seconds()
	g.Events.Event(event.Event{Kind: event.StageEnded, Package: g.job.Name, Version: g.job.Version, Stage: name, Elapsed: elapsed})
	return g.save()
}

// log is the file that the output of a stage goes to, or "" for one that has
// none.
func (g *building) log(stage string) string {
	if stage == StageUnpack {
		return ""
	}
	if g.again {
		return filepath.Join(g.dirs.work, stage+".log")
	}
	return filepath.Join(g.Store.Logs(g.job.Ref), stage+".log")
}

// run does what one of the job's stages is for.
func (g *building) run(ctx context.Context, stage Stage) error {
	if stage.Name == StageUnpack {
		return g.unpack(ctx)
	}
	log := g.log(stage.Name)
	output, err := os.Create(log)
	if err != nil {
		return err
	}
	defer output.Close()
	switch stage.Name {
	case StagePatch:
		err = g.givePatches()
	case "configure":
		err = g.renew(g.dirs.build)
	case StagePlace:
		if err = g.renew(g.dirs.stage); err == nil {
			err = errors.Join(g.takeBackEarlier(), g.empty())
		}
	}
	if err == nil {
		err = g.beginIn(stage.Name)
	}
	if err != nil {
		return err
	}
	if g.env == nil {
		g.env = g.environment(g.job, g.Newest)
	}
	err = g.commands(ctx, stage, output, log)
	if stage.Name == StagePlace && err == nil {
		err = g.collect(ctx, log)
	}
	return err
}

// beginIn sees to it that there is a directory to build in.
func (g *building) beginIn(stage string) error {
	box, err := ground.OpenDir(g.dirs.box)
	if err != nil {
		return err
	}
	defer box.Close()
	if info, err := box.Lstat(g.dirs.below(g.dirs.system)); err != nil || !info.Mode.IsDir() {
		return g.failure(stage, fmt.Sprintf("the source has no directory %s, which the recipe says is built", g.job.Package.Recipe.Build.Dir), "")
	}
	if info, err := box.Lstat(g.dirs.below(g.dirs.build)); err == nil && info.Mode.IsDir() {
		return nil
	}
	return g.renew(g.dirs.build)
}

// takeBackEarlier takes away a tree that is not complete. Where the build is only
// compared, there is none; what is lent to a room that is there, it has.
func (g *building) takeBackEarlier() error {
	if g.again || g.inside != nil {
		return nil
	}
	return g.Store.Discard(g.job.Ref)
}

func (g *building) commands(ctx context.Context, stage Stage, output *os.File, log string) error {
	for _, c := range stage.Commands {
		err := g.command(ctx, c, output)
		if err != nil && ctx.Err() == nil && exitStatus(err) > 0 && takesJobs(c) && g.Slots.Number() > 1 && stage.Name == "compile" {
			if g.alone(ctx, c, output) == nil {
				continue
			}
		}
		if err != nil {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			return g.failure(stage.Name, what(c)+" "+status(err), log)
		}
	}
	return nil
}

// takesJobs tells whether a command is one of a program that runs several jobs. What
// a step of a recipe does may not be done twice.
func takesJobs(c Command) bool {
	return c.Jobs != One && slices.Contains([]string{"make", "ninja"}, c.Argv[0])
}

// alone runs a command that has failed once more, with one job. When it
// succeeds, what it runs is not fit for several.
func (g *building) alone(ctx context.Context, c Command, output *os.File) error {
	fmt.Fprintf(output, ownMark+"this has failed with several jobs; once more with one:\n")
	if c.Jobs == Shared {
		c.Argv = append(slices.Clone(c.Argv), "-j1")
	}
	c.Jobs = One
	err := g.command(ctx, c, output)
	if err == nil {
		g.Racing = &inspect.Remark{Grade: inspect.Warned, Text: "it failed with several jobs and went on with one, so its makefiles race; add parallel = false to [build] in " + g.job.Package.Recipe.File}
		g.tell(*g.Racing)
	}
	return err
}

// renew empties a directory of the box that a stage fills, unless it is the source.
func (g *building) renew(dir string) error {
	if dir == g.dirs.system {
		return nil
	}
	if err := ground.Remove(dir); err != nil {
		return err
	}
	return g.own(dir)
}

// what names a command of a stage.
func what(c Command) string {
	if c.Argv[0] == "sh" {
		return "a step of the recipe"
	}
	return filepath.Base(c.Argv[0])
}

// command runs one command, with the job slots it is entitled to.
func (g *building) command(ctx context.Context, c Command, output *os.File) (err error) {
	room, err := g.enter()
	if err != nil {
		return err
	}
	p := process{dir: c.Dir, env: append(slices.Clone(g.env), g.traceEnvironment(g.Running)...), used: &g.used}
	if c.Jobs == Leased && g.knowsSlots(ctx, c.Argv[0]) {
		c.Jobs, c.Named = Shared, true
		c.Argv = slices.DeleteFunc(slices.Clone(c.Argv), func(arg string) bool { return arg == "-j$FL_JOBS" })
	}
	jobs := 1
	switch c.Jobs {
	case Shared:
		line, err := g.Slots.Line(g.linePath(c))
		if err != nil {
			return err
		}
		defer line.Close()
		p.files = line.Inherited()
		if err := g.giveLine(line, g.linePath(c)); err != nil {
			return err
		}
		p.env = append(p.env, "MAKEFLAGS="+line.MakeFlags())
	case Leased:
		leased := g.Slots.Lease(g.Slots.Number() - 1)
		defer func() {
			for range leased {
				g.Slots.Release()
			}
		}()
		jobs += leased
	}
	for _, arg := range c.Argv {
		p.argv = append(p.argv, strings.ReplaceAll(arg, "$FL_JOBS", strconv.Itoa(jobs)))
	}
	if c.Argv[0] == "sh" { // the shell expands its variables itself
		p.argv = c.Argv
	}
	if g.job.Watch {
		if p.record, err = os.OpenFile(filepath.Join(g.dirs.work, openedFile), os.O_RDWR|os.O_CREATE, 0o600); err != nil {
			return err
		}
		defer p.record.Close()
	}
	fmt.Fprintf(output, ownMark+"in %s\n"+ownMark+"%s\n", c.Dir, strings.Join(p.argv, " "))
	limited, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	most := int64(0)
	if g.LargestLog > 0 {
		at, err := output.Seek(0, io.SeekCurrent)
		if err != nil {
			return err
		}
		most = max(1, g.LargestLog-at)
	}
	printed, err := newOutlet(output, most, g.user, func() { cancel(errWordy) })
	if err != nil {
		return err
	}
	p.output = printed.write
	err = p.run(limited, room)
	if closed := printed.close(); err == nil {
		err = closed
	}
	if cause := context.Cause(limited); errors.Is(cause, errWordy) {
		return cause
	}
	return err
}

// giveLine lets the build's user open the pipe that job slots come through.
func (g *building) giveLine(line *schedule.Line, path string) error {
	if !g.user.Other() {
		return nil
	}
	if path != "" {
		return os.Lchown(path, g.user.UID, g.user.GID)
	}
	for _, f := range line.Inherited() {
		if err := f.Chown(g.user.UID, g.user.GID); err != nil {
			return err
		}
	}
	return nil
}

// errWordy is the error for a command that prints without end.
var errWordy = errors.New("it has printed more than the settings allow (largest_log)")

// knowsSlots tells whether a ninja takes job slots from a pipe that has a name,
// as those from 1.13 on do. Others are leased theirs.
func (g *building) knowsSlots(ctx context.Context, program string) bool {
	g.asked.Do(func() {
		q := host.Question{Kind: host.Program, Name: program}
		answer := g.Programs.Ask(ctx, "", []host.Question{q}, func(host.Question) bool { return true })[q]
		v, err := version.Parse(answer.Version)
		g.shares = err == nil && v.Compare(version.MustParse("1.13")) >= 0
	})
	return g.shares
}

// linePath is the name of the pipe for a command's job slots, or "" for one
// without a name, which every make knows.
func (g *building) linePath(c Command) string {
	if !c.Named {
		return ""
	}
	return filepath.Join(g.dirs.given, "slots")
}

// has tells whether the source has a file of that name somewhere.
func (g *building) has(name string) bool {
	found := false
	g.walkBox(g.dirs.source, func(e ground.Entry) error {
		if !e.Mode.IsDir() && (e.Name == name || strings.HasSuffix(e.Name, "/"+name)) {
			found = true
			return ground.Stop
		}
		return nil
	})
	return found
}

// walkBox goes through a directory of the box, as far as that can be done.
func (g *building) walkBox(dir string, visit func(ground.Entry) error) error {
	box, err := ground.OpenDir(g.dirs.box)
	if err != nil {
		return err
	}
	defer box.Close()
	d, err := box.Sub(g.dirs.below(dir))
	if err != nil {
		return err
	}
	defer d.Close()
	return d.Walk(true, visit)
}

func (g *building) failure(stage, what, log string) *Failure {
	f := &Failure{Package: g.job.Name, Version: g.job.Version, Stage: stage, What: what, Log: log, Work: g.dirs.work}
	if log != "" {
		if cause := Diagnose(log, g.dirs.box, g.dirs.build); cause.Known() {
			if cause.Kind == diagnose.MissingHeader && g.has(cause.Name()) {
				cause.Kind = diagnose.InSource
			}
			f.Cause, f.Lines = &cause, cause.Lines
		} else {
			f.Lines = excerpt(log, 12)
		}
		f.KeptOut = keptOut(log, g.Isolation)
	}
	const almostNothing = 1 << 20
	if g.Store.Full(almostNothing) {
		f.DiskFull = true
		f.What += "; the disk that holds " + g.Store.Root + " is full"
	}
	return f
}
