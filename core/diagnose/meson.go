package diagnose

import "strings"

// withPkgConfig reports pkg-config if that is what Meson did not find.
func withPkgConfig(c *Cause, lines []string, at int) bool {
	for _, line := range lines[:at] {
		if strings.HasPrefix(line, "Did not find pkg-config") || strings.HasPrefix(line, "Found pkg-config: NO") {
			c.Kind, c.Names = MissingProgram, []string{"pkg-config"}
		}
	}
	return true
}

var notFoundByMeson = re(`(?:(?:Run-time|Build-time) dependency|Dependency` +
	`|Dependency lookup for) (?P<name>[\w.+-]+) .*found: NO|^(?P<kind>Library|Program` +
	`|Has header) "?(?P<name2>[\w./+-]+)"?.* found: NO|^(?:Check usable|Has) header "(?P<name3>[^"]+)".*: NO` +
	`|^(?P<kind4>Program) (?P<name4>[\w.+-]+).* found: NO`)

// unmet are what Meson looked for just before a line, and did not find.
func unmet(lines []string, at int) []check {
	const far = 10
	var failed []check
	for i := at - 1; i >= max(0, at-far); i-- {
		match := notFoundByMeson.FindStringSubmatch(lines[i])
		switch {
		case match == nil:
		case match[1] != "":
			failed = append(failed, check{kind: MissingModule, name: match[1]})
		case match[4] != "":
			failed = append(failed, check{kind: MissingHeader, name: match[4]})
		case match[2] == "Library":
			failed = append(failed, check{kind: MissingLibrary, name: match[3]})
		default:
			failed = append(failed, check{kind: MissingProgram, name: match[3] + match[6]})
		}
	}
	return failed
}

// dependencyBefore finds the dependency for which a subproject could not be had.
func dependencyBefore(c *Cause, lines []string, at int) bool {
	for _, f := range unmet(lines, at) {
		if f.kind == MissingModule {
			c.Names = []string{f.name}
			return withPkgConfig(c, lines, at)
		}
	}
	return false
}

// mesonSaid reads a message written by the author of a build file.
func mesonSaid(c *Cause, lines []string, at int) bool {
	text := c.Name()
	c.Names = nil
	return conclude(c, text, unmet(lines, at))
}
