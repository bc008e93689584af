package recipe

import (
	"fmt"
	"slices"
	"strings"

	"fernladder/core/pattern"
	"fernladder/core/tomlfile"
)

// Variable explains one of the variables that recipes can use.
type Variable struct {
	Name, About string
}

// Variables are all variables. Names in angle brackets stand for many.
var Variables = []Variable{
	{"FL_NAME", "the package's name"},
	{"FL_VERSION", "the version that is built"},
	{"FL_PREFIX", "the tree that the package will be installed in"},
	{"FL_SOURCE", "the directory with the unpacked source"},
	{"FL_BUILD", "the directory it is built in; the same as FL_SOURCE for a build in the source"},
	{"FL_JOBS", "how many jobs may run at once"},
	{"FL_SUPPLY", "the directory with the files that the administrator has brought"},
	{"FL_STAGE", "the directory that stands in for / while files are placed; also exported as DESTDIR"},
	{"FL_TREE_<NEED>", "the tree of a needed package, its name in capitals with _ for other characters"},
	{"FL_OPTION_<NAME>",
		"what an option is set to: on, off, one of its values, or what was given to it; nothing in a release that does " +
			"not have it"},
	{"FL_VALUE", "in the key given of an option: what was given to it"},
}

// A variable begins with FL_, followed by as many letters, digits and underscores as there are,
// with or without braces.
var variablePattern = pattern.New(`\$(?:\{(FL_[A-Za-z0-9_]*)\}|(FL_[A-Za-z0-9_]*))`)

// In shell text, ${FL_NAME%suffix} and the like are left to the shell; only the name counts.
var shellVariablePattern = pattern.New(`\$\{?(FL_[A-Za-z0-9_]*)`)

// Expand replaces every FL_ variable for which lookup has a value. All other text, with any
// other '$', stays as it is.
func Expand(text string, lookup func(name string) (string, bool)) string {
	if !strings.Contains(text, "$") {
		return text
	}
	return variablePattern.ReplaceAllStringFunc(text, func(match string) string {
		if value, known := lookup(strings.Trim(match, "${}")); known {
			return value
		}
		return match
	})
}

// knownVariables returns a check for texts that may use exactly the variables for which known
// returns true.
func knownVariables(all *pattern.Pattern, names func() []string) func(string) error {
	return func(text string) error {
		for _, m := range all.Compiled().FindAllStringSubmatchIndex(text, -1) {
			from, to := m[2], m[3]
			if from < 0 {
				from, to = m[4], m[5]
			}
			known := names()
			if name := text[from:to]; !slices.Contains(known, name) {
				advice := "here: " + strings.Join(known, ", ")
				if near, found := tomlfile.Nearest(name, known); found {
					advice = fmt.Sprintf("did you mean $%s?", near)
				}
				return &tomlfile.At{Offset: m[0], Advice: advice, Err: fmt.Errorf("there is no variable $%s here", name)}
			}
		}
		return nil
	}
}

// sourceVariables are known before the build, buildVariables during it, and tryVariables for the
// finished tree.
func (r *Recipe) sourceVariables() []string { return []string{"FL_NAME", "FL_VERSION"} }

func (r *Recipe) nameVariable() []string { return []string{"FL_NAME"} }

func (r *Recipe) buildVariables() []string {
	names := append(r.tryVariables(), "FL_SOURCE", "FL_BUILD", "FL_JOBS", "FL_STAGE", "FL_SUPPLY")
	slices.Sort(names)
	return names
}

func (r *Recipe) tryVariables() []string {
	names := []string{"FL_NAME", "FL_VERSION", "FL_PREFIX"}
	for _, n := range r.Needs {
		for _, name := range n.Names() {
			names = append(names, "FL_TREE_"+VariableName(name))
		}
	}
	for _, o := range r.Options {
		names = append(names, "FL_OPTION_"+VariableName(o.Name))
	}
	return names
}
