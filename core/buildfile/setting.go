package buildfile

import (
	"strings"

	"fernladder/core/pattern"
	"fernladder/core/recipe"
)

// A Setting is an argument with a free value: a path, a number, a text, or a list of words.
type Setting struct {
	Name    string // as options of recipes are called, or "" where it cannot be one
	Raw     string // as the source calls it
	About   string
	Group   string // its heading, or ""
	Form    recipe.Form
	Given   string // the argument, with $FL_VALUE for the value
	Between string // the separator of a list, unless a comma
	Matches string // a regular expression for each word of a list, or ""
	Usual   string // its default in the source, if clear
}

// value is how a value is written into an argument.
const value = "$FL_VALUE"

var (
	numberForm = pattern.New(`(?i)^\[?=?\[?[<({]?(N|NUM|NUMBER|NR|INT|INTEGER|COUNT|SIZE|BYTES|KB|MB|BITS|SECONDS|PORT` +
		`|num|n)[>)}]?\]?$`)
	listForm = pattern.New(`(?i)^\[?=?\[?[<({]?(LIST|NAMES|NAME,NAME\S*|\w+[,:]\w+\S*|LANGS|TARGETS|MODULES|DRIVERS` +
		`|PLUGINS|BACKENDS)[>)}]?\]?$`)
	pathNames = pattern.New(`(?i)(?:^|[-_])(?:dir|directory|path|file|prefix|root|socket|bundle|cachedir|pidfile` +
		`|logdir|conf|config-file)$|dir$|path$`)
	allDigits = pattern.New(`^[0-9]{1,9}$`)
	wordList  = pattern.New(`^[A-Za-z0-9._+-]+([;,][A-Za-z0-9._+-]+)+$`)
)

// newSetting makes a setting from an argument up to its value, and from the placeholder of the
// value.
func newSetting(argument, raw, stands, text string) Setting {
	s := Setting{Name: optionName(raw), Raw: raw, About: about(text, raw, false), Form: recipe.Line, Given: argument +
		"=" + value}
	switch {
	case numberForm.MatchString(stands):
		s.Form = recipe.Number
	case placed.MatchString(stands), pathNames.MatchString(raw) &&
		!strings.HasSuffix(strings.ToLower(raw), "libdir-suffix"):
		s.Form = recipe.Path
	case listForm.MatchString(stands):
		s.Form = recipe.Words
	}
	return s
}

// usual reads the default of the value.
func (s *Setting) usual(text string) {
	switch {
	case allDigits.MatchString(text) && s.Form == recipe.Line:
		s.Form = recipe.Number
	case strings.HasPrefix(text, "/") && s.Form == recipe.Line:
		s.Form = recipe.Path
	case wordList.MatchString(text) && strings.Contains(text, ";"):
		s.Form, s.Between = recipe.Words, ";"
		text = strings.ReplaceAll(text, ";", ",")
	}
	if !strings.ContainsAny(text, "$@{}()\"'\\\n") {
		s.Usual = text
	}
}
