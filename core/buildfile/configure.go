package buildfile

import (
	"slices"
	"strings"

	"fernladder/core/pattern"
)

// A line of a configure script's help that names an option, and lines that go on with
// its explanation. Scripts written by hand print them with echo or printf.
var (
	helpOption = pattern.New(`^(?:[ \t]*(?:echo|printf|print)\s+["']|["'])?[ \t]{0,8}--(enable|disable|with|without)-([a-zA-Z0-9_+.-]+)(\[?=[^\s"'\\]+)?(?:(?:[ \t.:-]|\\t)+(\S.*?))?(?:\\n)?["']?;?$`)
	helpMore   = pattern.New(`^ {10,}(\S.*)$`)
)

// libraryPrefix matches what generated scripts call the place of a library that they
// look for, and take if it is there.
var libraryPrefix = pattern.New(`^(lib[a-z0-9]\w*)-prefix$`)

// usual are switches of the build tools themselves, which every generated script has,
// and the words that its help uses as examples.
var usual = strings.Fields(`FEATURE PACKAGE option-checking silent-rules dependency-tracking maintainer-mode fast-install shared
	libtool-lock pic aix-soname gnu-ld sysroot rpath largefile libiconv-prefix libintl-prefix gnu-ld year2038 cross-guesses python_prefix python_exec_prefix python-sys-prefix python-prefix python-exec-prefix threads-posix multilib`)

// ConfigureHelp reads the help of a configure script, generated or written by hand.
func ConfigureHelp(script string) *Reading {
	r := &Reading{}
	var text *string // of the last option, if its explanation can go on
	var ends []func()
	for line := range strings.Lines(script) {
		line = strings.TrimRight(line, "\r\n")
		m := helpOption.FindStringSubmatch(line)
		if m == nil {
			if more := helpMore.FindStringSubmatch(line); text != nil && more != nil {
				*text = strings.TrimSpace(*text + " " + more[1])
			} else {
				text = nil
			}
			continue
		}
		how, name, value, says := m[1], m[2], m[3], m[4]
		text = &says
		if slices.Contains(usual, name) {
			continue
		}
		if m := libraryPrefix.FindStringSubmatch(name); m != nil && (how == "with" || how == "without") {
			library := strings.TrimPrefix(m[1], "lib")
			if optionName(m[1]) != "" && !slices.ContainsFunc(r.Switches, func(s Switch) bool { return s.Raw == name }) {
				r.Switches = append(r.Switches, Switch{Name: optionName(m[1]), Raw: name, About: "Use " + m[1] + ", which the build takes if it is there", Default: Auto,
					On: []string{"--with-" + name + "="}, Off: []string{"--without-" + name}, Place: true})
				r.Lookups = append(r.Lookups, Lookup{Kind: "library", Names: []string{library}, Switch: optionName(m[1]), From: "configure"})
			}
			continue
		}
		ends = append(ends, func() {
			s, ok := newSwitch(how, name, value, says)
			switch {
			case !ok:
				r.Settings = append(r.Settings, Setting{"--" + how + "-" + name + value, about(says, name)})
			case s.Name != "":
				r.Switches = append(r.Switches, s)
			}
		})
	}
	for _, end := range ends {
		end()
	}
	r.Switches = distinct(r.Switches)
	return r
}

// Merge takes from another reading the switches that only it has, and of those that both
// have what only it knows.
func (r *Reading) Merge(o *Reading) {
	for _, s := range o.Switches {
		i := slices.IndexFunc(r.Switches, func(have Switch) bool { return have.Name == s.Name })
		if i < 0 {
			r.Switches = append(r.Switches, s)
			continue
		}
		have := &r.Switches[i]
		have.vars = append(have.vars, s.vars...)
		if have.Values == nil && s.Values == nil && s.Default != have.Default {
			have.Default = s.Default
		}
	}
	for _, s := range o.Settings {
		if !slices.ContainsFunc(r.Settings, func(have Setting) bool { return have.Argument == s.Argument }) && !slices.ContainsFunc(r.Switches, func(have Switch) bool { return strings.Contains(s.Argument, "-"+have.Raw) }) {
			r.Settings = append(r.Settings, s)
		}
	}
	r.Lookups = append(r.Lookups, o.Lookups...)
	r.join()
	r.CXX, r.Modules = r.CXX || o.CXX, r.Modules || o.Modules
	r.Switches = distinct(r.Switches)
}

var (
	// listedValues finds the values that the help of an option lists:
	// --enable-x=no/auto/yes, --with-x=(a|b|c), --with-x={a,b}.
	listedValues = pattern.New(`^\[?=[({\[<]?([a-z0-9][\w.+-]*(?:[|/,][a-z0-9][\w.+-]*)+)[)}\]>]*\]?$`)
	saysOn       = pattern.New(`(?i)[\[(](default(s to|[=:]| is)?\s*)?(yes|on|enabled|true)[\])]|default(s to|[=:]| is)?\s*(yes|on|enabled|true)\b|enabled by default|on by default`)
	saysOff      = pattern.New(`(?i)[\[(](default(s to|[=:]| is)?\s*)?(no|off|disabled|false)[\])]|default(s to|[=:]| is)?\s*(no|off|disabled|false)\b|disabled by default|off by default`)
	saysAuto     = pattern.New(`(?i)default(s to|[=:]| is)?\s*\[?(auto|check|maybe|detect|if (\w+ ){0,2}(found|available|present|supported|installed))|[\[(](auto|check|autodetect(ed)?|auto-detect|if (found|available))[\])]|auto-?detected by default|default[=:]? ?(try|use|enabled?) if|\(if available\)|(if|when) (\w+ ){0,2}(available|present|found|supported|possible|installed)\b`)
)

// newSwitch makes a switch of --HOW-NAME as a help text has it. It is false for one that
// takes a path or a number, which has nothing to choose from.
func newSwitch(how, name, value, text string) (Switch, bool) {
	s := Switch{Name: optionName(name), Raw: name, About: about(text, name), Purpose: purposeOf(name)}
	yes, no := "--enable-"+name, "--disable-"+name
	if how == "with" || how == "without" {
		yes, no = "--with-"+name, "--without-"+name
	}
	s.On, s.Off = []string{yes}, []string{no}
	if m := listedValues.FindStringSubmatch(value); m != nil {
		values := strings.FieldsFunc(m[1], func(c rune) bool { return strings.ContainsRune("|/,", c) })
		if !slices.ContainsFunc(values, func(v string) bool { _, plain := states[v]; return !plain }) {
			s.Default = Auto // yes, no and auto are no values, and none of them is said to be the default
			if how == "disable" || how == "without" {
				s.Default = On
			}
			s.says(text)
			return s, true
		}
		s.On, s.Off, s.Values, s.Order = nil, nil, map[string][]string{}, values
		for _, v := range values {
			s.Values[v] = []string{yes + "=" + v}
		}
		return s, true
	}
	if strings.HasPrefix(value, "=") || strings.HasSuffix(name, "-prefix") || strings.HasSuffix(name, "-dir") || strings.HasSuffix(name, "dir") && how == "with" {
		return s, false
	}
	s.Default = On
	if how == "enable" || how == "with" {
		s.Default = Off
	}
	s.says(text)
	return s, true
}

// says takes what the text says of the default.
func (s *Switch) says(text string) {
	switch {
	case saysAuto.MatchString(text):
		s.Default = Auto
	case saysOn.MatchString(text):
		s.Default = On
	case saysOff.MatchString(text):
		s.Default = Off
	}
}
