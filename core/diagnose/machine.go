package diagnose

import (
	"strings"

	"fernladder/core/pattern"
)

func re(text string) *pattern.Pattern { return pattern.New(text) }

// Quotes that programs may put around a name.
const (
	open  = "['\"`‘“]?"
	close = "['\"’”`]?"
)

// fatal reports whether make gives up right after a line.
func fatal(_ *Cause, lines []string, at int) bool {
	return at+1 < len(lines) && strings.Contains(lines[at+1], "*** [")
}

var fallback = re(`^Looking for a fallback subproject for the dependency (\S+)`)

// insteadOf reports the dependency that Meson wanted to download because it is missing.
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

// started reports whether a command that a shell did not find matters. A configure script goes
// on after that, and reports the consequence later.
func started(c *Cause, lines []string, at int) bool {
	const soon = 3
	after := lines[at:min(len(lines), at+soon+1)]
	if strings.Contains(lines[at], "configure: ") && !make(ends, len(after)).within(soon, after, 0) {
		return false
	}
	return ofTheMachine(c, lines, at)
}

// ofTheMachine drops parts of the source: ./configure is not a program of the machine.
func ofTheMachine(c *Cause, _ []string, _ int) bool {
	name := c.Name()
	if strings.HasPrefix(name, "./") || strings.HasPrefix(name, "../") {
		c.Kind, c.says = MissingInSource,
			"{name} is not found: the source has no such file, or the interpreter that its first line names is missing"
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
