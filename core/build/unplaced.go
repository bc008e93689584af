package build

import (
	"context"
	"encoding/json"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"fernladder/core/pattern"
	"fernladder/core/recipe"
	"fernladder/core/safefs"
)

// This file leaves out of a build what its installation does not place: test programs, samples
// and benchmarks, for recipes with skip_unplaced. Each build system has its own way. If a stage
// fails so, everything is compiled after all.

// skips reports whether a stage leaves out what is not placed. A check stage can need it.
func (a *attempt) skips(stage string) bool {
	return a.job.Recipe.Build.SkipUnplaced && !a.journal.Whole && (stage == StageCompile || stage == StagePlace) &&
		!slices.ContainsFunc(a.job.Stages, func(s Stage) bool { return isCheck(s.Name) })
}

// placedOnly limits a command of a stage to what is placed, if the stage skips the rest.
func (a *attempt) placedOnly(stage string, c Command) Command {
	if !a.skips(stage) {
		return c
	}
	var only []string
	switch method := a.job.Recipe.Build.Method; {
	case method == recipe.Configure && c.Argv[0] == "make": // automake's; other makefiles do not use them
		only = []string{"noinst_PROGRAMS=", "check_PROGRAMS=", "check_LIBRARIES=", "check_LTLIBRARIES="}
	case method == recipe.CMake && c.Argv[0] == "make" && stage == StageCompile:
		only = a.cmakeTargets()
	case method == recipe.Meson && c.Argv[0] == "ninja":
		only = a.mesonTargets()
	}
	c.Argv = slices.Concat(c.Argv, only)
	return c
}

// plainTarget matches targets that are no option or variable of make.
var plainTarget = pattern.New(`^\w[\w.+/-]*$`)

// largestModel is more than the description of a real package's targets has.
const largestModel = 32 << 20

// cmakeReply is where CMake describes its targets in a build directory (cmake-file-api(7)).
const cmakeReply = ".cmake/api/v1/reply"

// cmakeTargets are the installed targets of a configured CMake project; nil: all of them.
func (a *attempt) cmakeTargets() (names []string) {
	box, err := safefs.OpenDir(a.dirs.box)
	if err != nil {
		return nil
	}
	defer box.Close()
	reply, err := box.Sub(filepath.Join(a.dirs.below(a.dirs.build), cmakeReply))
	if err != nil {
		return nil
	}
	defer reply.Close()
	plain := true
	err = reply.Walk(true, func(e safefs.Entry) error {
		if !strings.HasPrefix(e.Name, "target-") {
			return nil
		}
		data, err := reply.ReadFile(e.Name, largestModel)
		var target struct {
			Name, Type string
			Install    json.RawMessage
		}
		if err == nil {
			err = json.Unmarshal(data, &target)
		}
		if err == nil && target.Install != nil && target.Type != "INTERFACE_LIBRARY" {
			names = append(names, target.Name)
			plain = plain && plainTarget.MatchString(target.Name)
		}
		return err
	})
	if err != nil || !plain {
		return nil
	}
	slices.Sort(names)
	return names
}

// mesonTargets are the files of the installed targets of a configured Meson project, below its
// build directory; nil: all of them.
func (a *attempt) mesonTargets() (names []string) {
	box, err := safefs.OpenDir(a.dirs.box)
	if err != nil {
		return nil
	}
	defer box.Close()
	data, err := box.ReadFile(filepath.Join(a.dirs.below(a.dirs.build), "meson-info/intro-targets.json"), largestModel)
	if err != nil {
		return nil
	}
	var targets []struct {
		Filename  []string
		Installed bool
	}
	if json.Unmarshal(data, &targets) != nil {
		return nil
	}
	for _, t := range targets {
		for _, file := range t.Filename {
			name, err := filepath.Rel(a.dirs.build, file)
			switch {
			case !t.Installed:
			case err != nil || !plainTarget.MatchString(name):
				return nil
			default:
				names = append(names, name)
			}
		}
	}
	return names
}

// whole runs a stage that failed while it skipped what is not placed, with everything compiled.
func (a *attempt) whole(ctx context.Context, s Stage, output *os.File, log string) error {
	say(output, "this failed without what is not placed; compiling everything:")
	a.journal.Whole = true
	if s.Name == StagePlace {
		compile := slices.IndexFunc(a.job.Stages, func(s Stage) bool { return s.Name == StageCompile })
		if err := a.commands(ctx, a.job.Stages[compile], output, log); err != nil {
			return err
		}
		if err := a.renew(a.dirs.stage); err != nil {
			return err
		}
	}
	err := a.commands(ctx, s, output, log)
	if err == nil {
		a.early(StageCompile, "it could only be placed with everything compiled; remove skip_unplaced from [build] in "+
			a.job.Recipe.File)
	}
	return err
}
