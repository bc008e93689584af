package build

import (
	"context"
	"fmt"
	"path/filepath"
	"regexp"
	"strings"

	"fernladder/core/durable"
	"fernladder/core/ground"
	"fernladder/core/inspect"
	"fernladder/core/recipe"
)

// firstCache is what CMake begins with: where things go, and what it must not look at.
// What is said there it does not expect every project to use, as it does of arguments.
const firstCache = "first-cache.cmake"

// giveFirstCache writes it down for the configure stage.
func (a *attempt) giveFirstCache() error {
	if a.job.Recipe.Build.Method != recipe.CMake {
		return nil
	}
	runPaths := []string{filepath.Join(a.job.Tree, "lib")}
	for i, link := range a.job.Package.Needs {
		if link.Role == recipe.Library {
			runPaths = append(runPaths, filepath.Join(a.job.Needs[i].Tree, "lib"))
		}
	}
	text := ""
	for _, set := range [][3]string{
		{"CMAKE_INSTALL_PREFIX", a.job.Tree, "PATH"}, {"CMAKE_INSTALL_LIBDIR", "lib", "PATH"}, {"CMAKE_BUILD_TYPE", "Release", "STRING"},
		{"CMAKE_INSTALL_RPATH", strings.Join(runPaths, ";"), "STRING"},
		// Nothing that a person has registered for cmake elsewhere.
		{"CMAKE_FIND_USE_PACKAGE_REGISTRY", "OFF", "BOOL"}, {"CMAKE_FIND_USE_SYSTEM_PACKAGE_REGISTRY", "OFF", "BOOL"},
	} {
		text += fmt.Sprintf("set(%s [==[%s]==] CACHE %s \"\")\n", set[0], set[1], set[2])
	}
	return durable.Note(filepath.Join(a.dirs.given, firstCache), []byte(text), 0o444)
}

var (
	unrecognized = regexp.MustCompile(`(?m)^configure: WARNING: unrecognized options?: (.+)$`)
	notUsed      = regexp.MustCompile(`(?m)^ *Manually-specified variables were not used by the project:\n((?:\n| +\S.*\n)+)`)
)

// unknownArguments finds out, from what was printed, which arguments of the recipe the
// source does not know: they do nothing, and somebody believes that they do.
func (a *attempt) unknownArguments(_ context.Context, log string) error {
	f, err := ground.Open(log)
	if err != nil {
		return err
	}
	text, _, err := end(f)
	if err != nil {
		return err
	}
	var unknown []string
	for _, found := range unrecognized.FindAllStringSubmatch(text, -1) {
		unknown = append(unknown, strings.Split(found[1], ", ")...)
	}
	for _, found := range notUsed.FindAllStringSubmatch(text, -1) {
		unknown = append(unknown, strings.Fields(found[1])...)
	}
	if len(unknown) == 0 {
		return nil
	}
	a.early(StageConfigure, "the source does not know these arguments, which do nothing: "+printable(strings.Join(unknown, ", ")))
	return nil
}

// early notes something about a stage before anything is placed.
func (a *attempt) early(stage, text string) {
	r := inspect.Remark{Grade: inspect.Warned, Text: text}
	if a.journal.Early == nil {
		a.journal.Early = map[string]inspect.Remark{}
	}
	a.journal.Early[stage] = r
	a.remarked(r)
}
