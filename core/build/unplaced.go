package build

import (
	"context"
	"encoding/json"
	"os"
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
		only = a.installed(cmakeTargets)
	case method == recipe.Meson && c.Argv[0] == "ninja":
		only = a.installed(mesonTargets)
	}
	c.Argv = slices.Concat(c.Argv, only)
	return c
}

// installed are the targets that are installed, as the build directory, which is at a path, has
// them; nil, for all of them, if they cannot be told or are no plain names.
func (a *attempt) installed(targets func(d *safefs.Dir, at string) ([]string, error)) []string {
	box, err := safefs.OpenDir(a.dirs.box)
	if err != nil {
		return nil
	}
	defer box.Close()
	d, err := box.Sub(a.dirs.below(a.dirs.build))
	if err != nil {
		return nil
	}
	defer d.Close()
	names, err := targets(d, a.dirs.build)
	if err != nil || slices.ContainsFunc(names, func(name string) bool { return !plainTarget.MatchString(name) }) {
		return nil
	}
	slices.Sort(names)
	return names
}

// plainTarget matches targets that are no option or variable of make.
var plainTarget = pattern.New(`^\w[\w.+/-]*$`)

// largestModel is more than the description of a real package's targets has.
const largestModel = 32 << 20

// cmakeReply is where CMake describes its targets in a build directory (cmake-file-api(7)).
const cmakeReply = ".cmake/api/v1/reply"

// cmakeTargets are the installed targets of a CMake project.
func cmakeTargets(d *safefs.Dir, _ string) (names []string, err error) {
	reply, err := d.Sub(cmakeReply)
	if err != nil {
		return nil, err
	}
	defer reply.Close()
	err = reply.Walk(true, func(e safefs.Entry) error {
		if !strings.HasPrefix(e.Name, "target-") {
			return nil
		}
		data, err := reply.ReadFile(e.Name, largestModel)
		if err != nil {
			return err
		}
		var target struct {
			Name, Type string
			Install    json.RawMessage
		}
		err = json.Unmarshal(data, &target)
		if err == nil && target.Install != nil && target.Type != "INTERFACE_LIBRARY" {
			names = append(names, target.Name)
		}
		return err
	})
	return names, err
}

// mesonTargets are the files of the installed targets of a Meson project, below its build
// directory.
func mesonTargets(d *safefs.Dir, at string) (names []string, err error) {
	data, err := d.ReadFile("meson-info/intro-targets.json", largestModel)
	if err != nil {
		return nil, err
	}
	var targets []struct {
		Filename  []string
		Installed bool
	}
	if err := json.Unmarshal(data, &targets); err != nil {
		return nil, err
	}
	for _, t := range targets {
		for _, file := range t.Filename {
			if t.Installed {
				names = append(names, strings.TrimPrefix(file, at+"/"))
			}
		}
	}
	return names, nil
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
