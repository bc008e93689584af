package diagnose

import (
	"strings"

	"fernladder/core/pattern"
)

var (
	configError = pattern.New(`^configure:\d+: error: `)
	configCheck = pattern.New(`^configure:\d+: checking `)
)

// Elsewhere diagnoses another log that a stage's log refers to: autoconf's config.log, in which
// the last check before the error counts, or the end of CMake's and Meson's. Most of what looks
// like an error in config.log is an answer.
func (t *Table) Elsewhere(name, text string) Cause {
	lines := strings.Split(strings.TrimRight(text, "\n"), "\n")
	if !strings.HasSuffix(name, "config.log") {
		const end = 80
		for i, line := range lines { // in YAML, logs are set in
			lines[i] = strings.TrimLeft(line, " ")
		}
		return t.Log(strings.Join(lines[max(0, len(lines)-end):], "\n"))
	}
	for i, line := range lines {
		if !configError.MatchString(line) {
			continue
		}
		begin := i
		for begin > 0 && !configCheck.MatchString(lines[begin]) {
			begin--
		}
		c := t.Log(strings.Join(lines[begin:i], "\n"))
		c.Line += begin
		return c
	}
	return Cause{Kind: Unknown}
}
