package draft

import (
	"regexp"
	"slices"
	"strings"
)

// options finds what can be chosen before the build. Only what differs from the
// default becomes an argument, so that a build with all defaults is the one the
// source's makers have in mind.
func (t *tree) options(s *Source) {
	switch s.Method.From {
	case "configure":
		s.Options = configureOptions(t.text("configure"))
	case "CMakeLists.txt":
		s.Options = cmakeOptions(t.text("CMakeLists.txt"))
	case "meson.build":
		s.Options = mesonOptions(t.text(t.first("meson.options", "meson_options.txt")))
	}
	slices.SortFunc(s.Options, func(a, b Option) int { return strings.Compare(a.Name, b.Name) })
	s.Options = slices.CompactFunc(s.Options, func(a, b Option) bool { return a.Name == b.Name })
}

// A line of a configure script's help that names an option, and lines that go
// on with its explanation.
var (
	helpOption = regexp.MustCompile(`^  --(enable|disable|with|without)-([a-zA-Z0-9_+.-]+)(\[?=\S+)?(?:\s+(\S.*))?$`)
	helpMore   = regexp.MustCompile(`^ {10,}(\S.*)$`)
)

// usual are switches of the build tools themselves, which every generated
// script has, and the words that its help uses as examples.
var usual = []string{"FEATURE", "PACKAGE", "option-checking", "silent-rules", "dependency-tracking", "maintainer-mode", "fast-install",
	"libtool-lock", "pic", "aix-soname", "gnu-ld", "sysroot", "rpath", "largefile", "libiconv-prefix", "libintl-prefix", "gnu-ld"}

func configureOptions(script string) []Option {
	var options []Option
	open := false // whether the last line began an option
	for line := range strings.Lines(script) {
		line = strings.TrimRight(line, "\n")
		m := helpOption.FindStringSubmatch(line)
		if m == nil {
			if more := helpMore.FindStringSubmatch(line); open && more != nil {
				last := &options[len(options)-1]
				last.About = strings.TrimSpace(last.About + " " + more[1])
			} else {
				open = false
			}
			continue
		}
		how, name, value := m[1], m[2], m[3]
		// One that takes a path or a number has no values to choose from.
		if open = !slices.Contains(usual, name) && !strings.HasPrefix(value, "="); !open {
			continue
		}
		o := Option{Name: optionName(name), About: m[4]}
		switch how {
		case "enable", "with":
			o.Default, o.On = "off", []string{"--" + how + "-" + name}
			o.Off = []string{"--" + map[string]string{"enable": "disable", "with": "without"}[how] + "-" + name}
		case "disable":
			o.Default, o.Off = "on", []string{"--disable-" + name}
		case "without":
			o.Default, o.Off = "on", []string{"--without-" + name}
		}
		options = append(options, o)
	}
	for i := range options {
		options[i].settle()
	}
	return slices.DeleteFunc(options, func(o Option) bool { return o.Name == "" })
}

// helpDefault finds in the help of an option that it is on unless it is turned
// off, which the name of the switch does not always tell.
var helpDefault = regexp.MustCompile(`(?i)[\[(](default(s to|[=:]| is)?\s*)?(yes|on|enabled|true)[\])]|default(s to|[=:]| is)\s*(yes|on|enabled)\b|enabled by default`)

// settle leaves the arguments of the side that is not the default.
func (o *Option) settle() {
	if o.Default == "off" && helpDefault.MatchString(o.About) {
		o.Default = "on"
	}
	if o.Default == "on" {
		o.On = nil
	} else {
		o.Off = nil
	}
}

var notInNames = regexp.MustCompile(`[^a-z0-9_-]+`)

// optionName makes an option's name for a recipe, or "" if none can be made.
func optionName(name string) string {
	name = strings.Trim(notInNames.ReplaceAllString(strings.ToLower(name), "-"), "-_")
	if name == "" || name[0] < 'a' || slices.Contains([]string{"version", "arch", "host", "and", "or", "not", "on", "off", "true", "false"}, name) {
		return ""
	}
	return name
}

var cmakeOption = regexp.MustCompile(`(?im)^[ \t]*option\s*\(\s*(\w+)\s+"([^"]*)"\s*(\w+)?\s*\)`)

func cmakeOptions(text string) []Option {
	var options []Option
	for _, m := range cmakeOption.FindAllStringSubmatch(text, -1) {
		o := Option{Name: optionName(m[1]), About: m[2], Default: "off", On: []string{"-D" + m[1] + "=ON"}}
		if slices.Contains([]string{"ON", "TRUE", "YES", "1"}, strings.ToUpper(m[3])) {
			o.Default, o.On, o.Off = "on", nil, []string{"-D" + m[1] + "=OFF"}
		}
		if o.Name != "" {
			options = append(options, o)
		}
	}
	return options
}

var (
	mesonOption = regexp.MustCompile(`(?s)option\s*\(\s*'([^']+)'(.*?)\n?\)`)
	mesonType   = regexp.MustCompile(`type\s*:\s*'(\w+)'`)
	mesonValue  = regexp.MustCompile(`value\s*:\s*'?([\w.+-]+)'?`)
	mesonAbout  = regexp.MustCompile(`(?s)description\s*:\s*'([^']*)'`)
	mesonChoice = regexp.MustCompile(`(?s)choices\s*:\s*\[([^\]]*)\]`)
	quoted      = regexp.MustCompile(`'([\w.+-]+)'`)
)

func mesonOptions(text string) []Option {
	var options []Option
	group := func(re *regexp.Regexp, text string) string {
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
			continue // texts and numbers have no values to choose from
		}
		options = append(options, o)
	}
	return options
}
