package diagnose

import (
	"slices"
	"strings"
)

func topModule(c *Cause, _ []string, _ int) bool {
	c.Names[0], _, _ = strings.Cut(c.Names[0], ".")
	return true
}

func perlName(c *Cause, _ []string, _ int) bool {
	c.Names[0] = strings.ReplaceAll(c.Names[0], "/", "::")
	return true
}

// goModule reports the module that Go could not download as missing.
func goModule(c *Cause, lines []string, at int) bool {
	return at+1 < len(lines) && strings.Contains(lines[at+1], "GOPROXY")
}

// crateModule reports the module, not the crate, for a crate that looks for a library with
// pkg-config.
func crateModule(c *Cause, _ []string, _ int) bool {
	c.Kind = MissingModule
	return true
}

// panicked takes the panic message of a Rust program, from the next line if it is not in this
// one.
func panicked(c *Cause, lines []string, at int) bool {
	const far = 200
	if slices.ContainsFunc(lines[at:min(len(lines), at+far)], func(line string) bool {
		return strings.HasPrefix(line, "test result: FAILED")
	}) {
		return false
	}
	return len(c.Names) > 0 || nextLine(c, lines, at)
}

// traceback takes the last line of a Python traceback, and the like.
func traceback(c *Cause, lines []string, at int) bool {
	const far = 200
	for _, line := range lines[at:min(len(lines), at+far)] {
		if testsOfPython.MatchString(line) {
			return false
		}
	}
	for _, line := range lines[max(0, at-far):at] {
		if strings.HasPrefix(line, "Traceback (most recent call last)") {
			return true
		}
	}
	c.says = "it says: {found}: {name}"
	return true
}

// testsOfPython matches the last words of Python's runners of tests.
var testsOfPython = re(`^FAILED \((?:failures|errors)|^=+ .*[1-9]\d* failed`)

// lastWords reports whether a line is among the last of a log.
func lastWords(_ *Cause, lines []string, at int) bool {
	const few = 8
	return len(lines)-at <= few
}

// eachOf takes all names of a list.
func eachOf(c *Cause, _ []string, at int) bool {
	names := strings.FieldsFunc(c.Name(), func(r rune) bool { return r == ',' || r == ' ' })
	if len(names) == 0 {
		return false
	}
	c.Names = names[:1]
	for _, name := range names[1:] {
		c.Also = append(c.Also, Cause{Kind: c.Kind, Names: []string{name}, Line: at + 1})
	}
	return true
}

// wantedRust takes the required version of rustc from the next line.
func wantedRust(c *Cause, lines []string, at int) bool {
	for _, line := range lines[at:min(len(lines), at+4)] {
		if match := wantsRust.FindStringSubmatch(line); match != nil {
			c.Range = ">= " + match[1]
			return true
		}
	}
	c.says = "a newer rustc than {found} is required"
	return true
}

var wantsRust = re(`requires rustc ([\d.]+)`)
