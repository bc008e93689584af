// Package diagnose finds in the log of a failed stage what went wrong first, and
// what that means: what is missing, too old, refused or broken.
//
// It knows the words of autoconf, CMake, Meson, make, compilers, linkers, shells
// and script languages. Where it does not know them, it says so and shows the
// lines: a wrong answer is worse than none. What only looks like an error, as the
// answers of configure scripts do, is no cause.
package diagnose

import (
	"fmt"
	"regexp"
	"strings"
)

// Kind is what kind of cause it is.
type Kind string

// The kinds.
const (
	MissingHeader   Kind = "missing_header"
	MissingLibrary  Kind = "missing_library"
	MissingModule   Kind = "missing_module"  // of pkg-config
	MissingPackage  Kind = "missing_package" // that CMake's find_package does not find
	MissingProgram  Kind = "missing_program"
	MissingPython   Kind = "missing_python_module"
	MissingPerl     Kind = "missing_perl_module"
	TooOld          Kind = "too_old"
	Undefined       Kind = "undefined_reference"
	WrongOption     Kind = "wrong_option"
	NoSpace         Kind = "no_space"
	NoMemory        Kind = "no_memory"
	Network         Kind = "network"
	Permission      Kind = "permission"
	TestFailed      Kind = "test_failed"
	CompilerTooNew  Kind = "compiler_too_new"
	CompileError    Kind = "compile_error"
	MissingInSource Kind = "missing_in_source"   // a file that the source should have
	InSource        Kind = "elsewhere_in_source" // a header that the source has, where the compiler does not look
	Unknown         Kind = "unknown"
)

// A Cause is what went wrong.
type Cause struct {
	Kind  Kind     `json:"kind"`
	Names []string `json:"names,omitempty"` // of what is missing; any one of several will do
	Range string   `json:"range,omitempty"` // the versions that are wanted
	Found string   `json:"found,omitempty"` // the version that is there
	Place string   `json:"place,omitempty"` // FILE:LINE in the source
	Line  int      `json:"line"`            // of the log, counted from 1; 0 where nothing is known
	Lines []string `json:"lines"`           // of the log around it
	See   string   `json:"see,omitempty"`   // another log that has more
}

// Known tells whether the cause says more than that there is one.
func (c Cause) Known() bool { return c.Kind != Unknown }

// Name is the first of the names.
func (c Cause) Name() string {
	if len(c.Names) == 0 {
		return ""
	}
	return c.Names[0]
}

// String says what it is in one sentence without a stop.
func (c Cause) String() string {
	name := strings.Join(c.Names, " or ")
	if c.Range != "" {
		name += " " + c.Range
	}
	text := map[Kind]string{
		MissingHeader: "the header %s is missing", MissingLibrary: "the library %s is missing", MissingModule: "the pkg-config module %s is missing",
		MissingPackage: "CMake does not find the package %s", MissingProgram: "the program %s is missing", MissingPython: "the Python module %s is missing",
		MissingPerl: "the Perl module %s is missing", Undefined: "the linker finds nothing called %s", WrongOption: "there is no option %s",
		MissingInSource: "the source has no file %s", InSource: "the compiler does not find the header %s, although the source has it",
	}[c.Kind]
	switch c.Kind {
	case TooOld:
		text = "%s is wanted"
		if c.Found != "" {
			text += ", and " + c.Found + " is there"
		}
	case NoSpace:
		return "the disk is full"
	case NoMemory:
		return "the memory was full"
	case Network:
		if name != "" {
			return "it wanted the network, at " + name
		}
		return "it wanted the network"
	case Permission:
		text = "it may not change or read %s"
	case TestFailed:
		return "tests of the package failed"
	case CompilerTooNew:
		return "the code is older than the compiler, which refuses it"
	case CompileError:
		return "the compiler refuses the code; nothing is missing"
	case Unknown:
		return "the cause is not clear"
	}
	return fmt.Sprintf(text, name)
}

// A rule says what a line means. The groups of its pattern are named: name,
// range, found, place.
type rule struct {
	kind    Kind
	pattern *regexp.Regexp
	// unless excludes lines that only look alike.
	unless *regexp.Regexp
	// more finds out what the line leaves open from those around it; it returns
	// false where the rule does not hold after all.
	more func(c *Cause, lines []string, at int) bool
}

// around is how many lines before and after the cause are shown.
const around = 4

// Log diagnoses the log of a stage. Text is all of it, or its end.
func Log(text string) Cause {
	lines := strings.Split(strings.TrimRight(text, "\n"), "\n")
	for i, line := range lines {
		line = strings.TrimRight(line, "\r")
		for _, r := range rules {
			match := r.pattern.FindStringSubmatch(line)
			if match == nil || r.unless != nil && r.unless.MatchString(line) {
				continue
			}
			if !stops(lines[i:]) {
				break // it went on
			}
			c := Cause{Kind: r.kind, Line: i + 1}
			for g, group := range r.pattern.SubexpNames() {
				switch value := strings.TrimSpace(match[g]); {
				case value == "":
				case group == "name":
					c.Names = append(c.Names, value)
				case group == "range":
					c.Range = value
				case group == "found":
					c.Found = value
				case group == "place":
					c.Place = value
				}
			}
			if r.more != nil && !r.more(&c, lines, i) {
				continue
			}
			c.Lines = lines[max(0, i-around):min(len(lines), i+around+1)]
			c.See = see(lines)
			return c
		}
	}
	return Cause{Kind: Unknown, Lines: lines[max(0, len(lines)-2*around):], See: see(lines)}
}

// final matches what programs say when they give up.
var final = regexp.MustCompile(`\*\*\* |^configure: error|^CMake Error|Configuring incomplete|ERROR: |ninja: build stopped|returned 1 exit status|^compilation terminated|^Makefile:\d+: `)

// stops tells whether something gives up soon after a line, or the log ends:
// configure scripts and makefiles also ask for what need not be there.
func stops(after []string) bool {
	const soon = 25
	if len(after) <= soon {
		return true
	}
	for _, line := range after[:soon] {
		if final.MatchString(line) {
			return true
		}
	}
	return false
}

// elsewhere matches lines that say where more is to be read.
var elsewhere = regexp.MustCompile(`(?:See also "|A full log can be found at |[Ss]ee (?:the file )?['"` + "`" + `]?)(/[^\s"']+(?:\.log|\.yaml|\.txt))|(config\.log)`)

func see(lines []string) string {
	for i := len(lines) - 1; i >= 0; i-- {
		if match := elsewhere.FindStringSubmatch(lines[i]); match != nil {
			return match[1] + match[2]
		}
	}
	return ""
}
