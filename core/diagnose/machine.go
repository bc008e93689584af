package diagnose

import (
	"strings"

	"fernladder/core/pattern"
)

func re(text string) *pattern.Pattern { return pattern.New(text) }

// The quotes that programs put around a name, where they do.
const (
	open  = "['\"`‘“]?"
	close = "['\"’”`]?"
)

// notAllowed is how programs begin who may not do something with a file.
const notAllowed = `(?:(?:cannot|can't|could not|failed to) [\w ]+ |ownership of |^|: )` + open + `(?P<name>/[^\s:'"’]+)` + close + `: `

// machineRules are about the machine that builds: its disk, memory, network, and
// what it allows.
var machineRules = []rule{
	{kind: NoSpace, has: "No space left", pattern: re(`No space left on device`)},
	{kind: NoMemory, has: "memory", pattern: re(`(?i)virtual memory exhausted|out of memory|Cannot allocate memory`)},
	{kind: NoMemory, has: "signal", pattern: re(`Killed signal terminated program|terminated with signal 9`)},
	{kind: CompilerCrashed, has: "internal compiler error", pattern: re(`^(?:(?P<place>[^\s:]+:\d+):(?:\d+:)? )?.*internal compiler error`)},
	{kind: Killed, has: "*** ", pattern: re(`^g?make(?:\[\d+\])?: \*\*\* .*\] (?:Killed|Terminated|Hangup)$`)},
	{kind: TimedOut, has: "***Timeout", pattern: re(`\*\*\*Timeout`)},
	{kind: TimedOut, has: " TIMEOUT ", pattern: re(`^\s*\d+/\d+ .* TIMEOUT `)},
	{kind: TimedOut, has: "sending signal", pattern: re(`sending signal TERM to command`)},
	{kind: Race, has: "file ", pattern: re(`file not recognized: [Ff]ile (?:format not recognized|truncated)|malformed archive|file in wrong format$`)},
	{kind: Race, has: "File exists", pattern: re(`(?:mkdir|ln|mv): .*File exists$`), more: fatal},

	{kind: Network, has: "resolve", pattern: re(`(?i)(?:could not|couldn't|unable to|can't|cannot) resolve (?:host(?:name)?|proxy)?(?: name| address)?:? *` + open + `(?P<name>[\w-]+(?:\.[\w-]+)+)`)},
	{kind: Network, has: "resolution", pattern: re(`(?P<name>[\w-]+(?:\.[\w-]+)+)?[^.\w]*(?:Temporary )?failure in name resolution`), more: insteadOf},
	{kind: Network, has: "lookup", pattern: re(`dial tcp: lookup (?P<name>[\w-]+(?:\.[\w-]+)+)`)},
	{kind: Network, has: "EAI_AGAIN", pattern: re(`getaddrinfo EAI_AGAIN (?P<name>[\w.-]+)`)},
	{kind: Network, has: "network entity", pattern: re(`Attempt to load network entity (?P<name>\S+)`)},
	{kind: Network, has: "download", pattern: re(`error: downloading ` + open + `(?P<name>\w+://[^'"\s]+)` + close + ` failed`)},
	{kind: Network, has: "onnect to", pattern: re(`(?i)unable to connect to a repository at URL ` + open + `(?P<name>[^'"\s]+)`)},
	{kind: Network, has: "not known", pattern: re(`Name or service not known`)},
	{kind: Network, has: "unreachable", pattern: re(`Network is unreachable`)},

	{kind: Permission, has: "Permission denied", pattern: re(notAllowed + `Permission denied`)},
	{kind: Permission, has: "Read-only file", pattern: re(notAllowed + `Read-only file system`)},
	{kind: Permission, has: "not permitted", pattern: re(notAllowed + `Operation not permitted`)},
}

// fatal tells whether make gives up right after a line.
func fatal(_ *Cause, lines []string, at int) bool {
	return at+1 < len(lines) && strings.Contains(lines[at+1], "*** [")
}

var fallback = re(`^Looking for a fallback subproject for the dependency (\S+)`)

// insteadOf tells of the dependency that Meson wanted to download, because it is
// not there.
func insteadOf(c *Cause, lines []string, at int) bool {
	const far = 40
	for i := at; i >= max(0, at-far); i-- {
		if match := fallback.FindStringSubmatch(lines[i]); match != nil {
			c.Kind, c.Names = MissingModule, []string{match[1]}
			return withPkgConfig(c, lines, i)
		}
	}
	return true
}

// shellRules are about the programs that shells and others start.
var shellRules = []rule{
	{kind: MissingMacro, has: "not found", pattern: re(`^(?:\./)?configure: (?:line )?\d+: (?P<name>[A-Z]+_[A-Z0-9_]+): (?:command )?not found`), more: anyMacro},
	{kind: MissingProgram, has: "not found", pattern: re(`(?:line \d+: |sh: (?:\d+: )?|bash: |: \d+: )(?P<name>[\w./+-]+): (?:command )?not found`), more: started},
	{kind: MissingProgram, has: "make", pattern: re(`^g?make(?:\[\d+\])?: (?P<name>[\w./+-]+): (?:No such file or directory|Command not found)`), more: ofTheMachine},
	{kind: MissingProgram, has: "env: ", pattern: re(`(?:^|/)env: ` + open + `(?P<name>[\w.+-]+)` + close + `: No such file or directory`)},
	{kind: MissingProgram, has: "interpreter", pattern: re(`(?P<name>/[\w./+-]+)(?:\^M)?: bad interpreter`)},
	{kind: MissingProgram, has: "Can't exec", pattern: re(`Can't exec "(?P<name>[\w./+-]+)": No such file or directory`), more: ofTheMachine},
	{kind: MissingProgram, has: "failed to run", pattern: re(`failed to run (?P<name>[\w.+-]+): No such file or directory`)},
	{kind: MissingProgram, has: "FileNotFoundError", pattern: re(`FileNotFoundError: .*No such file or directory: '(?P<name>[a-z][\w.+-]*)'`), more: ofTheMachine},
	{kind: MissingProgram, has: "Neither ", pattern: re(`^Neither (?P<name>[a-z][\w.+-]*) nor (?P<name>[a-z][\w.+-]*) (?:has|have|was|were)\b.* found`)},
	{kind: MissingProgram, has: "/", pattern: re(`^(?P<name>[a-z][\w.+-]*)/(?P<name>[a-z][\w.+-]*) not found`)},
	{kind: MissingProgram, has: "Cannot exec", pattern: re(`^tar \(child\): (?P<name>[\w.+-]+): Cannot exec: No such file`)},
	{kind: MissingShared, has: "shared librar", pattern: re(`error while loading shared libraries: (?P<name>[\w.+-]+): cannot open`)},
}

// started tells whether something that a shell did not find matters. A configure
// script goes on after that, and says later what it is about.
func started(c *Cause, lines []string, at int) bool {
	const soon = 3
	after := lines[at:min(len(lines), at+soon+1)]
	if strings.Contains(lines[at], "configure: ") && !make(ends, len(after)).within(soon, after, 0) {
		return false
	}
	return ofTheMachine(c, lines, at)
}

// ofTheMachine leaves out what is a part of the source: ./configure is not a
// program of the machine.
func ofTheMachine(c *Cause, _ []string, _ int) bool {
	name := c.Name()
	if strings.HasPrefix(name, "./") || strings.HasPrefix(name, "../") {
		c.Kind = MissingInSource
		return true
	}
	if name == "no" || name == "yes" { // answers that a script took for a program
		return false
	}
	for _, suffix := range []string{".c", ".h", ".o", ".txt", ".json", ".in"} {
		if strings.HasSuffix(name, suffix) {
			return false
		}
	}
	return strings.HasPrefix(name, "/usr/bin/") || strings.HasPrefix(name, "/bin/") || !strings.Contains(name, "/")
}

// is names the program that a line is about.
func is(name string) func(*Cause, []string, int) bool {
	return func(c *Cause, _ []string, _ int) bool {
		c.Names = []string{name}
		return true
	}
}
