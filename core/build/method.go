package build

import (
	"path/filepath"
	"strings"

	"fernladder/core/recipe"
)

// stages makes the stages of a job from its method and its recipe's steps.
func stages(t Target, job *Job, d workDirs) []Stage {
	r := job.Recipe
	var patches []Command
	for i := range job.Patches {
		patches = append(patches, Command{Dir: d.source, Argv: patchCommand(d.patch(job, i))})
	}
	stages := []Stage{{Name: StageUnpack}}
	if len(patches) > 0 {
		stages = append(stages, Stage{StagePatch, patches})
	}
	method := method(t, job, d)
	for _, name := range []string{StageConfigure, StageCompile, StageCheck, StagePlace} {
		commands := method[name]
		if script := r.Step(name); script != "" {
			commands = []Command{step(d.build, script, r)}
		}
		if script := r.Step("before_" + name); script != "" {
			dir := d.build
			if name == StageConfigure {
				dir = d.system // where generator scripts expect to run
			}
			commands = append([]Command{step(dir, script, r)}, commands...)
		}
		if script := r.Step("after_" + name); script != "" {
			commands = append(commands, step(d.build, script, r))
		}
		if len(commands) > 0 {
			stages = append(stages, Stage{name, commands})
		}
	}
	return stages
}

func isCheck(step string) bool { return strings.HasSuffix(step, StageCheck) }

// step is a command that runs shell text of a recipe.
func step(dir, script string, r *recipe.Recipe) Command {
	return Command{Dir: dir, Argv: []string{"sh", "-e", "-c", script}, Jobs: shared(r)}
}

func shared(r *recipe.Recipe) Jobs {
	if r.Build.Parallel {
		return Shared
	}
	return One
}

// method lists the commands of each stage by the job's build system.
func method(t Target, job *Job, d workDirs) map[string][]Command {
	values := variables(t, job, d)
	var args []string
	for _, arg := range arguments(job) {
		args = append(args, recipe.Expand(arg, lookup(values)))
	}
	r := job.Recipe
	in := func(jobs Jobs, argv ...string) []Command {
		return []Command{{Dir: d.build, Argv: argv, Jobs: jobs}}
	}
	destdir := "DESTDIR=" + d.stage
	switch r.Build.Method {
	case recipe.Configure:
		script := filepath.Join(d.system, "configure")
		if d.build == d.system { // as its authors run it: makefiles have relative paths then
			script = "./configure"
		}
		return map[string][]Command{
			StageConfigure: in(One, append([]string{script, "--prefix=" + job.Prefix}, args...)...),
			StageCompile:   in(shared(r), "make"),
			StagePlace:     in(One, "make", "install", destdir),
		}
	case recipe.CMake:
		// Makefiles rather than ninja's, because make shares job slots.
		configure := append([]string{"cmake", "-S", d.system, "-B", d.build, "-G", "Unix Makefiles", "-C",
			filepath.Join(d.given, firstCache)}, args...)
		return map[string][]Command{
			StageConfigure: in(One, configure...),
			StageCompile:   in(shared(r), "make"),
			StagePlace:     in(One, "cmake", "--install", d.build),
		}
	case recipe.Meson:
		jobs, number := Leased, "-j$FL_JOBS"
		if !r.Build.Parallel {
			jobs, number = One, "-j1"
		}
		kind := "release"
		if withDebug(job) {
			kind = "debugoptimized"
		}
		configure := append([]string{"meson", "setup", d.build, d.system, "--prefix=" + job.Prefix, "--libdir=lib",
			"--buildtype=" + kind, "--wrap-mode=nodownload"}, args...)
		return map[string][]Command{
			StageConfigure: in(One, configure...),
			StageCompile:   in(jobs, "ninja", number),
			StagePlace:     in(One, "meson", "install", "--no-rebuild"),
		}
	case recipe.Make:
		// Makefiles use one of the two names for the prefix. An argument without '=' is a target,
		// which is not passed to the install command.
		variables := []string{"PREFIX=" + job.Prefix, "prefix=" + job.Prefix}
		var targets []string
		for _, arg := range args {
			if strings.Contains(arg, "=") {
				variables = append(variables, arg)
			} else {
				targets = append(targets, arg)
			}
		}
		tops := []string{d.stage + job.Prefix}
		if !job.Away() {
			tops = append(tops, job.Prefix)
		}
		place := in(One, append([]string{"sh", "-c", makeUsual, "sh"}, tops...)...)
		place = append(place, in(One, append([]string{"make", "install", destdir}, variables...)...)...)
		place = append(place, in(One, append([]string{"sh", "-c", removeUsual, "sh"}, tops...)...)...)
		return map[string][]Command{
			StageCompile: in(shared(r), append(append([]string{"make"}, targets...), variables...)...),
			StagePlace:   place,
		}
	}
	return nil // a script has nothing but its steps
}

// Shell text that makes the directories below its arguments that always exist in /usr/local, because
// some makefiles copy into them, and that removes those that are still empty, and the first argument.
const (
	usual = "bin sbin lib include etc games share/man/man1 share/man/man5 share/man/man6 share/man/man8 share/man share " +
		"man/man1 man/man5 man/man6 man/man8 man"
	makeUsual   = `for top; do mkdir -p "$top" && (cd "$top" && mkdir -p ` + usual + `) || exit; done`
	removeUsual = `for top; do (cd "$top" && rmdir --ignore-fail-on-non-empty ` + usual + `); done
rmdir --ignore-fail-on-non-empty "$1"`
)
