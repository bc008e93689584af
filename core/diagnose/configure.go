package diagnose

import (
	"slices"
	"strings"
)

// configureRules know autoconf, automake, libtool, pkg-config, and configure
// scripts that were written by hand.
var configureRules = []rule{
	{kind: MissingProgram, has: "is missing on your system", pattern: re(`WARNING: ` + open + `(?P<name>[a-z][\w+]*?)(?:-[\d.]+)?` + close + ` is missing on your system`)},
	{kind: MissingProgram, has: "onfig", pattern: re(`The pkg-config script could not be found|^configure: error: .*pkg-config .*(?:not found|could not be found|is required|too old)`), more: is("pkg-config")},
	{kind: MissingProgram, has: "C++", pattern: re(`^configure: error: (?:.*C\+\+ compiler (?:not available|cannot create|not found)|.*no acceptable C\+\+ compiler|.*C\+\+ preprocessor "/lib/cpp" fails)`), more: is("c++")},
	{kind: MissingProgram, has: "no acceptable", pattern: re(`no acceptable C compiler found`), more: is("cc")},
	{kind: MissingProgram, has: "o ", pattern: re(`\b[Nn]o (?:acceptable|usable|suitable|working) (?P<name>m4|grep|sed|awk|ld|make|perl|yacc|bison|lex|flex)\b`)},
	{kind: MissingProgram, has: "is undefined", pattern: re(`Libtool library used but ` + open + `LIBTOOL`), more: is("libtoolize")},
	{kind: MissingMacro, has: "undefined macro", pattern: re(`possibly undefined macro: (?P<name>\w+)`), more: macro},
	{kind: MissingMacro, has: "syntax error near", pattern: re(`configure: line \d+: syntax error near unexpected token`), more: macroAfter},
	{kind: MissingMacro, has: "configure.", pattern: re(`configure\.(?:ac|in):\d+: warning: (?P<name>[A-Z]+_\w+) is m4_require'd but not m4_defun'd`), more: macro},
	{kind: MissingInSource, has: "auxiliary files", pattern: re(`cannot find required auxiliary files: (?P<name>[\w.-]+)`)},
	{kind: MissingInSource, has: "cannot find install-sh", pattern: re(`cannot find (?P<name>install-sh)`)},
	{kind: MissingInSource, has: "required file", pattern: re(`error: required file ` + open + `(?P<name>[^'"’\s]+)` + close + ` not found`)},
	{kind: TooOld, has: "or higher is required", pattern: re(`(?i)error: (?P<name>Autoconf|Automake|Libtool) version (?P<range>[\d.]+) or higher is required`), more: atLeast},
	{kind: TooOld, has: "Requested ", pattern: re(`Requested ` + open + `(?P<name>[\w.+-]+) (?P<range>[<>=!]+ *[\w.]+)` + close + ` but version of .* is (?P<found>[\w.]+)`)},
	{kind: TooOld, has: "Package dependency requirement", pattern: re(`Package dependency requirement ` + open + `(?P<name>[\w.+-]+) (?P<range>[<>=!]+ *[\w.]+)` + close + ` could not be satisfied`), more: versionBelow},
	{kind: MissingModule, has: "Package requirements", pattern: re(`error: Package requirements \(\s*(?P<name>[\w.+-]+)?(?: *(?P<range>[<>=!]+ *[\w.]+))?`), more: whichModule},
	{kind: CompilerTooOld, has: "anguage features", pattern: re(`[Aa] compiler with support for (?P<name>C\+*\d+) language features is required`)},
	{kind: WrongOption, has: "unrecognized option", pattern: re(`configure: error: unrecognized option: ` + open + `(?P<name>--?[\w=/.-]+)`)},
	{kind: WrongOption, has: "option", pattern: re(`^(?:\./configure|configure|ERROR): (?i:unknown|invalid|illegal|unrecognized) (?:option|argument):? ` + open + `(?P<name>--[\w=/.-]+)`)},
	{kind: Unknown, has: "error:", pattern: re(`^(?:checking .*\.\.\. ?)?(?:\./)?configure: error: *(?P<name>.*)`), more: said},
	{kind: Missing, has: "ou must have", pattern: re(`[Yy]ou must have (?:the )?` + open + `(?P<name>[\w.+-]+)` + close + ` (?:package )?installed`)},
	{kind: Unknown, has: "configure.", pattern: re(`^configure\.(?:ac|in):\d+: error: `), more: complained},
	{kind: Unknown, has: "ERROR", pattern: re(`^(?:FATAL |configure: )ERROR: (?P<name>.*)`), more: said},
	{kind: Unknown, has: "configure failed", pattern: re(`^(?:checking .*\.\.\. ?)?(?P<name>.*configure failed)`), more: said},
	{kind: MissingInSource, has: "cannot find input file", pattern: re(`config\.status: error: cannot find input file: ` + open + `(?P<name>[^'"’\s]+)`)},
	{kind: MissingProgram, has: "Minimum version is ", pattern: re(`^Minimum version is (?P<name>[a-z]+)-(?P<range>[\d.]+)`), more: func(c *Cause, lines []string, at int) bool {
		c.Without = without(following(lines, at))
		return atLeast(c, lines, at)
	}},
}

// macroPrograms come with the macros of autoconf that begin so.
var macroPrograms = []struct{ prefix, program string }{
	{"PKG_", "pkg-config"}, {"AC_PROG_LIBTOOL", "libtoolize"}, {"AC_LIBTOOL", "libtoolize"}, {"LT_", "libtoolize"}, {"AM_PROG_LIBTOOL", "libtoolize"},
	{"AM_GNU_GETTEXT", "autopoint"}, {"AM_ICONV", "autopoint"}, {"AM_NLS", "autopoint"}, {"GTK_DOC_", "gtkdocize"}, {"IT_PROG_INTLTOOL", "intltoolize"},
	{"AC_PROG_INTLTOOL", "intltoolize"}, {"GOBJECT_INTROSPECTION", "g-ir-scanner"}, {"AM_INIT_AUTOMAKE", "automake"}, {"AM_CONDITIONAL", "automake"},
}

// macro tells of the program that a macro comes with. Where autoconf does not know
// one of its own, another that it stands in is missing, and nothing says which.
func macro(c *Cause, lines []string, at int) bool {
	for _, m := range macroPrograms {
		if strings.HasPrefix(c.Name(), m.prefix) {
			c.Kind, c.Names = MissingProgram, []string{m.program}
			return true
		}
	}
	if !strings.HasPrefix(c.Name(), "AC_") && !strings.HasPrefix(c.Name(), "AS_") {
		return true
	}
	const soon = 8
	for i, line := range lines[at+1 : min(len(lines), at+1+soon)] {
		if match := undefined.FindStringSubmatch(line); match != nil {
			c.Names = []string{match[1]}
			return macro(c, lines, at+1+i)
		}
	}
	// All that autoconf has itself is called undefined where a macro around it is.
	c.Kind, c.Names, c.Likely = MissingProgram, []string{"pkg-config"}, true
	return true
}

var undefined = re(`possibly undefined macro: (\w+)`)

// anyMacro takes what shells say of a macro that was left in a configure script:
// it goes on, and what it did not find out is missing later.
func anyMacro(c *Cause, lines []string, at int) bool {
	return macro(c, lines, at) && c.Known() && slices.ContainsFunc([]string{"PKG_", "AX_", "AM_", "LT_", "IT_", "GTK_", "GOBJECT_", "AC_"}, func(p string) bool { return strings.HasPrefix(c.Name(), p) || c.Kind == MissingProgram })
}

var macroCall = re("`([A-Z]+_[A-Z0-9_]+)\\(")

// macroAfter finds the macro that a shell could not read, in the next line.
func macroAfter(c *Cause, lines []string, at int) bool {
	if at+1 >= len(lines) {
		return false
	}
	match := macroCall.FindStringSubmatch(lines[at+1])
	if match == nil {
		return false
	}
	c.Names = []string{match[1]}
	return macro(c, lines, at)
}

// atLeast takes a version as the least that will do.
func atLeast(c *Cause, lines []string, at int) bool {
	if c.Range != "" {
		c.Range = ">= " + c.Range
	}
	return asProgram(c, lines, at)
}

// asProgram calls build programs as their files are called.
func asProgram(c *Cause, _ []string, _ int) bool {
	for i, name := range c.Names {
		if slices.Contains([]string{"CMake", "Meson", "Autoconf", "Automake", "Libtool", "Perl", "Python"}, name) {
			c.Names[i] = strings.ToLower(name)
		}
	}
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
		if match := noPackage.FindStringSubmatch(line); match != nil {
			if match[1] != c.Name() {
				c.Names, c.Range = []string{match[1]}, ""
			}
			return true
		}
	}
	return len(c.Names) > 0
}

// said finds out what a configure script means with its last words: what it
// names there, of what it has looked for before; or else what the words say.
func said(c *Cause, lines []string, at int) bool {
	text := c.Name() + "\n" + following(lines, at)
	c.Names = nil
	if inDirectory.MatchString(lines[at]) { // the next line says what
		return false
	}
	if strings.Contains(text, "above") {
		text = above(lines, at)
	}
	return conclude(c, text, failedChecks(lines, at))
}

// inDirectory matches what newer configure scripts say before their last words.
var inDirectory = re("configure: error: in [`'‘].*:$")

// above are the lines before the last words that are marked to be seen, the
// first ones first.
func above(lines []string, at int) string {
	const far = 60
	var text []string
	for i := at - 1; i >= max(0, at-far); i-- {
		if !strings.HasPrefix(lines[i], "**") && lines[i] != "configure:" && lines[i] != "configure: " {
			break
		}
		text = append([]string{lines[i]}, text...)
	}
	return strings.Join(text, "\n")
}

// following are the lines in which a message goes on.
func following(lines []string, at int) string {
	const most = 7
	var text []string
	for _, line := range lines[at+1 : min(len(lines), at+1+most)] {
		if strings.HasPrefix(line, "See ") || strings.HasPrefix(line, "make") || strings.HasPrefix(line, "checking ") {
			break
		}
		text = append(text, strings.TrimPrefix(line, "configure: error: "))
	}
	return strings.Join(text, "\n")
}
