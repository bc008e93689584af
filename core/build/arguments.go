package build

import (
	"bytes"
	"context"
	"fmt"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"fernladder/core/durable"
	"fernladder/core/event"
	"fernladder/core/inspect"
	"fernladder/core/pattern"
	"fernladder/core/recipe"
	"fernladder/core/safefs"
)

// firstCache is the file of initial CMake variables: where files go, and what CMake must not
// look at. Unlike with arguments, CMake does not warn if a project does not use one of them.
const firstCache = "first-cache.cmake"

// impliedArguments are the arguments of an option that every recipe of the method has.
func (a *attempt) impliedArguments(o *recipe.Option) []string {
	if !o.Implied {
		return nil
	}
	return o.Args(a.job.Package.Options[o.Name])
}

// configureCommand is the command that runs the source's configure script: without arguments of
// the method's options that the script does not mention, and through a shell if the archive did
// not keep the script's execute permission.
func (a *attempt) configureCommand(argv []string) []string {
	if a.job.Recipe.Build.Method != recipe.Configure {
		return argv
	}
	var implied []string
	for _, o := range a.job.Recipe.Options {
		implied = append(implied, a.impliedArguments(o)...)
	}
	box, err := safefs.OpenDir(a.dirs.box)
	if err != nil {
		return argv
	}
	defer box.Close()
	name := filepath.Join(a.dirs.below(a.dirs.system), "configure")
	const most = 16 << 20
	script, err := box.ReadFile(name, most)
	argv = slices.DeleteFunc(slices.Clone(argv), func(arg string) bool {
		name := strings.TrimPrefix(strings.TrimPrefix(arg, "--disable-"), "--enable-")
		known := regexp.MustCompile("able-" + regexp.QuoteMeta(name) + `(?:[^\w-]|$)`) // and not only --enable-NAME-more
		return slices.Contains(implied, arg) && (err != nil || !known.Match(script))
	})
	// A script without #! can only be run by a shell.
	noInterpreter := err == nil && !bytes.HasPrefix(script, []byte("#!")) && !bytes.HasPrefix(script, []byte("\x7fELF"))
	if info, err := box.Lstat(name); err == nil && info.Mode.IsRegular() &&
		(info.Mode.Perm()&0o100 == 0 || noInterpreter) {
		argv = append([]string{"sh"}, argv...)
	}
	return argv
}

// giveFirstCache writes that file for the configure stage.
func (a *attempt) giveFirstCache() error {
	if a.job.Recipe.Build.Method != recipe.CMake {
		return nil
	}
	runPaths := libraryDirs(a.job)
	text, kind := "", "Release"
	if withDebug(a.job) {
		kind = "RelWithDebInfo"
	}
	sets := [][3]string{
		{"CMAKE_INSTALL_PREFIX", a.job.Prefix, "PATH"}, {"CMAKE_INSTALL_LIBDIR", "lib", "PATH"},
		{"CMAKE_BUILD_TYPE", kind, "STRING"},
		{"CMAKE_INSTALL_RPATH", strings.Join(runPaths, ";"), "STRING"},
		// Nothing depends on the length of the work directory's path.
		{"CMAKE_BUILD_RPATH_USE_ORIGIN", "ON", "BOOL"},
		// Ignore packages that a user registered with cmake elsewhere.
		{"CMAKE_FIND_USE_PACKAGE_REGISTRY", "OFF", "BOOL"}, {"CMAKE_FIND_USE_SYSTEM_PACKAGE_REGISTRY", "OFF", "BOOL"},
	}
	for _, o := range a.job.Recipe.Options {
		for _, arg := range a.impliedArguments(o) { // that not every project knows
			name, value, _ := strings.Cut(strings.TrimPrefix(arg, "-D"), "=")
			sets = append(sets, [3]string{name, value, "BOOL"})
		}
	}
	for _, set := range sets {
		text += fmt.Sprintf("set(%s [==[%s]==] CACHE %s \"\")\n", set[0], set[1], set[2])
	}
	if a.job.Recipe.Build.SkipUnplaced { // CMake describes its targets
		text += fmt.Sprintf("file(WRITE [==[%s]==] \"\")\n",
			filepath.Join(a.dirs.build, filepath.Dir(cmakeReply), "query", "codemodel-v2"))
	}
	return durable.Note(filepath.Join(a.dirs.given, firstCache), []byte(text), 0o444)
}

var (
	unrecognized = pattern.New(`(?m)^configure: WARNING: unrecognized options?: (.+)$`)
	notUsed      = pattern.New(`(?m)^ *Manually-specified variables were not used by the project:\n((?:\n` +
		`| +\S.*\n)+)`)
)

// readConfigured finds out, from the output, what the source was configured without, and which
// arguments of the recipe it does not know: those have no effect, and a person may believe that
// they have.
func (a *attempt) readConfigured(_ context.Context, log string) error {
	f, err := safefs.Open(log)
	if err != nil {
		return err
	}
	text, _, err := end(f)
	if err != nil {
		return err
	}
	a.journal.Features = features(a.job, text)
	if text := withoutText(a.journal.Features); text != "" {
		a.emit(event.Event{Kind: event.Remarked, Text: text})
	}
	var unknown []string
	add := func(arguments []string) { // scripts say them when they begin, and when they end
		for _, arg := range arguments {
			if !slices.Contains(unknown, arg) {
				unknown = append(unknown, arg)
			}
		}
	}
	for _, found := range unrecognized.FindAllStringSubmatch(text, -1) {
		add(strings.Split(found[1], ", "))
	}
	for _, found := range notUsed.FindAllStringSubmatch(text, -1) {
		add(strings.Fields(found[1]))
	}
	if len(unknown) == 0 {
		return nil
	}
	a.early(StageConfigure, "the source does not know these arguments, which do nothing: "+
		printable(strings.Join(unknown, ", ")))
	return nil
}

// early notes a remark on a stage before anything is placed.
func (a *attempt) early(stage, text string) {
	r := inspect.Remark{Grade: inspect.Warned, Text: text}
	if a.journal.Early == nil {
		a.journal.Early = map[string]inspect.Remark{}
	}
	a.journal.Early[stage] = r
	a.remarked(r)
}
