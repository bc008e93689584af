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
	"slices"
	"strings"

	"fernladder/core/pattern"
)

// Kind is what kind of cause it is.
type Kind string

// The kinds.
const (
	MissingHeader   Kind = "missing_header"
	MissingLibrary  Kind = "missing_library"
	MissingShared   Kind = "missing_shared_library" // that a program needs to run
	MissingModule   Kind = "missing_module"         // of pkg-config
	MissingPackage  Kind = "missing_package"        // that CMake's find_package does not find
	MissingProgram  Kind = "missing_program"
	MissingPython   Kind = "missing_python_module"
	MissingPerl     Kind = "missing_perl_module"
	MissingMacro    Kind = "missing_macro" // of autoconf
	Missing         Kind = "missing"       // something that only has a name
	MissingInSource Kind = "missing_in_source"
	InSource        Kind = "elsewhere_in_source" // a header that the source has, where the compiler does not look
	TooOld          Kind = "too_old"
	TooNew          Kind = "too_new"
	CompilerTooOld  Kind = "compiler_too_old"
	CompilerTooNew  Kind = "compiler_too_new"
	CompileError    Kind = "compile_error"
	WarningError    Kind = "warning_as_error"
	CompilerCrashed Kind = "compiler_crashed"
	Undefined       Kind = "undefined_reference"
	NotRelocatable  Kind = "not_relocatable" // code for a shared library that was compiled without -fPIC
	WrongOption     Kind = "wrong_option"
	NoTarget        Kind = "no_target" // of a makefile
	TestFailed      Kind = "test_failed"
	TimedOut        Kind = "timed_out"
	Race            Kind = "race" // of jobs side by side
	NoSpace         Kind = "no_space"
	NoMemory        Kind = "no_memory"
	Killed          Kind = "killed"
	Network         Kind = "network"
	Permission      Kind = "permission"
	Unknown         Kind = "unknown"
	Fine            Kind = "fine" // nothing in the log looks like a failure
)

// A Cause is what went wrong.
type Cause struct {
	Kind  Kind     `json:"kind"`
	Names []string `json:"names,omitempty"` // of what is missing; any one of several will do
	Range string   `json:"range,omitempty"` // the versions that are wanted
	Found string   `json:"found,omitempty"` // the version that is there
	// Likely is set where it follows from the words of a message, which nothing
	// else in the log confirms.
	Likely  bool     `json:"likely,omitempty"`
	Also    []Cause  `json:"also,omitempty"`    // what the same log says is missing besides
	Without string   `json:"without,omitempty"` // the argument that builds without what is missing, as the message says
	Place   string   `json:"place,omitempty"`   // FILE:LINE in the source
	Line    int      `json:"line"`              // of the log, counted from 1; 0 where nothing is known
	Lines   []string `json:"lines"`             // of the log around it
	See     string   `json:"see,omitempty"`     // another log that has more
	In      string   `json:"in,omitempty"`      // the log that Line and Lines are of, where it is another one
}

// Known tells whether the cause says more than that there is one.
func (c Cause) Known() bool { return c.Kind != Unknown && c.Kind != Fine }

// Name is the first of the names.
func (c Cause) Name() string {
	if len(c.Names) == 0 {
		return ""
	}
	return c.Names[0]
}

// sentences say what the kinds mean, without a stop. The verb is for the names.
var sentences = map[Kind]string{
	MissingHeader: "the header %s is missing", MissingLibrary: "the library %s is missing", MissingShared: "a program does not find the shared library %s",
	MissingModule: "the pkg-config module %s is missing", MissingPackage: "CMake does not find the package %s", MissingProgram: "the program %s is missing",
	MissingPython: "the Python module %s is missing", MissingPerl: "the Perl module %s is missing", MissingMacro: "the autoconf macro %s is missing", Missing: "%s is missing",
	MissingInSource: "the source has no file %s", InSource: "%s is not found, although the source has it",
	TooOld: "%s is wanted", TooNew: "%s is newer than the source knows", CompilerTooOld: "the compiler is too old for the code, which wants %s",
	CompilerTooNew: "the code is older than the compiler, which refuses it", CompileError: "the compiler refuses the code; nothing is missing",
	WarningError: "the source has warnings of the compiler count as errors (-Werror)", CompilerCrashed: "the compiler has crashed",
	Undefined: "the linker finds nothing called %s", NotRelocatable: "code of a shared library was compiled without -fPIC",
	WrongOption: "there is no option %s", NoTarget: "the makefile has no target %s",
	TestFailed: "tests of the package failed", TimedOut: "it took longer than it was given", Race: "jobs that ran side by side seem to have been in each other's way",
	NoSpace: "the disk is full", NoMemory: "the memory was full", Killed: "it was ended from outside",
	Network: "it wanted the network", Permission: "it may not change or read %s", Unknown: "the cause is not clear",
	Fine: "nothing in it looks like a failure",
}

// String says what it is in one sentence without a stop.
func (c Cause) String() string {
	const most = 4
	name := strings.Join(c.Names[:min(most, len(c.Names))], " or ")
	if len(c.Names) > most {
		name += " or others"
	}
	if c.Range != "" {
		name += " " + c.Range
	}
	text := sentences[c.Kind]
	if c.Kind == InSource && strings.HasSuffix(name, ".h") {
		text = "the compiler does not find the header %s, although the source has it"
	}
	if strings.Contains(text, "%s") {
		text = fmt.Sprintf(text, name)
	} else if c.Kind == Network && name != "" {
		text += ", at " + name
	}
	if c.Kind == TooOld && c.Found != "" {
		text += ", and " + c.Found + " is there"
	}
	if c.Likely {
		text = "it seems that " + text
	}
	return text
}

// A rule says what a line means. The groups of its pattern are named: name,
// range, found, place.
type rule struct {
	kind    Kind
	has     string // what every line that it holds for has in it; quicker to look for
	pattern *pattern.Pattern
	// more finds out what the line leaves open from those around it; it returns
	// false where the rule does not hold after all.
	more func(c *Cause, lines []string, at int) bool
}

// rules are tried on each line in this order; the first line that one holds for
// is the cause.
var rules = slices.Concat(machineRules, shellRules, configureRules, cmakeRules, mesonRules, compilerRules, linkerRules, languageRules, makeRules)

// around is how many lines before and after the cause are shown.
const around = 4

// Log diagnoses the log of a stage. Text is all of it, or its end.
func Log(text string) Cause {
	c, _ := diagnose(strings.Split(strings.TrimRight(text, "\n"), "\n"))
	return c
}

// diagnose returns the cause, and the rule that knows it, nil for none.
func diagnose(lines []string) (Cause, *rule) {
	for i := range lines {
		lines[i] = strings.TrimRight(lines[i][:min(longestLine, len(lines[i]))], "\r")
	}
	ends := make(ends, len(lines))
	for i, line := range lines {
		if line == "" {
			continue
		}
		for r := range rules {
			if c := rules[r].holds(lines, i, ends); c != nil {
				c.Lines = slices.Clone(lines[max(0, i-around):min(len(lines), i+around+1)])
				c.See = see(lines)
				if c.Without == "" {
					c.Without = without(following(lines, i))
				}
				c.Also = c.others(lines, i, ends)
				return *c, &rules[r]
			}
		}
	}
	return Cause{Kind: Unknown, Lines: slices.Clone(lines[max(0, len(lines)-2*around):]), See: see(lines)}, nil
}

// missing are the kinds of which a log can name several that are independent.
var missing = []Kind{MissingHeader, MissingLibrary, MissingModule, MissingPackage, MissingProgram, MissingPython, MissingPerl, MissingShared}

// others are what else of such kinds is missing, as the lines after the first say.
func (c *Cause) others(lines []string, at int, ends ends) (also []Cause) {
	const most = 8
	if !slices.Contains(missing, c.Kind) || c.Likely {
		return nil
	}
	seen := map[string]bool{c.String(): true}
	for i := at + 1; i < len(lines) && len(also) < most; i++ {
		if lines[i] == "" {
			continue
		}
		for r := range rules {
			if !slices.Contains(missing, rules[r].kind) {
				continue
			}
			o := rules[r].holds(lines, i, ends)
			if o == nil {
				continue
			}
			if slices.Contains(missing, o.Kind) && !o.Likely && !seen[o.String()] && !slices.Contains(c.Names, o.Name()) {
				seen[o.String()] = true
				also = append(also, *o)
			}
			break
		}
	}
	return also
}

// Guess is what a cause probably is where nothing in a log, nor in those that it points
// to, is known: a compiler that cannot make programs mostly lacks the C library's own
// development files.
func (c Cause) Guess(text string) Cause {
	if c.Kind == Unknown && cannotCompile.MatchString(text) {
		c.Kind, c.Names, c.Likely = MissingHeader, []string{"stdio.h"}, true
	}
	return c
}

var cannotCompile = pattern.New(`(?m)configure: error: (?:the )?C compiler cannot create executables|cannot compile a simple C program|The C compiler\s+"[^"]*"\s+is not able to compile a simple test program`)

// longestLine is how much of a line is looked at. No message is as long, and logs may
// be anything.
const longestLine = 4 << 10

// holds returns the cause that a line is, as far as the rule knows, or nil.
func (r *rule) holds(lines []string, at int, ends ends) *Cause {
	line := lines[at]
	if !strings.Contains(line, r.has) {
		return nil
	}
	match := r.pattern.FindStringSubmatch(line)
	if match == nil || !ends.within(soon, lines, at) {
		return nil
	}
	c := &Cause{Kind: r.kind, Line: at + 1}
	c.take(r.pattern.Compiled().SubexpNames(), match)
	if r.more != nil && !r.more(c, lines, at) {
		return nil
	}
	return c
}

// take sets what the named groups of a pattern have matched.
func (c *Cause) take(groups, match []string) {
	for g, group := range groups {
		value := strings.TrimSpace(match[g])
		if value == "" {
			continue
		}
		switch group {
		case "name":
			c.Names = append(c.Names, value)
		case "range":
			c.Range = value
		case "found":
			c.Found = value
		case "place":
			c.Place = value
		}
	}
}

// final matches what programs say when they give up.
var final = pattern.New(`\*\*\* |configure: (?:error|ERROR)|config.status: error|configure failed|FATAL ERROR|^CMake Error|Configuring incomplete|ERROR: |ninja: (?:error|build stopped)|returned 1 exit status|^compilation terminated|^Makefile:\d+: |^error: |^Traceback `)

// soon is within how many lines after its cause something gives up.
const soon = 25

// ends remembers of each line whether something gives up there: 0 is not known yet,
// 1 yes, 2 no.
type ends []int8

// within tells whether something gives up within a number of lines from one on, or
// the log ends: configure scripts and makefiles also ask for what need not be there.
func (e ends) within(number int, lines []string, at int) bool {
	if len(lines)-at <= number {
		return true
	}
	for i := at; i < at+number; i++ {
		if e[i] == 0 {
			e[i] = map[bool]int8{true: 1, false: 2}[final.MatchString(lines[i])]
		}
		if e[i] == 1 {
			return true
		}
	}
	return false
}

// elsewhere matches lines that say where more is to be read.
var elsewhere = pattern.New(`(?:See also "|A full log can be found at |[Ss]ee (?:the file )?['"` + "`" + `]?)(/[^\s"']+(?:\.log|\.yaml|\.txt))|(config\.log)`)

func see(lines []string) string {
	const far = 100
	for i := len(lines) - 1; i >= max(0, len(lines)-far); i-- {
		if match := elsewhere.FindStringSubmatch(lines[i]); match != nil {
			return match[1] + match[2]
		}
	}
	return ""
}
