package diagnose

import (
	"strings"

	"fernladder/core/pattern"
)

// A check is something that a configure script looked for and did not find. If it only states a
// name, that can be anything.
type check struct {
	kind   Kind
	name   string
	rang   string
	warned bool // it was reported missing
	last   bool // it is the very last thing before the message
}

// certain reports whether the kind of the thing is known.
func (f check) certain() bool {
	return f.kind == MissingHeader || f.kind == MissingLibrary || f.kind == MissingModule || f.kind == MissingPerl
}

// checks are how configure scripts look for things.
var checks = []struct {
	kind    Kind
	pattern *pattern.Pattern
}{
	{MissingLibrary, re(`^checking for [\w:~()*, ]+ in (?:-L\S+ )*-l(?P<name>[\w.+-]+)`)},
	{MissingHeader, re(`^checking (?:for )?(?P<name>[\w./+-]+\.h(?:pp|h)?)(?: usability| presence)?$`)},
	{MissingModule, re(`^checking for (?P<name>[\w.+-]+) (?P<range>[<>=]+ *[\w.]+)`)},
	{MissingPerl, re(`^checking for (?:perl )?(?:module )?(?P<name>\w+(?:::\w+)+)`)},
	{functionCheck, re(`^checking for library containing (?P<name>\w+)$`)},
	{Missing,
		re(`^checking (?:for |whether )?(?:a |the )?(?P<name>[\w.+-]+)(?: program| libraries| library| directory` +
			`| headers?| support| \.\.\.)*(?: in \S+)?$`)},
}

// functionCheck is the kind of a check for a function, in any library.
const functionCheck Kind = "function"

var answered = re(`^(checking .*?) ?\.\.\. ?(.*)$`)

// lookedFor returns what a line reports as looked for and not found. isAnswer is false if the
// line is not the answer of a look-up; found is true if the thing was found.
func lookedFor(line string) (c check, isAnswer, found bool) {
	match := answered.FindStringSubmatch(line)
	if match == nil {
		return c, false, false
	}
	switch answer := match[2]; {
	case answer == "no", answer == "", strings.HasPrefix(answer, "not found"), strings.HasPrefix(answer, "no "),
		strings.Contains(answer, "configure: error"), strings.Contains(answer, "configure failed"):
	default:
		return c, true, true
	}
	for _, known := range checks {
		if m := known.pattern.FindStringSubmatch(match[1]); m != nil {
			c = check{kind: known.kind, name: m[1]}
			if len(m) > 2 {
				c.rang = m[2]
			}
			return c, true, false
		}
	}
	return c, true, false
}

var warned = re(`^configure: WARNING: (?:(?i:could not|cannot|unable to) find ([\w.+-]+)|([\w.+-]+) (?:is ` +
	`|was )?not found)`)

// failedChecks are those just before a line, the last one first, and that of the line itself.
func failedChecks(lines []string, at int) []check {
	const far = 12
	var failed []check
	for i := at; i >= max(0, at-far); i-- {
		if match := warned.FindStringSubmatch(lines[i]); match != nil {
			failed = append(failed, check{kind: Missing, name: match[1] + match[2], warned: true})
			continue
		}
		c, isAnswer, found := lookedFor(lines[i])
		if found {
			break
		}
		if isAnswer && c.name != "" {
			c.last = i >= at-1
			failed = append(failed, c)
		}
	}
	return failed
}

// apartVersion is a version at the end of a name, as in leaf-2.0.
var apartVersion = re(`-[\d.]+$`)

// plain is a name in the form for comparisons: without lib, -l, -config, a separate version, and
// capitals.
func plain(name string) string {
	name = strings.ToLower(strings.TrimRight(name, ".,:-+"))
	name = strings.TrimSuffix(apartVersion.ReplaceAllString(name, ""), "-config")
	return strings.TrimPrefix(strings.TrimPrefix(name, "-l"), "lib")
}

// plain is the name of what was looked for, in the form for comparisons.
func (f check) plain() string {
	if f.kind == MissingLibrary && f.name == "z" {
		return "zlib" // as everyone calls it
	}
	return plain(f.name)
}

// family is what a header is named after: its directory, or its own name.
func (f check) family() string {
	dir, _, _ := strings.Cut(f.name, "/")
	return plain(strings.TrimSuffix(dir, ".h"))
}

// unnumbered is the name without a version at its end.
func (f check) unnumbered() string { return strings.TrimRight(f.plain(), "0123456789.-") }

// stem is the name of a header without its directory.
func (f check) stem() string {
	if f.kind != MissingHeader {
		return plain(f.name)
	}
	return plain(strings.TrimSuffix(f.name[strings.LastIndexByte(f.name, '/')+1:], ".h"))
}

// kindIn guesses the kind of a bare name from the words around it. Configure scripts mostly look
// for programs.
func (f check) kindIn(text string) Kind {
	switch {
	case f.kind == functionCheck:
		return Unknown
	case f.kind != Missing:
		return f.kind
	case strings.HasSuffix(f.name, "-config"):
		return MissingProgram
	case strings.HasPrefix(f.name, "lib"), strings.ToLower(f.name) != f.name,
		ofLibraries.MatchString(text): // as programs are not called
		return Missing
	}
	return MissingProgram
}

// ofLibraries matches messages that are about libraries.
var ofLibraries = re(`(?i)librar|header|support|-dev\b|-devel\b`)
