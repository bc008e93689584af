package draft

import (
	"slices"
	"strings"

	"fernladder/core/pattern"
)

// options finds what can be chosen before the build. Only what differs from the
// default becomes an argument, so that a build with all defaults is the one the
// source's makers have in mind.
func (t *tree) options(s *Source) {
	switch s.Method.From {
	case "configure":
		s.Options, s.Settings = configureOptions(t.text("configure"))
	case "configure.ac", "configure.in":
		s.Options, s.Settings = acOptions(uncommented(t.text(s.Method.From)))
	case "CMakeLists.txt":
		s.Options, s.Settings = cmakeOptions(t.text("CMakeLists.txt"))
	case "meson.build":
		s.Options, s.Settings = mesonOptions(t.text(t.first("meson.options", "meson_options.txt")))
	}
	slices.SortFunc(s.Options, func(a, b Option) int { return strings.Compare(a.Name, b.Name) })
	s.Options = slices.CompactFunc(s.Options, func(a, b Option) bool { return a.Name == b.Name })
}

// A line of a configure script's help that names an option, and lines that go
// on with its explanation.
var (
	helpOption = pattern.New(`^  --(enable|disable|with|without)-([a-zA-Z0-9_+.-]+)(\[?=\S+)?(?:\s+(\S.*))?$`)
	helpMore   = pattern.New(`^ {10,}(\S.*)$`)
)

// usual are switches of the build tools themselves, which every generated
// script has, and the words that its help uses as examples.
var usual = []string{"FEATURE", "PACKAGE", "option-checking", "silent-rules", "dependency-tracking", "maintainer-mode", "fast-install",
	"libtool-lock", "pic", "aix-soname", "gnu-ld", "sysroot", "rpath", "largefile", "libiconv-prefix", "libintl-prefix", "gnu-ld"}

func configureOptions(script string) ([]Option, []Setting) {
	var options []Option
	var settings []Setting
	var about *string // of the last option, if its explanation can go on
	for line := range strings.Lines(script) {
		line = strings.TrimRight(line, "\n")
		m := helpOption.FindStringSubmatch(line)
		if m == nil {
			if more := helpMore.FindStringSubmatch(line); about != nil && more != nil {
				*about = strings.TrimSpace(*about + " " + more[1])
			} else {
				about = nil
			}
			continue
		}
		how, name, value := m[1], m[2], m[3]
		if slices.Contains(usual, name) {
			about = nil
			continue
		}
		if o, ok := newOption(how, name, value, m[4]); ok {
			options = append(options, o)
			about = &options[len(options)-1].About
		} else {
			settings = append(settings, Setting{"--" + how + "-" + name + value, m[4]})
			about = &settings[len(settings)-1].About
		}
	}
	return settled(options), settings
}

// settled gives options their defaults and drops those that have no name.
func settled(options []Option) []Option {
	for i := range options {
		options[i].settle()
	}
	return slices.DeleteFunc(options, func(o Option) bool { return o.Name == "" })
}

// listedValues finds the values that the help of an option lists:
// --enable-x=no/auto/yes, --with-x=(a|b|c), --with-x={a,b}.
var listedValues = pattern.New(`^\[?=[({\[]?([a-z0-9][\w.+-]*(?:[|/,][a-z0-9][\w.+-]*)+)[)}\]]*\]?$`)

// newOption makes an option of --HOW-NAME as a help text has it. It is false for
// one that takes a path or a number, which has no values to choose from.
func newOption(how, name, value, about string) (Option, bool) {
	o := Option{Name: optionName(name), About: about}
	if m := listedValues.FindStringSubmatch(value); m != nil {
		o.Order = strings.FieldsFunc(m[1], func(c rune) bool { return strings.ContainsRune("|/,", c) })
		o.Order = append([]string{"unset"}, o.Order...)
		o.Default, o.Values = "unset", map[string][]string{}
		for _, v := range o.Order[1:] {
			o.Values[v] = []string{"--" + how + "-" + name + "=" + v}
		}
		return o, true
	}
	if strings.HasPrefix(value, "=") {
		return o, false
	}
	switch how {
	case "enable", "with":
		o.Default, o.On = "off", []string{"--" + how + "-" + name}
		o.Off = []string{"--" + map[string]string{"enable": "disable", "with": "without"}[how] + "-" + name}
	case "disable":
		o.Default, o.Off = "on", []string{"--disable-" + name}
	case "without":
		o.Default, o.Off = "on", []string{"--without-" + name}
	}
	return o, true
}

var (
	acArgument = pattern.New(`AC_ARG_(ENABLE|WITH)\(\s*\[?([\w+.-]+)\]?\s*,\s*`)
	acHelp     = pattern.New(`(?s)^\[?\s*(?:AS_HELP_STRING|AC_HELP_STRING)\(\s*\[+--(enable|disable|with|without)-[\w+.@-]+?(\[?=[^\]\s,)]+\]?)?\]+\s*,\s*\[?([^\]]*)`)
)

// acOptions finds the options in the source of a configure script that is still
// to be made.
func acOptions(text string) ([]Option, []Setting) {
	var options []Option
	var settings []Setting
	const longest = 600 // of an option's help
	for _, at := range acArgument.Compiled().FindAllStringSubmatchIndex(text, -1) {
		how, name := strings.ToLower(text[at[2]:at[3]]), text[at[4]:at[5]]
		value, about := "", ""
		if help := acHelp.FindStringSubmatch(text[at[1]:min(at[1]+longest, len(text))]); help != nil {
			how, value, about = help[1], help[2], strings.Join(strings.Fields(help[3]), " ")
		}
		if o, ok := newOption(how, name, value, about); ok {
			options = append(options, o)
		} else {
			settings = append(settings, Setting{"--" + how + "-" + name + value, about})
		}
	}
	return settled(options), settings
}

// helpDefault finds in the help of an option that it is on unless it is turned
// off, which the name of the switch does not always tell.
var helpDefault = pattern.New(`(?i)[\[(](default(s to|[=:]| is)?\s*)?(yes|on|enabled|true)[\])]|default(s to|[=:]| is)\s*(yes|on|enabled)\b|enabled by default`)

// settle leaves the arguments of the side that is not the default.
func (o *Option) settle() {
	if o.Values != nil {
		return
	}
	if o.Default == "off" && helpDefault.MatchString(o.About) {
		o.Default = "on"
	}
	if o.Default == "on" {
		o.On = nil
	} else {
		o.Off = nil
	}
}

var notInNames = pattern.New(`[^a-z0-9_-]+`)

// optionName makes an option's name for a recipe, or "" if none can be made.
func optionName(name string) string {
	name = strings.Trim(notInNames.ReplaceAllString(strings.ToLower(name), "-"), "-_")
	if name == "" || name[0] < 'a' || slices.Contains([]string{"version", "arch", "host", "and", "or", "not", "on", "off", "true", "false"}, name) {
		return ""
	}
	return name
}

var cmakeOption = pattern.New(`(?im)^[ \t]*option\s*\(\s*(\w+)\s+"([^"]*)"\s*(\w+)?\s*\)`)

var (
	cmakeCached  = pattern.New(`(?im)^[ \t]*set\s*\(\s*(\w+)\s+("[^"]*"|[^\s()"]+)\s+CACHE\s+(BOOL|STRING|PATH|FILEPATH)\s+"([^"]*)"`)
	cmakeStrings = pattern.New(`(?im)set_property\s*\(\s*CACHE\s+(\w+)\s+PROPERTY\s+STRINGS\s+([^)]*)\)`)
)

func cmakeOptions(text string) ([]Option, []Setting) {
	var options []Option
	var settings []Setting
	add := func(name, about, value string) {
		o := Option{Name: optionName(name), About: about, Default: "off", On: []string{"-D" + name + "=ON"}}
		if slices.Contains([]string{"ON", "TRUE", "YES", "1"}, strings.ToUpper(value)) {
			o.Default, o.On, o.Off = "on", nil, []string{"-D" + name + "=OFF"}
		}
		if o.Name != "" {
			options = append(options, o)
		}
	}
	for _, m := range cmakeOption.FindAllStringSubmatch(text, -1) {
		add(m[1], m[2], m[3])
	}
	choices := map[string][]string{}
	for _, m := range cmakeStrings.FindAllStringSubmatch(text, -1) {
		choices[m[1]] = strings.Fields(strings.NewReplacer(`"`, "", ";", " ").Replace(m[2]))
	}
	for _, m := range cmakeCached.FindAllStringSubmatch(text, -1) {
		name, value, about := m[1], strings.Trim(m[2], `"`), m[4]
		values := choices[name]
		switch {
		case strings.HasPrefix(name, "CMAKE_"):
		case strings.EqualFold(m[3], "BOOL"):
			add(name, about, value)
		case len(values) > 1 && slices.Contains(values, value) && optionName(name) != "":
			o := Option{Name: optionName(name), About: about, Default: value, Order: values, Values: map[string][]string{}}
			for _, v := range values {
				if v != value {
					o.Values[v] = []string{"-D" + name + "=" + v}
				}
			}
			options = append(options, o)
		default:
			settings = append(settings, Setting{"-D" + name + "=" + value, about})
		}
	}
	return options, settings
}

var (
	mesonOption = pattern.New(`(?s)option\s*\(\s*'([^']+)'(.*?)\n?\)`)
	mesonType   = pattern.New(`type\s*:\s*'(\w+)'`)
	mesonValue  = pattern.New(`value\s*:\s*'?([\w.+/-]+)'?`)
	mesonAbout  = pattern.New(`(?s)description\s*:\s*'([^']*)'`)
	mesonChoice = pattern.New(`(?s)choices\s*:\s*\[([^\]]*)\]`)
	quoted      = pattern.New(`'([\w.+-]+)'`)
)

func mesonOptions(text string) ([]Option, []Setting) {
	var options []Option
	var settings []Setting
	group := func(re *pattern.Pattern, text string) string {
		if m := re.FindStringSubmatch(text); m != nil {
			return m[1]
		}
		return ""
	}
	for _, m := range mesonOption.FindAllStringSubmatch(text, -1) {
		o := Option{Name: optionName(m[1]), About: group(mesonAbout, m[2])}
		value := group(mesonValue, m[2])
		argument := func(value string) []string { return []string{"-D" + m[1] + "=" + value} }
		switch kind := group(mesonType, m[2]); {
		case o.Name == "":
			continue
		case kind == "boolean" && value == "false":
			o.Default, o.On = "off", argument("true")
		case kind == "boolean":
			o.Default, o.Off = "on", argument("false")
		case kind == "feature" || kind == "combo":
			o.Order = []string{"auto", "enabled", "disabled"}
			if kind == "combo" {
				o.Order = nil
				for _, choice := range quoted.FindAllStringSubmatch(group(mesonChoice, m[2]), -1) {
					o.Order = append(o.Order, choice[1])
				}
			}
			if len(o.Order) == 0 {
				continue
			}
			if o.Default = value; !slices.Contains(o.Order, value) {
				o.Default = o.Order[0]
			}
			o.Values = map[string][]string{}
			for _, v := range o.Order {
				if o.Values[v] = argument(v); v == o.Default {
					o.Values[v] = nil
				}
			}
		default:
			settings = append(settings, Setting{"-D" + m[1] + "=" + value, o.About}) // texts and numbers have no values to choose from
			continue
		}
		options = append(options, o)
	}
	return options, settings
}
