package diagnose

import (
	"slices"
	"strings"
)

// macroPrograms have the macros of autoconf that begin like this.
var macroPrograms = []struct{ prefix, program string }{
	{"PKG_", "pkg-config"}, {"AC_PROG_LIBTOOL", "libtoolize"}, {"AC_LIBTOOL", "libtoolize"}, {"LT_", "libtoolize"},
	{"AM_PROG_LIBTOOL", "libtoolize"},
	{"AM_GNU_GETTEXT", "autopoint"}, {"AM_ICONV", "autopoint"}, {"AM_NLS", "autopoint"}, {"GTK_DOC_", "gtkdocize"},
	{"IT_PROG_INTLTOOL", "intltoolize"},
	{"AC_PROG_INTLTOOL", "intltoolize"}, {"GOBJECT_INTROSPECTION", "g-ir-scanner"}, {"AM_INIT_AUTOMAKE", "automake"},
	{"AM_CONDITIONAL", "automake"},
}

// macro reports the program that has a macro. If autoconf does not know one of its own, another
// one around it is missing, and nothing says which.
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
	// Autoconf's own macros are all reported as undefined inside an unknown one.
	c.Kind, c.Names, c.Likely = MissingProgram, []string{"pkg-config"}, true
	return true
}

var undefined = re(`possibly undefined macro: (\w+)`)

// anyMacro reads shell errors about a macro that was left in a configure script: the script goes
// on, and what it did not find out is missing later.
func anyMacro(c *Cause, lines []string, at int) bool {
	return macro(c, lines, at) && c.Known() &&
		slices.ContainsFunc([]string{"PKG_", "AX_", "AM_", "LT_", "IT_", "GTK_", "GOBJECT_", "AC_"}, func(p string) bool {
			return strings.HasPrefix(c.Name(), p) || c.Kind == MissingProgram
		})
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
	noPackage = re(`(?:No package '|Package '|Package )(?P<name>[\w.+-]+)'?(?:, required by '[^']*',)? (?:found` +
		`|not found|was not found)`)
	tooOldHere = re(`Requested '(?P<name>[\w.+-]+) (?P<range>[<>=!]+ *[\w.]+)' but version of .* is (?P<found>[\w.]+)` +
		`|Package dependency requirement '(?P<name2>[\w.+-]+) (?P<range2>[<>=!]+ *[\w.]+)' could not`)
)

// whichModule finds out which of the modules that were required are the ones that
// are not there, or are too old.
func whichModule(c *Cause, lines []string, at int) bool {
	const far = 12
	named := c.Name()
	found := 0
	for i, line := range lines[at+1 : min(len(lines), at+far)] {
		if match := tooOldHere.FindStringSubmatch(line); match != nil {
			c.Kind = TooOld
			c.Names, c.Range, c.Found = []string{match[1] + match[4]}, match[2]+match[5], match[3]
			versionBelow(c, lines, at+1+i)
			return true
		}
		if match := moduleFlags.FindStringSubmatch(line); match != nil {
			c.Flags = match[1]
		}
		match := noPackage.FindStringSubmatch(line)
		switch {
		case match == nil:
		case found == 0:
			if found++; match[1] != named {
				c.Names, c.Range = []string{match[1]}, ""
			}
		case match[1] != c.Name():
			c.Also = append(c.Also, Cause{Kind: MissingModule, Names: []string{match[1]}, Line: at + 2 + i})
		}
	}
	return len(c.Names) > 0
}

// moduleFlags matches how scripts name the variables that stand in for a module.
var moduleFlags = re(`you may set the environment variables (\w+)_CFLAGS$`)

// said finds out what a configure script means with its last words: what it
// names there, of what it has looked for before; or else what the words say.
func said(c *Cause, lines []string, at int) bool {
	text := c.Name() + "\n" + following(lines, at)
	c.Names = nil
	if inDirectory.MatchString(lines[at]) { // the next line says what is missing
		return false
	}
	if strings.Contains(text, "above") {
		text = above(lines, at)
	}
	return conclude(c, text, failedChecks(lines, at))
}

// inDirectory matches what newer configure scripts say before their last words.
var inDirectory = re("configure: error: in [`'‘].*:$")

// above are the lines before the last highlighted words, the first ones first.
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

// following are the lines that continue a message.
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

// minimum reads the required version of a program, and how to do without it.
func minimum(c *Cause, lines []string, at int) bool {
	c.Without = without(following(lines, at))
	return atLeast(c, lines, at)
}
