package build

import (
	"context"
	"errors"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"fernladder/core/diagnose"
	"fernladder/core/event"
	"fernladder/core/sandbox"
	"fernladder/core/schedule"
	"fernladder/core/subprocess"
)

func (a *attempt) commands(ctx context.Context, stage Stage, output *os.File, log string) error {
	for _, c := range stage.Commands {
		if stage.Name == StageConfigure && filepath.Base(c.Argv[0]) == "configure" {
			c.Argv = a.configureCommand(c.Argv)
		}
		c := a.placedOnly(stage.Name, c)
		err := a.command(ctx, c, output)
		if err != nil && ctx.Err() == nil && exitStatus(err) > 0 && takesJobs(c) && a.m.Slots.Number() > 1 &&
			stage.Name == StageCompile && a.mayRace(log) {
			if a.alone(ctx, c, output) == nil {
				continue
			}
		}
		if err != nil {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			return a.failure(stage.Name, what(c)+" "+status(err), log)
		}
	}
	return nil
}

// takesJobs reports whether a command runs a program that runs several jobs. Steps of a recipe
// may not be repeated.
func takesJobs(c Command) bool {
	return c.Jobs != One && slices.Contains([]string{"make", "ninja"}, c.Argv[0])
}

// mayRace reports whether the failure in a log could be due to parallel jobs: not one that a
// single job would run into as well.
func (a *attempt) mayRace(log string) bool {
	table, _ := a.m.Causes()
	switch c := Diagnose(table, log, a.dirs.box, a.dirs.build); c.Kind {
	case diagnose.Network, diagnose.NoSpace, diagnose.MissingProgram, diagnose.TooOld, diagnose.TooNew,
		diagnose.CompilerTooOld, diagnose.CompilerTooNew, diagnose.WarningError, diagnose.WrongOption, diagnose.Permission,
		diagnose.Setup:
		return c.Likely
	}
	return true
}

// withOneJob precedes, in a log, the only attempt that counts.
const withOneJob = "this failed with several jobs; trying again with one:"

// alone repeats a failed command with one job. If that succeeds, its makefiles are not fit for
// parallel jobs.
func (a *attempt) alone(ctx context.Context, c Command, output *os.File) error {
	say(output, withOneJob)
	a.emit(event.Event{Kind: event.Retried, Stage: StageCompile, Text: filepath.Base(c.Argv[0]) +
		" failed with several jobs; trying again with one, in case its makefiles race"})
	if c.Jobs == Shared {
		c.Argv = append(slices.Clone(c.Argv), "-j1")
	}
	c.Jobs = One
	err := a.command(ctx, c, output)
	if err == nil {
		a.early(StageCompile,
			"it failed with several jobs and succeeded with one, so its makefiles race; add parallel = false to [build] in "+
				a.job.Recipe.File)
	}
	return err
}

// what is the name of a command of a stage.
func what(c Command) string {
	if c.Argv[0] == "sh" {
		return "a step of the recipe"
	}
	return filepath.Base(c.Argv[0])
}

// deleteOnError has make delete what a failed rule has half made: the next run, which goes on there, would
// take it for complete.
const deleteOnError = " --eval=.DELETE_ON_ERROR:"

// command runs one command with the job slots that it may use.
func (a *attempt) command(ctx context.Context, c Command, output *os.File) (err error) {
	room, err := a.enter(ctx)
	if err != nil {
		return err
	}
	p := process{dir: c.Dir, env: append(slices.Clone(a.env), a.traceEnv(a.journal.Running)...), used: &a.cost.used}
	if c.Jobs == Leased && a.b.takesSlots(ctx, c.Argv[0]) {
		c.Jobs, c.Named = Shared, true
		c.Argv = slices.DeleteFunc(slices.Clone(c.Argv), func(arg string) bool { return arg == "-j$FL_JOBS" })
	}
	jobs := 1
	switch c.Jobs {
	case Shared:
		line, err := a.m.Slots.Line(ctx, a.linePath(c))
		if err != nil {
			return err
		}
		defer line.Close()
		p.files = line.Inherited()
		if err := a.giveLine(line, a.linePath(c)); err != nil {
			return err
		}
		if flags := line.MakeFlags(); c.Named { // it is no make
			p.env = append(p.env, "MAKEFLAGS="+flags)
		} else {
			p.env = append(p.env, "MAKEFLAGS="+deleteOnError+flags)
		}
	case Leased:
		leased := a.m.Slots.Lease(a.m.Slots.Number() - 1)
		defer func() {
			for range leased {
				a.m.Slots.Release()
			}
		}()
		jobs += leased
	}
	if c.Jobs == One && c.Argv[0] == "make" && !slices.ContainsFunc(a.env, func(pair string) bool {
		return strings.HasPrefix(pair, "MAKEFLAGS=")
	}) {
		p.env = append(p.env, "MAKEFLAGS="+deleteOnError)
	}
	for _, arg := range c.Argv {
		p.argv = append(p.argv, strings.ReplaceAll(arg, "$FL_JOBS", strconv.Itoa(jobs)))
	}
	if c.Argv[0] == "sh" { // the shell expands its variables itself
		p.argv = c.Argv
	}
	p.watched = a.job.Watch
	p.placing = a.journal.Running == StagePlace && a.b.level == sandbox.Sealed
	if p.watched || p.placing {
		if p.record, err = os.OpenFile(a.recordFile(), os.O_RDWR|os.O_CREATE, 0o600); err != nil {
			return err
		}
		defer p.record.Close()
	}
	say(output, "in %s\n%s", c.Dir, subprocess.Typed(p.argv))
	limited, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	at, err := output.Seek(0, io.SeekCurrent)
	if err != nil {
		return err
	}
	most := max(1, int64(a.m.Settings.LargestLog)<<20-at)
	printed, err := newOutlet(output, most, a.room.user, func() { cancel(errLogLimit) })
	if err != nil {
		return err
	}
	p.output = printed.write
	err = p.run(limited, room)
	if closed := printed.close(); err == nil {
		err = closed
	}
	if cause := context.Cause(limited); errors.Is(cause, errLogLimit) {
		return cause
	}
	return err
}

// giveLine lets the build's user open the pipe for job slots.
func (a *attempt) giveLine(line *schedule.Line, path string) error {
	if !a.room.user.Other() {
		return nil
	}
	if path != "" {
		return os.Lchown(path, a.room.user.UID, a.room.user.GID)
	}
	for _, f := range line.Inherited() {
		if err := f.Chown(a.room.user.UID, a.room.user.GID); err != nil {
			return err
		}
	}
	return nil
}

// errLogLimit is the error for a command whose output does not end.
var errLogLimit = errors.New("it printed more than the settings allow (largest_log)")

// linePath is the name of the pipe for a command's job slots; "" for one without a name, which
// every version of make supports.
func (a *attempt) linePath(c Command) string {
	if !c.Named {
		return ""
	}
	return filepath.Join(a.dirs.given, "slots")
}
