package build

import (
	"context"
	"errors"
	"fmt"
	"os"

	"fernladder/core/recipe"
	"fernladder/core/safefs"
)

// The stages of a build, in their order. Those between patch and try depend on the recipe's
// method and steps; a build has only those with something to do.
const (
	StageUnpack    = "unpack"
	StageGather    = "gather" // a part of unpack, with a log of its own
	StagePatch     = "patch"
	StageConfigure = recipe.StepConfigure
	StageCompile   = recipe.StepCompile
	StageCheck     = recipe.StepCheck
	StagePlace     = recipe.StepPlace
	StageTry       = "try"
)

// LoggedStages are the stages that write a log, in their order.
var LoggedStages = []string{StageGather, StagePatch, StageConfigure, StageCompile, StageCheck, StagePlace, StageTry}

// allStages are all stages, in their order.
var allStages = append([]string{StageUnpack}, LoggedStages[1:]...)

// A Stage is a part of a build that is either finished or not done.
type Stage struct {
	Name     string
	Commands []Command
}

// A Command runs in a directory, with the environment of its build.
type Command struct {
	Dir  string
	Argv []string
	Jobs Jobs

	Named bool // it only finds job slots that have a name in the file system
}

// Jobs says how a command runs parallel jobs.
type Jobs int

// The ways to run jobs.
const (
	One    Jobs = iota // it does not
	Shared             // it takes slots from the pool by the jobserver protocol
	Leased             // it gets the number as $FL_JOBS in its arguments
)

// before are actions before the commands of stages, and after those that follow them.
var (
	before = map[string]func(*attempt) error{
		StagePatch:     (*attempt).givePatches,
		StageConfigure: func(a *attempt) error { return errors.Join(a.renew(a.dirs.build), a.giveFirstCache()) },
		StagePlace: func(a *attempt) error {
			if err := a.renew(a.dirs.stage); err != nil {
				return err
			}
			return errors.Join(a.takeBackEarlier(), a.empty())
		},
	}
	after = map[string]func(*attempt, context.Context, string) error{
		StageConfigure: (*attempt).readConfigured,
		StageCompile:   (*attempt).tellCached,
		StagePlace:     (*attempt).collect,
	}
)

// run runs the stage in an attempt.
func (s Stage) run(ctx context.Context, a *attempt) error {
	if s.Name == StageUnpack {
		return a.unpack(ctx)
	}
	log := a.log(s.Name)
	output, err := os.Create(log)
	if err != nil {
		return err
	}
	defer output.Close()
	if prepare := before[s.Name]; prepare != nil {
		if err := prepare(a); err != nil {
			return err
		}
	}
	if err := a.beginIn(s.Name); err != nil {
		return err
	}
	if a.env == nil {
		a.env = a.environment()
	}
	defer a.watch(s.Name, log)()
	err = a.commands(ctx, s, output, log)
	if err != nil && ctx.Err() == nil && a.skips(s.Name) {
		err = a.whole(ctx, s, output, log)
	}
	if err != nil && ctx.Err() == nil && a.placeAgain(s.Name) {
		say(output, "this failed, and %s was not writable; trying again where it is:", a.job.Prefix)
		if err := errors.Join(a.renew(a.dirs.stage), a.leave()); err != nil {
			return err
		}
		err = a.commands(ctx, s, output, log)
	}
	if err != nil {
		return err
	}
	if s.Name == StagePlace {
		if err := a.unite(ctx, output, log); err != nil {
			return err
		}
		if err := a.arrange(ctx, output); err != nil {
			if exitStatus(err) > 0 {
				return a.failure(s.Name, "arranging the placed files "+status(err), log)
			}
			return err
		}
	}
	if finish := after[s.Name]; finish != nil {
		return finish(a, ctx, log)
	}
	return nil
}

// beginIn makes sure that the build directory exists.
func (a *attempt) beginIn(stage string) error {
	switch {
	case !a.canEnter(a.dirs.source):
		return a.failure(stage, "the build deleted its own source", "")
	case !a.canEnter(a.dirs.system):
		return a.failure(stage, fmt.Sprintf("the source has no directory %s, which the recipe names in dir",
			a.job.Recipe.Build.Dir), "")
	case a.canEnter(a.dirs.build):
		return nil
	}
	return a.renew(a.dirs.build)
}

// canEnter reports whether a path in the box is a directory that a build can work in.
func (a *attempt) canEnter(path string) bool {
	box, err := safefs.OpenDir(a.dirs.box)
	if err != nil {
		return false
	}
	defer box.Close()
	info, err := box.Lstat(a.dirs.below(path))
	return err == nil && info.Mode.IsDir() && info.Mode.Perm()&0o500 == 0o500
}

// takeBackEarlier deletes an incomplete tree. A rebuild for comparison has none; an existing
// room has what it was lent.
func (a *attempt) takeBackEarlier() error {
	if a.rebuild || a.room.session != nil {
		return nil
	}
	return a.m.Store.Discard(a.job.Ref)
}

// renew empties a directory of the box that a stage fills, unless it is the source.
func (a *attempt) renew(dir string) error {
	if dir == a.dirs.system {
		return nil
	}
	if err := safefs.Remove(dir); err != nil {
		return err
	}
	return a.own(dir)
}
