// Package diagnose finds, in the log of a failed stage, what went wrong first, and what that
// means: what is missing, too old, refused or broken.
//
// It knows the messages of autoconf, CMake, Meson, make, compilers, linkers, shells and script
// languages. If it does not know a message, it says so and shows the lines: a wrong answer is
// worse than none. Lines that only look like errors, such as the answers of configure scripts,
// are no causes.
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
	Source          Kind = "source"    // the source is at fault
	Setup           Kind = "setup"     // how the machine or the user is set up
	Damaged         Kind = "damaged"   // a file differs from what it should be
	Site            Kind = "site"      // a shelf's own table of causes
	Said            Kind = "own_words" // the tool's own words, which no rule knows
	Unknown         Kind = "unknown"
	Fine            Kind = "fine" // it did not fail
)

// A Cause is what went wrong.
type Cause struct {
	Kind  Kind     `json:"kind"`
	Names []string `json:"names,omitempty"` // missing things; any one of them is enough
	Range string   `json:"range,omitempty"` // the versions that are wanted
	Found string   `json:"found,omitempty"` // the version that is there
	// Likely is set if the cause follows from the words of a message, and nothing else in the log
	// confirms it.
	Likely  bool     `json:"likely,omitempty"`
	Also    []Cause  `json:"also,omitempty"`    // what else is missing by the same log
	Without string   `json:"without,omitempty"` // the argument for building without it, from the message
	Asks    string   `json:"asks,omitempty"`    // the argument that the message asks for, such as --enable-moss
	Flags   string   `json:"flags,omitempty"`   // FLAGS_CFLAGS and FLAGS_LIBS stand in for a pkg-config module
	Place   string   `json:"place,omitempty"`   // FILE:LINE in the source
	Line    int      `json:"line"`              // of the log, counted from 1; 0: unknown
	Lines   []string `json:"lines"`             // of the log around it
	See     string   `json:"see,omitempty"`     // another log that has more
	In      string   `json:"in,omitempty"`      // the log that Line and Lines are of, where it is another one
	Helps   string   `json:"helps,omitempty"`   // the advice, if the rule has some
	says    string   // in the place of the kind's text
	library bool     // it is about a library, so a program of the name does not answer it
}

// Known reports whether the cause says more than that there is one.
func (c Cause) Known() bool { return c.Kind != Unknown && c.Kind != Fine }

// Sure reports whether a program may act on it without a person.
func (c Cause) Sure() bool { return c.Known() && !c.Likely && c.Kind != Said }

// Decisive is the line of the log with the cause, or its last line.
func (c Cause) Decisive() string {
	switch {
	case len(c.Lines) == 0:
		return ""
	case c.Line == 0:
		return c.Lines[len(c.Lines)-1]
	}
	return c.Lines[min(c.Line-1, around, len(c.Lines)-1)]
}

// Name is the first of the names.
func (c Cause) Name() string {
	if len(c.Names) == 0 {
		return ""
	}
	return c.Names[0]
}

// sentences say what the kinds mean, without a full stop. The verb is for the names.
var sentences = map[Kind]string{
	MissingHeader: "the header %s is missing", MissingLibrary: "the library %s is missing",
	MissingShared: "a program cannot find the shared library %s",
	MissingModule: "the pkg-config module %s is missing", MissingPackage: "CMake cannot find the package %s",
	MissingProgram: "the program %s is missing",
	MissingPython:  "the Python module %s is missing", MissingPerl: "the Perl module %s is missing",
	MissingMacro: "the autoconf macro %s is missing", Missing: "%s is missing",
	MissingInSource: "the source has no file %s", InSource: "%s is not found, although the source has it",
	TooOld: "%s is required", TooNew: "%s is newer than the source knows",
	CompilerTooOld: "the compiler is too old for the code, which requires %s",
	CompilerTooNew: "the compiler is too new for the code, and rejects it",
	CompileError:   "the compiler rejects the code; nothing is missing",
	WarningError:   "the source treats compiler warnings as errors (-Werror)", CompilerCrashed: "the compiler crashed",
	Undefined:      "the linker cannot find the symbol %s",
	NotRelocatable: "code of a shared library was compiled without -fPIC",
	WrongOption:    "there is no option %s", NoTarget: "the makefile has no target %s",
	TestFailed: "tests of the package failed", TimedOut: "it exceeded its time limit",
	Race:    "parallel jobs seem to have raced",
	NoSpace: "the disk is full", NoMemory: "memory ran out", Killed: "it was killed from outside",
	Network: "it needed the network", Permission: "it must not change or read %s", Source: "the source is at fault",
	Setup:   "the machine is not set up for it",
	Damaged: "%s is damaged, or not what it should be", Site: "%s", Said: "it says: %s", Unknown: "the cause is not clear",
	Fine: "it did not fail",
}

// String says what it is in one sentence without a full stop.
func (c Cause) String() string {
	const most = 4
	name := strings.Join(c.Names[:min(most, len(c.Names))], " or ")
	if len(c.Names) > most {
		name += " or others"
	}
	if c.Range != "" && c.says == "" {
		name += " " + c.Range
	}
	text := sentences[c.Kind]
	if c.says != "" {
		text = strings.NewReplacer("{name}", name, "{range}", c.Range, "{found}", c.Found, "%", "%%").Replace(c.says)
	}
	if c.Kind == InSource && strings.HasSuffix(name, ".h") {
		text = "the compiler cannot find the header %s, although the source has it"
	}
	if strings.Contains(text, "%s") {
		text = fmt.Sprintf(text, name)
	} else if c.says != "" {
		text = strings.ReplaceAll(text, "%%", "%")
	} else if c.Kind == Network && name != "" {
		text += ", at " + name
	}
	if c.Kind == TooOld && c.Found != "" && c.says == "" {
		text += ", but " + c.Found + " is installed"
	}
	if c.Likely && c.Kind != Said {
		text = "it seems that " + text
	}
	return text
}

// around is how many lines before and after the cause are shown.
const around = 4

// Log diagnoses the log of a stage. text is all of it, or its end. It first finds out, from the
// last words of tools, whether anything has failed; then what came first in the run that failed.
func (t *Table) Log(text string) Cause {
	c, _ := t.diagnose(cleaned(text))
	return c
}

// diagnose returns the cause, and the rule that found it, or nil.
func (t *Table) diagnose(lines []string) (Cause, *rule) {
	ended := t.ending(lines)
	c, by := Cause{Kind: Fine}, (*rule)(nil)
	if ended.how != went {
		c, by = t.first(lines, ended)
	}
	if c.Line == 0 {
		c.Lines = slices.Clone(lines[max(0, len(lines)-2*around):])
	} else {
		c.Lines = slices.Clone(lines[max(0, c.Line-1-around):min(len(lines), c.Line+around)])
	}
	c.See = see(lines)
	return c, by
}

// first finds the first line of a failed run that a rule explains, or else the words with which
// the run ended.
func (t *Table) first(lines []string, ended ending) (Cause, *rule) {
	ends := make(ends, len(lines))
	if ended.how == failed {
		for i := ended.said; i <= ended.at; i++ {
			ends[i] = 1
		}
	}
	tried := make([]int, len(t.rules))
	var candidates []int32
	for i := ended.from; i < len(lines); i++ {
		candidates = t.scanner.line(lines[i], candidates[:0])
		for _, n := range candidates {
			if int(n) >= len(t.rules) {
				break
			}
			if tried[n]++; tried[n] > mostTries {
				continue
			}
			if c := t.rules[n].holds(lines, i, ends); c != nil {
				if c.Kind == Unknown { // it is a message that no rule knows
					c = saying(lines, i)
				}
				if c.Without == "" {
					c.Without = without(following(lines, i))
				}
				c.Asks = asksFor(strings.Join(strings.Fields(lines[i]+" "+following(lines, i)), " "))
				c.Also = t.others(c, lines, i, ends)
				return *c, &t.rules[n]
			}
		}
	}
	switch c, clean := ownWords(lines, ended), ended.how == cut && cleanEnd(lines); {
	case c != nil:
		c.Asks = asksFor(strings.Join(strings.Fields(lines[c.Line-1]+" "+following(lines, c.Line-1)), " "))
		return *c, nil
	case clean:
		return Cause{Kind: Fine}, nil
	}
	return Cause{Kind: Unknown}, nil
}

// mostTries limits the lines on which one rule is tried: no real log has as many lines that only
// look as if it applied.
const mostTries = 2000

// missing are the kinds of which a log can have several independent ones.
var missing = []Kind{MissingHeader, MissingLibrary, MissingModule, MissingPackage, MissingProgram, MissingPython,
	MissingPerl, MissingShared}

// others are further missing things of such kinds, in later lines.
func (t *Table) others(c *Cause, lines []string, at int, ends ends) []Cause {
	const most, far = 16, 20_000
	also := c.Also
	if !slices.Contains(missing, c.Kind) || c.Likely {
		return also
	}
	seen := map[string]bool{c.String(): true}
	for _, other := range also {
		seen[other.String()] = true
	}
	var candidates []int32
	for i := at + 1; i < min(len(lines), at+far) && len(also) < most; i++ {
		candidates = t.scanner.line(lines[i], candidates[:0])
		for _, n := range candidates {
			if int(n) >= len(t.rules) || !slices.Contains(missing, t.rules[n].Kind) {
				continue
			}
			o := t.rules[n].holds(lines, i, ends)
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

// Guess is the probable cause if neither a log nor those it refers to explain anything: a
// compiler that cannot make programs usually lacks the C library's development files.
func (c Cause) Guess(text string) Cause {
	const end = 16 << 10
	if (c.Kind == Unknown || c.Kind == Said) && cannotCompile.MatchString(text[max(0, len(text)-end):]) {
		c.Kind, c.Names, c.Likely = MissingHeader, []string{"stdio.h"}, true
	}
	return c
}

var cannotCompile = pattern.New(`(?m)configure: error: (?:the )?C compiler cannot create executables` +
	`|cannot compile a simple C program|The C compiler\s+"[^"]*"\s+is not able to compile a simple test program`)

// holds returns the cause that a rule finds in a line, or nil.
func (r *rule) holds(lines []string, at int, ends ends) *Cause {
	match := r.pattern.FindStringSubmatch(lines[at])
	if match == nil || !ends.within(soon, lines, at) {
		return nil
	}
	c := &Cause{Kind: r.Kind, Line: at + 1, Likely: r.Guess, says: r.Says, Helps: r.Helps}
	c.take(r.pattern.Compiled().SubexpNames(), match)
	if r.Names != nil {
		c.Names = slices.Clone(r.Names)
	}
	if r.step != nil && !r.step(c, lines, at) {
		return nil
	}
	return c
}

// take stores the matches of a pattern's named groups.
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

// final matches the last words of programs that give up.
var final = pattern.New(`\*\*\* |configure: (?:error|ERROR)|config.status: error|configure failed|FATAL ERROR` +
	`|^CMake Error|Configuring incomplete|ERROR: |ninja: (?:error|build stopped)|returned 1 exit status` +
	`|^compilation terminated|^Makefile:\d+: |^error: |^Traceback `)

// soon is the number of lines within which something gives up after its cause.
const soon = 25

// ends caches, for each line, whether something gives up there: 0 unknown, 1 yes, 2 no.
type ends []int8

// within reports whether something gives up within a number of lines, or the log ends: configure
// scripts and makefiles also look for optional things.
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

// elsewhere matches lines that refer to another log.
var elsewhere = pattern.New(`(?:See also "|A full log can be found at |[Ss]ee (?:the file )?['"` + "`" +
	`]?)(/[^\s"']+(?:\.log|\.yaml|\.txt))|(config\.log)`)

func see(lines []string) string {
	const far = 100
	for i := len(lines) - 1; i >= max(0, len(lines)-far); i-- {
		if match := elsewhere.FindStringSubmatch(lines[i]); match != nil {
			return match[1] + match[2]
		}
	}
	return ""
}
