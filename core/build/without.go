package build

import (
	"slices"
	"strconv"
	"strings"

	"fernladder/core/buildfile"
	"fernladder/core/pattern"
)

// What configure scripts, CMake and Meson print of what they have not found, or do not
// build with.
var (
	mesonLacks = pattern.New(`^(?:Run-time dependency|Build-time dependency|Dependency|Library|Has header) "?([\w.+/-]+)"?(?: \([^)]*\))? (?:found: NO|skipped)`)
	cmakeLacks = pattern.New(`^-- (?:Could NOT find|Package '?|Looking for) ([\w.+-]+?)'?(?: \((?:missing|Required is)|, required by|.*not found$)`)
	acLacks    = pattern.New(`^checking for (?:lib)?([A-Za-z][\w.+-]*?)(?: (?:>=?|=) [\w.]+)?\.\.\. no$`)
	acLibrary  = pattern.New(`^checking for \w+ in -l([\w.+-]+)\.\.\. no$`)
	// A line of the summary that many print at their end: NAME ....: no.
	summed     = pattern.New(`^[ \t|*#-]*([A-Za-z][\w +/.()-]{1,40}?)[ \t.]*[:=][ \t]*(?i:no|off|disabled|false|not found|none|not available|missing)(?:[ \t]*[(,].*)?$`)
	summedDots = pattern.New(`^[ \t|*#-]*([A-Za-z][\w +/()-]{1,40}?)[ \t]*\.{3,}[: \t]*(?i:no|off|disabled|false|not found|none)$`)
	setting    = pattern.New(`(?i)^(?:cross[ -]?compil|static|shared|debug|test|doc|man|example|bench|fuzz|coverage|werror|warning|sanitiz|valgrind|profil|maintainer|verbose|developer|host cpu|build type)`)
)

// leftOut are the features that a source was configured without, as far as it says so
// itself: in its summary, if it has one, or else what it has looked for and not found
// that is a library.
func leftOut(log string) []string {
	lines := strings.Split(strings.TrimRight(log, "\n"), "\n")
	const summary = 120 // lines, at the end
	var found []string
	add := func(name string) {
		if name = strings.Trim(name, " ."); name != "" && !setting.MatchString(name) && !buildfile.Ordinary(name) && !slices.Contains(found, name) {
			found = append(found, name)
		}
	}
	for _, line := range lines[max(0, len(lines)-summary):] {
		line = strings.TrimRight(line, " \r")
		if strings.HasPrefix(line, "checking ") || strings.HasPrefix(line, ownMark) {
			continue
		}
		for _, p := range []*pattern.Pattern{summed, summedDots} {
			if m := p.FindStringSubmatch(line); m != nil {
				add(m[1])
				break
			}
		}
	}
	if len(found) > 0 {
		return shown(found)
	}
	for _, line := range lines {
		for _, p := range []*pattern.Pattern{mesonLacks, cmakeLacks, acLibrary} {
			if m := p.FindStringSubmatch(strings.TrimRight(line, " \r")); m != nil {
				add(m[1])
				break
			}
		}
		if m := acLacks.FindStringSubmatch(strings.TrimRight(line, " \r")); m != nil && strings.ToUpper(m[1]) == m[1] && len(m[1]) > 2 { // as PKG_CHECK_MODULES prints them
			add(m[1])
		}
	}
	return shown(found)
}

// inOneLine is a list in one line, of which a long one is cut off.
func inOneLine(names []string) string {
	const enough = 8
	if len(names) <= enough {
		return strings.Join(names, ", ")
	}
	return strings.Join(names[:enough], ", ") + ", and " + strconv.Itoa(len(names)-enough) + " more"
}
