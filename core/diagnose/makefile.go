package diagnose

import "strings"

// makeRules know make, ninja, and the runners of tests.
var makeRules = []rule{
	{kind: MissingInSource, has: "No rule to make", pattern: re(`No rule to make target ` + open + `(?P<name>[^'"’` + "`" + `]+)` + close + `, needed by`), more: absolute},
	{kind: NoTarget, has: "No rule to make", pattern: re(`^g?make(?:\[\d+\])?: \*\*\* No rule to make target ` + open + `(?P<name>[^'"’` + "`" + `]+)` + close + `\.`)},
	{kind: MissingInSource, has: "no makefile found", pattern: re(`\*\*\* No targets specified and no (?P<name>makefile) found`)},
	{kind: MissingInSource, has: "missing and no known rule", pattern: re(`ninja: error: '(?P<name>[^']+)'(?:, needed by '[^']+',)? missing and no known rule to make it`), more: absolute},
	{kind: MissingInSource, has: "No such file", pattern: re(`^[\w./-]*[Mm]ake[\w./-]*:\d+: (?P<name>[\w./+-]+): No such file or directory`)},
	{kind: Unknown, has: "*** ", pattern: re(`^[\w./-]+:\d+: \*\*\* (?P<name>.*)\.\s+Stop\.`), more: makeSaid},
	{kind: Unknown, has: " ", pattern: re(`^(?:(?i:fatal|error|fatal error|\*+ error): |\*\*\*+ (?:Could not|Cannot|Can't|Unable to) find)`), more: complained},
	{kind: MissingModule, has: "ackage '", pattern: re(`^(?:No package|Package) '(?P<name>[\w.+-]+)'(?:, required by '[^']*', not)? found`), more: fatal},
	{kind: Unknown, has: "find ", pattern: re(`^(?:Could not|Cannot|Can't|Unable to|Failed to) find `), more: atTheEnd},
	{kind: Missing, has: " must be installed", pattern: re(`^(?P<name>\w+) must be installed`)},
	{kind: Unknown, has: "could not be found for", pattern: re(`^The headers or library files could not be found for `), more: complained},
	{kind: TestFailed, has: "# ", pattern: re(`^# (?:FAIL|ERROR): +[1-9]`)},
	{kind: TestFailed, has: "failed out of", pattern: re(`[1-9]\d* tests? failed out of`)},
	{kind: TestFailed, has: "Fail:", pattern: re(`^Fail: +[1-9]`)},
	{kind: TestFailed, has: "FAILED (", pattern: re(`^FAILED \((?:failures|errors)=`)},
	{kind: TestFailed, has: " failed", pattern: re(`^=+ .*[1-9]\d* failed`)},
	{kind: TestFailed, has: "FAIL", pattern: re(`^Result: FAIL|^--- FAIL: `)},
}

// absolute tells a library or header of the operating system, by its whole path,
// from a file of the source.
func absolute(c *Cause, _ []string, _ int) bool {
	name := c.Name()
	if !strings.HasPrefix(name, "/usr/") {
		return true
	}
	file := name[strings.LastIndexByte(name, '/')+1:]
	switch stem, _, library := strings.Cut(strings.TrimPrefix(file, "lib"), ".so"); {
	case library:
		c.Kind, c.Names = MissingLibrary, []string{stem}
	case strings.HasSuffix(file, ".a"):
		c.Kind, c.Names = MissingLibrary, []string{strings.TrimSuffix(strings.TrimPrefix(file, "lib"), ".a")}
	case strings.HasPrefix(name, "/usr/include/"):
		c.Kind, c.Names = MissingHeader, []string{strings.TrimPrefix(name, "/usr/include/")}
	}
	return true
}

// makeSaid reads a message that the author of a makefile has written.
func makeSaid(c *Cause, lines []string, at int) bool {
	text := c.Name()
	c.Names = nil
	if strings.HasPrefix(text, "missing separator") || strings.HasPrefix(text, "commands commence") || strings.HasPrefix(text, "unterminated") {
		return true
	}
	return conclude(c, text, nil)
}

// complained reads what a script that was written by hand has said in a line, if
// that names something that is missing.
func complained(c *Cause, lines []string, at int) bool {
	c.Names = []string{lines[at]}
	said(c, lines, at)
	return len(c.Names) > 0 && missingWords.MatchString(lines[at])
}

// atTheEnd reads what a script has said, if it has said next to nothing after it.
func atTheEnd(c *Cause, lines []string, at int) bool {
	const few = 5
	return len(lines)-at <= few && complained(c, lines, at)
}

var missingWords = re(`(?i)not found|not be found|could not find|failed to find|cannot find|can't find|unable to find|not present|no suitable|required|missing|installed|you need`)
