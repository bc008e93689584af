package recipe

import (
	"fmt"
	"slices"
	"strings"

	"fernladder/core/tomlfile"
)

// addedTo are search paths that any package may add to: programs read them only when a person
// requests something by name. PATH is not one, because programs are found through the landing,
// after those of the system. Nor are the paths of compilers and build systems for libraries,
// because they precede the system's.
var addedTo = []string{"MANPATH", "INFOPATH"}

// ofTheSystem are beginnings of names that belong to the C library, the session and the desktop,
// and not to a package of such a name.
var ofTheSystem = []string{"LD", "LC", "MALLOC", "GLIBC", "RES", "XDG", "DBUS", "SYSTEMD", "GIO"}

// MaySet reports whether a package may set a variable for all users of the landing. A variable
// that begins with the package's name is its own, unless the operating system has a program of
// that name, which would read it too. program finds one; nil finds none.
func MaySet(pkg, variable string, program func(name string) string) bool {
	own := VariableName(pkg)
	rest, begins := strings.CutPrefix(variable, own)
	switch {
	case slices.Contains(addedTo, variable):
		return true
	case !begins || rest != "" && rest[0] != '_' || slices.Contains(ofTheSystem, own):
		return false
	}
	return program == nil || program(pkg) == ""
}

// GivesAway lists what would belong to others than the tree's owner, or run with an owner's
// rights: files, system users, and directories outside of the tree.
func (r *Recipe) GivesAway() tomlfile.Problems {
	var problems tomlfile.Problems
	add := func(at tomlfile.Position, format string, args ...any) {
		at.File = r.File
		problems = append(problems, tomlfile.Problem{Position: at, Source: r.line(at.Line), Message: r.Name + " would make " +
			fmt.Sprintf(format, args...),
			Advice: fmt.Sprintf("remove it; or, if you trust the package with that, trusted_owners = [%q] in the settings",
				r.Name)})
	}
	for _, o := range r.Owners {
		add(o.Position, "%s belong to %s", o.File, o.Who())
	}
	for _, u := range r.Users {
		add(u.Position, "the system user %s", u.Name)
	}
	for _, d := range r.Folders {
		add(d.Position, "the directory %s, outside of its tree", d.Path)
	}
	return problems
}

// TakesOver lists the variables of the recipe that need trust to be set for all users.
func (r *Recipe) TakesOver(program func(name string) string) tomlfile.Problems {
	var problems tomlfile.Problems
	for _, pair := range r.Env {
		if MaySet(r.Name, pair.Name, program) {
			continue
		}
		at := pair.Position
		at.File = r.File
		problems = append(problems, tomlfile.Problem{Position: at, Source: r.line(at.Line),
			Message: fmt.Sprintf("%s would set %s for all users of the landing, which other programs may obey; its own "+
				"variables are called %s_…", r.Name, pair.Name, VariableName(r.Name)),
			Advice: fmt.Sprintf("remove it; or, if you trust the package with that, trusted_env = [%q] in the settings",
				r.Name)})
	}
	return problems
}
