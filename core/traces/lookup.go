package traces

import (
	"slices"
	"strings"

	"fernladder/core/buildfile"
	"fernladder/core/pattern"
)

// A lookup is a line that says whether something of another package is there.
type lookup struct {
	name, version string
	found         bool
}

// What is looked for, as configure scripts, CMake and Meson print it. Programs and
// functions of the system are not among it.
var (
	mesonLooked = pattern.New(`^(?:Run-time dependency|Build-time dependency|Dependency|Library` +
		`|Has header) "?([\w.+/-]+)"?(?: \([^)]*\))? (?:found: (YES|NO)|(skipped))(?:[ :].*?(\d[\w.]*)?)?$`)
	cmakeLacks = pattern.New(`^-- (?:Could NOT find|Package '?|Looking for) ([\w.+-]+?)'?(?: \((?:missing|Required is)` +
		`|, required by|.*not found$)`)
	cmakeFound = pattern.New(`^-- Found ([\w.+-]+): .*?(?:\((?:found (?:suitable )?version )"([\w.]+)".*)?$`)
	acModule   = pattern.New(`^checking for (?:lib)?([A-Za-z][\w.+-]*?)(?: (?:>=?|=) [\w.]+)?\.\.\. (yes|no)$`)
	acLibrary  = pattern.New(`^checking for \w+ in -l([\w.+-]+)\.\.\. (yes|no)$`)
)

// looked records a line, if it is one.
func (r *reading) looked(line string) {
	const most = 4000
	if len(line) > 300 || len(r.lookups) == most {
		return
	}
	before := r.lookups
	r.look(line)
	if len(r.lookups) == len(before) {
		return
	}
	switch l := r.lookups[len(before)]; {
	case l.found:
		delete(r.absent, buildfile.Stem(l.name))
	case slices.ContainsFunc(before, func(o lookup) bool { return o.found && o.name == l.name }):
		r.lookups = before // it is there, and lacks a function
	default:
		r.absent[buildfile.Stem(l.name)] = l.name
	}
}

// look adds a look-up, if a line is one.
func (r *reading) look(line string) {
	if m := mesonLooked.FindStringSubmatch(line); m != nil {
		r.lookups = append(r.lookups, lookup{m[1], m[4], m[2] == "YES"})
		return
	}
	if m := cmakeLacks.FindStringSubmatch(line); m != nil {
		r.lookups = append(r.lookups, lookup{name: m[1]})
		return
	}
	if m := cmakeFound.FindStringSubmatch(line); m != nil {
		r.lookups = append(r.lookups, lookup{m[1], m[2], true})
		return
	}
	if m := acLibrary.FindStringSubmatch(line); m != nil {
		r.lookups = append(r.lookups, lookup{name: m[1], found: m[2] == "yes"})
		return
	}
	// PKG_CHECK_MODULES prints its names in capitals, or modules with their versions.
	if m := acModule.FindStringSubmatch(line); m != nil && len(m[1]) > 2 &&
		(strings.ToUpper(m[1]) == m[1] || strings.ContainsAny(line, "<>=")) {
		r.lookups = append(r.lookups, lookup{name: m[1], found: m[2] == "yes"})
	}
}
