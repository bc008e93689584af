package diagnose

import (
	"regexp"
	"slices"
	"strings"
)

func re(pattern string) *regexp.Regexp { return regexp.MustCompile(pattern) }

// quoted matches the quotes of all programs around a name.
const (
	open  = "['\"`‘“]?"
	close = "['\"’”`]?"
)

// rules are tried on each line in this order; the first line that one holds for
// is the cause.
var rules = []rule{
	// The machine.
	{kind: NoSpace, pattern: re(`No space left on device`)},
	{kind: NoMemory, pattern: re(`(?i)virtual memory exhausted|out of memory|Killed signal terminated program|Cannot allocate memory`)},

	// Programs.
	{kind: MissingProgram, pattern: re(`(?:line \d+: |sh: (?:\d+: )?|bash: )(?P<name>[\w./+-]+): (?:command )?not found`), more: program},
	{kind: MissingProgram, pattern: re(`^g?make(?:\[\d+\])?: (?P<name>[\w./+-]+): (?:No such file or directory|Command not found)`), more: program},
	{kind: MissingProgram, pattern: re(`/env: ` + open + `(?P<name>[\w.+-]+)` + close + `: No such file or directory`)},
	{kind: MissingProgram, pattern: re(`(?P<name>/[\w./+-]+): bad interpreter`)},
	{kind: MissingProgram, pattern: re(`WARNING: ` + open + `(?P<name>aclocal|automake|autoconf|autoheader|makeinfo|flex|bison|yacc|help2man)(?:-[\d.]+)?` + close + ` is missing on your system`)},
	{kind: MissingProgram, pattern: re(`ERROR: Program ` + open + `(?P<name>[\w.+/-]+)` + close + ` not found`)},
	{kind: MissingProgram, pattern: re(`ERROR: Unknown compiler\(s\): \[\['(?P<name>[\w.+-]+)'`)},
	{kind: MissingProgram, pattern: re(`The pkg-config script could not be found|pkg-config .*(?:not found|could not be found|is required)`), more: is("pkg-config")},
	{kind: MissingProgram, pattern: re(`(?i)^configure: error: (?:.*C\+\+ compiler (?:not available|cannot create|not found)|.*no acceptable C\+\+ compiler|.*C\+\+ preprocessor "/lib/cpp" fails)`), more: is("c++")},
	{kind: MissingProgram, pattern: re(`(?i)No CMAKE_CXX_COMPILER could be found`), more: is("c++")},
	{kind: MissingProgram, pattern: re(`(?i)no acceptable C compiler found|No CMAKE_C_COMPILER could be found`), more: is("cc")},
	{kind: MissingProgram, pattern: re(`possibly undefined macro: PKG_|Unexpanded (?:AC|AX|PKG)_.*PKG_`), more: is("pkg-config")},
	{kind: MissingProgram, pattern: re(`possibly undefined macro: (?:AC_PROG_LIBTOOL|LT_INIT|AM_PROG_LIBTOOL)|Libtool library used but ` + open + `LIBTOOL`), more: is("libtool")},

	// Modules, packages and dependencies.
	{kind: TooOld, pattern: re(`Requested ` + open + `(?P<name>[\w.+-]+) (?P<range>[<>=!]+ *[\w.]+)` + close + ` but version of .* is (?P<found>[\w.]+)`)},
	{kind: TooOld, pattern: re(`Package dependency requirement ` + open + `(?P<name>[\w.+-]+) (?P<range>[<>=!]+ *[\w.]+)` + close + ` could not be satisfied`), more: versionBelow},
	{kind: TooOld, pattern: re(`Dependency (?P<name>[\w.+-]+) found: NO\.? [Ff]ound (?P<found>[\w.]+),? but need: ` + open + `(?P<range>[<>=!]+ *[\w.]+)`)},
	{kind: TooOld, pattern: re(`Invalid version of dependency, need ` + open + `(?P<name>[\w.+-]+)` + close + ` \[` + open + `(?P<range>[<>=!]+ *[\w.]+).* found ` + open + `(?P<found>[\w.]+)`)},
	{kind: TooOld, pattern: re(`Could NOT find (?P<name>\w+): Found unsuitable version "(?P<found>[\w.]+)", but required is (?:at least|exact version) "(?P<range>[\w.]+)"`), more: required},
	{kind: TooOld, pattern: re(`(?P<name>CMake) (?P<range>[\d.]+) or higher is required\.\s+You are running version (?P<found>[\w.]+)`), more: required},
	{kind: TooOld, pattern: re(`(?P<name>Meson) version is (?P<found>[\w.]+),? but project requires (?P<range>[<>=!]+ *[\w.]+)`), more: lower},
	{kind: TooOld, pattern: re(`(?i)error: (?P<name>Autoconf|Automake) version (?P<range>[\d.]+) or higher is required`), more: required},
	{kind: MissingModule, pattern: re(`Package requirements \((?P<name>[\w.+-]+)(?: (?P<range>[<>=!]+ *[\w.]+))?.*\) were not met`), more: whichModule},
	{kind: MissingModule, pattern: re(`^(?:CMake Error|  ?A required package was not found| *None of the required)`), more: moduleBefore},
	{kind: MissingModule, pattern: re(`ERROR: Dependency ` + open + `(?P<name>[\w.+-]+)` + close + ` (?:not found|is required but not found)`)},
	{kind: MissingModule, pattern: re(`ERROR: .*[Dd]ependency ` + open + `(?P<name>[\w.+-]+)` + close + ` not found`)},
	{kind: MissingPackage, pattern: re(`^ +Could NOT find (?P<name>\w+)(?: \(missing:|$| )`)},
	{kind: MissingPackage, pattern: re(`Could not find a package configuration file provided by "(?P<name>\w+)"`)},
	{kind: MissingLibrary, pattern: re(`ERROR: (?:C|C\+\+) shared or static library ` + open + `(?P<name>[\w.+-]+)` + close + ` not found`)},

	// Headers and libraries.
	{kind: MissingHeader, pattern: re(`^(?P<place>[^\s:]+:\d+):(?:\d+:)? fatal error: (?P<name>[\w./+-]+): No such file or directory`), more: header},
	{kind: MissingHeader, pattern: re(`^(?P<place>[^\s:]+:\d+):(?:\d+:)? fatal error: '(?P<name>[\w./+-]+)' file not found`), more: header},
	{kind: MissingHeader, pattern: re(`ERROR: (?:C|C\+\+) header ` + open + `(?P<name>[\w./+-]+)` + close + ` not found`)},
	{kind: MissingLibrary, pattern: re(`(?:ld|ld\.\w+|lld|gold|mold)(?:: error)?: (?:cannot find|unable to find library|library not found:) -l:?(?P<name>[\w.+-]+)`)},

	// Script languages.
	{kind: MissingPython, pattern: re(`(?:ModuleNotFoundError|ImportError): No module named ` + open + `(?P<name>[\w.]+)`)},
	{kind: MissingPerl, pattern: re(`Can't locate (?P<name>[\w/]+)\.pm in @INC`), more: perlName},

	// The network, and what is not allowed.
	{kind: Network, pattern: re(`(?i)(?:could not|unable to|can't) resolve (?:host(?:name)?|proxy)?(?: address)?:? *` + open + `(?P<name>[\w.-]+\.[\w-]+)`)},
	{kind: Network, pattern: re(`Temporary failure in name resolution|Name or service not known|Network is unreachable`)},
	{kind: Permission, pattern: re(`(?:cannot [\w ]+ |can't [\w ]+ |^|: )` + open + `(?P<name>/[^\s:'"’]+)` + close + `: (?:Permission denied|Read-only file system)`)},

	// Options.
	{kind: WrongOption, pattern: re(`configure: error: unrecognized option: ` + open + `(?P<name>--?[\w=/.-]+)`)},
	{kind: WrongOption, pattern: re(`ERROR: Unknown options?: "(?P<name>[^"]+)"`)},
	{kind: WrongOption, pattern: re(`error: unrecognized (?:command[- ]line )?option ` + open + `(?P<name>-[^'"’”\s]+)`)},
	{kind: WrongOption, pattern: re(`error: unknown argument:? ` + open + `(?P<name>-[^'"’”\s]+)`)},

	// The linker and the compiler.
	{kind: Undefined, pattern: re(`undefined reference to ` + open + `(?P<name>[^'"’]+)`)},
	{kind: Undefined, pattern: re(`undefined symbol: (?P<name>[\w:~<>]+)`)},
	{kind: CompilerTooNew, pattern: re(`^(?P<place>[^\s:]+:\d+):(?:\d+:)? error: (?:implicit declaration of function|ISO C\+\+\d+ does not allow|passing argument .* from incompatible pointer type|.* from incompatible pointer type.*Wincompatible-pointer-types|return type defaults to|type defaults to)`)},
	{kind: CompilerTooNew, pattern: re(`multiple definition of .*; .*first defined here`)},
	{kind: CompileError, pattern: re(`^(?P<place>[^\s:]+:\d+):(?:\d+:)? (?:fatal )?error: `)},
	{kind: CompileError, pattern: re(`^(?P<place>[^\s:]+:\d+):\d+: Error: `)}, // the assembler

	// What configure scripts say last, when nothing above has told more.
	{kind: Unknown, pattern: re(`^configure: error: (?P<name>.*)`), more: lastChecks},

	{kind: MissingInSource, pattern: re(`No rule to make target ` + open + `(?P<name>[^'"’]+)` + close + `, needed by`)},
	{kind: TestFailed, pattern: re(`^# FAIL: +[1-9]|^# ERROR: +[1-9]|[1-9]\d* tests? failed out of|^Fail: +[1-9]`)},
}

// is names the program that a line is about.
func is(name string) func(*Cause, []string, int) bool {
	return func(c *Cause, _ []string, _ int) bool {
		c.Names = []string{name}
		return true
	}
}

// program leaves out what is a part of the source: ./configure is not a program
// of the machine.
func program(c *Cause, _ []string, _ int) bool {
	if strings.HasPrefix(c.Name(), "./") || strings.HasPrefix(c.Name(), "../") {
		c.Kind = MissingInSource
	}
	return !strings.HasSuffix(c.Name(), ".c") && !strings.HasSuffix(c.Name(), ".o")
}

// header says when a header would be one of the source's own.
func header(c *Cause, _ []string, _ int) bool {
	switch ext := c.Name()[strings.LastIndex(c.Name(), ".")+1:]; ext {
	case "c", "cc", "cpp", "o":
		c.Kind = MissingInSource
	}
	return true
}

func required(c *Cause, lines []string, at int) bool {
	c.Range = ">= " + c.Range
	return lower(c, lines, at)
}

// lower calls build programs as their files are called.
func lower(c *Cause, _ []string, _ int) bool {
	for i, name := range c.Names {
		if slices.Contains([]string{"CMake", "Meson", "Autoconf", "Automake"}, name) {
			c.Names[i] = strings.ToLower(name)
		}
	}
	return true
}

func perlName(c *Cause, _ []string, _ int) bool {
	c.Names[0] = strings.ReplaceAll(c.Names[0], "/", "::")
	return true
}

var versionIs = re(`Package '(?P<name>[\w.+-]+)' has version '(?P<found>[\w.]+)'`)

// versionBelow finds the version that is there in one of the next lines.
func versionBelow(c *Cause, lines []string, at int) bool {
	for _, line := range lines[at:min(len(lines), at+4)] {
		if match := versionIs.FindStringSubmatch(line); match != nil {
			c.Found = match[2]
		}
	}
	return true
}

var (
	noPackage  = re(`(?:No package '|Package '|Package )(?P<name>[\w.+-]+)'?(?:, required by '[^']*',)? (?:found|not found|was not found)`)
	tooOldHere = re(`Requested '(?P<name>[\w.+-]+) (?P<range>[<>=!]+ *[\w.]+)' but version of .* is (?P<found>[\w.]+)|Package dependency requirement '(?P<name2>[\w.+-]+) (?P<range2>[<>=!]+ *[\w.]+)' could not`)
)

// whichModule finds out which of the modules that were required is the one that
// is not there, or is too old.
func whichModule(c *Cause, lines []string, at int) bool {
	for i, line := range lines[at+1 : min(len(lines), at+8)] {
		if match := tooOldHere.FindStringSubmatch(line); match != nil {
			c.Kind = TooOld
			c.Names, c.Range, c.Found = []string{match[1] + match[4]}, match[2]+match[5], match[3]
			versionBelow(c, lines, at+1+i)
			return true
		}
		if match := noPackage.FindStringSubmatch(line); match != nil && match[1] != c.Name() {
			c.Names, c.Range = []string{match[1]}, ""
			return true
		} else if match != nil {
			return true
		}
	}
	return true
}

// moduleBefore finds the module that CMake's pkg_check_modules did not find,
// which stands before the error.
func moduleBefore(c *Cause, lines []string, at int) bool {
	if !strings.Contains(strings.Join(lines[at:min(len(lines), at+3)], "\n"), "required package") {
		return false
	}
	for i := at - 1; i >= max(0, at-8); i-- {
		if match := noPackage.FindStringSubmatch(lines[i]); match != nil {
			c.Names = []string{match[1]}
			return true
		}
	}
	return false
}

// What configure scripts answer with no, by what they look for.
var answers = []struct {
	kind    Kind
	pattern *regexp.Regexp
}{
	{MissingLibrary, re(`^checking for [\w:~()]+ in -l([\w.+-]+)\.\.\. no$`)},
	{MissingHeader, re(`^checking for ([\w./+-]+\.h(?:pp|h)?)(?: usability| presence)?\.\.\. no$`)},
	{MissingModule, re(`^checking for ([\w.+-]+) [<>=]+ *[\w.]+\.\.\. no$`)},
	{MissingProgram, re(`^checking for (?:a |the )?([\w.+-]+)(?: program)?\.\.\. no$`)},
}

// lastChecks finds out what a configure script missed: what it answered with no
// just before it gave up. Of several programs, any one would have done.
func lastChecks(c *Cause, lines []string, at int) bool {
	said := c.Name()
	c.Names = nil
	for i := at - 1; i >= max(0, at-6); i-- {
		found := false
		for _, a := range answers {
			match := a.pattern.FindStringSubmatch(lines[i])
			if match == nil {
				continue
			}
			if c.Kind != Unknown && c.Kind != a.kind {
				return true
			}
			if a.kind == MissingProgram && !likely(match[1], said, lines[at:min(len(lines), at+4)]) && c.Kind == Unknown {
				break
			}
			found = true
			c.Kind = a.kind
			if !slices.Contains(c.Names, match[1]) {
				c.Names = append([]string{match[1]}, c.Names...)
			}
			break
		}
		if !found && strings.HasPrefix(lines[i], "checking ") {
			break
		}
	}
	return true
}

// likely tells whether what a configure script says in the end is about a
// program: a function that is not there is looked for in the same words.
func likely(name, said string, more []string) bool {
	text := strings.ToLower(said + " " + strings.Join(more, " "))
	return strings.Contains(text, strings.ToLower(name))
}
