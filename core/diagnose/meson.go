package diagnose

import "strings"

// mesonRules know Meson.
var mesonRules = []rule{
	{kind: MissingProgram, has: "ERROR: Program", pattern: re(`ERROR: Program(?:\(s\))? \[?` + open + `(?P<name>[\w.+/-]+)` + close + `.* not found`)},
	{kind: MissingProgram, has: "Unknown compiler", pattern: re(`ERROR: Unknown compiler\(s\): \[\['(?P<name>[\w.+-]+)'`)},
	{kind: MissingProgram, has: "Could not execute", pattern: re(`ERROR: Could not execute \w+ compiler: (?P<name>[\w.+-]+)`)},
	{kind: MissingProgram, has: "detect Ninja", pattern: re(`ERROR: Could not detect Ninja`), more: is("ninja")},
	{kind: MissingProgram, has: "method 'pkgconfig' failed", pattern: re(`ERROR: Dependency lookup for \S+ with method 'pkgconfig' failed: Pkg-config .*not found`), more: is("pkg-config")},
	{kind: MissingPython, has: "missing modules", pattern: re(`ERROR: \S+ is missing modules: (?P<name>[\w.]+)`)},
	{kind: TooOld, has: "but project requires", pattern: re(`(?P<name>Meson) version is (?P<found>[\w.]+),? but project requires (?P<range>[<>=!]+ *[\w.]+)`), more: asProgram},
	{kind: TooOld, has: "found: NO", pattern: re(`Dependency (?P<name>[\w.+-]+) found: NO\.? [Ff]ound (?P<found>[\w.]+),? but need: ` + open + `(?P<range>[<>=!]+ *[\w.]+)`)},
	{kind: TooOld, has: "Invalid version of", pattern: re(`Invalid version of (?:dependency|program), need ` + open + `(?P<name>[\w.+-]+)` + close + ` \[` + open + `(?P<range>[<>=!]+ *[\w.]+).* found ` + open + `(?P<found>[\w.]+)`)},
	{kind: MissingModule, has: "ERROR: ", pattern: re(`ERROR: .*[Dd]ependency ` + open + `(?P<name>[\w.+-]+)` + close + ` (?:not found|is required but not found)`), more: withPkgConfig},
	{kind: MissingModule, has: "ERROR: ", pattern: re(`ERROR: (?:Git program not found, cannot download|Automatic wrap-based subproject downloading is disabled|Neither a subproject directory nor|Subproject \S+ is buildable: NO|Subproject exists but has no|Subproject directory not found|.*[Ww]rap.* not found)`), more: dependencyBefore},
	{kind: MissingPackage, has: "ERROR: ", pattern: re(`ERROR: .*CMake package ` + open + `(?P<name>[\w.+-]+)` + close + ` not found`)},
	{kind: MissingLibrary, has: "library", pattern: re(`ERROR: (?:C|C\+\+) (?:shared or static |static |shared )?library ` + open + `(?P<name>[\w.+-]+)` + close + ` not found`)},
	{kind: MissingHeader, has: "header", pattern: re(`ERROR: (?:C|C\+\+) header ` + open + `(?P<name>[\w./+-]+)` + close + ` not found`)},
	{kind: WrongOption, has: "ERROR: Unknown option", pattern: re(`ERROR: Unknown options?: "(?P<name>[^"]+)"`)},
	{kind: WrongOption, has: "is not one of the choices", pattern: re(`ERROR: Value "(?P<found>[^"]*)".* for (?:\w+ )?option "(?P<name>[^"]+)" is not one of the choices`)},
	{kind: MissingInSource, has: "ERROR: ", pattern: re(`ERROR: File (?P<name>\S+) does not exist\.`)},
	{kind: MissingInSource, has: "ERROR: ", pattern: re(`ERROR: Nonexistent build file '(?P<name>[^']+)'`)},
	{kind: Unknown, has: "Problem encountered", pattern: re(`ERROR: Problem encountered: (?P<name>.*)`), more: mesonSaid},
	{kind: Unknown, has: "Assert failed", pattern: re(`ERROR: Assert failed: (?P<name>.*)`), more: mesonSaid},
}

// withPkgConfig tells of pkg-config where that is what Meson has not found.
func withPkgConfig(c *Cause, lines []string, at int) bool {
	for _, line := range lines[:at] {
		if strings.HasPrefix(line, "Did not find pkg-config") || strings.HasPrefix(line, "Found pkg-config: NO") {
			c.Kind, c.Names = MissingProgram, []string{"pkg-config"}
		}
	}
	return true
}

var notFoundByMeson = re(`(?:(?:Run-time|Build-time) dependency|Dependency|Dependency lookup for) (?P<name>[\w.+-]+) .*found: NO|^(?P<kind>Library|Program|Has header) "?(?P<name2>[\w./+-]+)"?.* found: NO|^(?:Check usable|Has) header "(?P<name3>[^"]+)".*: NO|^(?P<kind4>Program) (?P<name4>[\w.+-]+).* found: NO`)

// unmet are what Meson has looked for just before a line, and not found.
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

// dependencyBefore finds the dependency that was looked for when a subproject in
// its place could not be had.
func dependencyBefore(c *Cause, lines []string, at int) bool {
	for _, f := range unmet(lines, at) {
		if f.kind == MissingModule {
			c.Names = []string{f.name}
			return withPkgConfig(c, lines, at)
		}
	}
	return false
}

// mesonSaid reads a message that the author of a build file has written.
func mesonSaid(c *Cause, lines []string, at int) bool {
	text := c.Name()
	c.Names = nil
	return conclude(c, text, unmet(lines, at))
}
