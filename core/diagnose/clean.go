package diagnose

import (
	"strings"
	"unicode/utf16"

	"fernladder/core/pattern"
)

// longestLine is how much of a line is read. No message is longer, and logs are untrusted.
const longestLine = 4 << 10

// cleaned splits a log into its lines, without the decoration of terminals and of programs that
// call others. The number of lines is unchanged.
func cleaned(text string) []string {
	text = decoded(text)
	lines := strings.Split(strings.TrimRight(text, "\n"), "\n")
	stamp := stamps(lines)
	framed := false
	for i, line := range lines {
		line = strings.TrimRight(line[:min(longestLine, len(line))], "\r")
		if at := strings.LastIndexByte(line, '\r'); at >= 0 { // written over
			line = line[at+1:]
		}
		if strings.IndexFunc(line, func(c rune) bool { return c < ' ' && c != '\t' || c == 0x7f }) >= 0 {
			line = plainly(line)
		}
		if stamp != nil {
			line = stamp.ReplaceAllString(line, "")
		}
		switch {
		case strings.Contains(line, "╰─> ["):
			framed = true
		case framed && strings.Contains(line, "[end of output]"):
			framed = false
		case framed:
			line = strings.TrimPrefix(line, "      ")
		}
		lines[i] = line
	}
	return lines
}

// decoded converts a text from UTF-16 to UTF-8, if it is in UTF-16.
func decoded(text string) string {
	const enough = 4 << 10
	head := text[:min(len(text), enough)]
	big := strings.HasPrefix(text, "\xfe\xff")
	if !big && !strings.HasPrefix(text, "\xff\xfe") && strings.Count(head, "\x00")*3 < len(head) || len(head) < 2 {
		return text
	}
	units := make([]uint16, 0, len(text)/2)
	for i := 0; i+1 < len(text); i += 2 {
		unit := uint16(text[i]) | uint16(text[i+1])<<8
		if big {
			unit = unit>>8 | unit<<8
		}
		units = append(units, unit)
	}
	return strings.TrimPrefix(string(utf16.Decode(units)), "\ufeff")
}

// plainly removes terminal sequences from a line.
func plainly(line string) string {
	line = escapes.ReplaceAllString(line, "")
	return strings.Map(func(c rune) rune {
		if c < ' ' && c != '\t' || c == 0x7f {
			return -1
		}
		return c
	}, line)
}

var (
	escapes = pattern.New(`\x1b(?:\[[0-9;:?]*[ -/]*[@-~]|\][^\x07\x1b]*(?:\x07|\x1b\\)?|[@-_])`)
	stamped = []*pattern.Pattern{
		pattern.New(`^\[?\d{4}-\d\d-\d\d[T ]\d\d:\d\d:\d\d[\d.,]*Z?\]? ?`), pattern.New(`^\[? ?\d+:\d\d:\d\d\]? `),
		pattern.New(`^#\d+ \d+\.\d+ `),
	}
)

// stamps matches prefixes of lines, such as the time that build services add.
func stamps(lines []string) *pattern.Pattern {
	const enough = 50
	some := lines[:min(len(lines), enough)]
	for _, p := range stamped {
		n := 0
		for _, line := range some {
			if p.MatchString(plainly(line[:min(longestLine, len(line))])) {
				n++
			}
		}
		if n > 2 && n*4 > len(some)*3 {
			return p
		}
	}
	return nil
}
