package buildfile

import (
	"path"
	"regexp"
	"slices"
	"strings"

	"fernladder/core/pattern"
)

// Meson reads a meson.build, with its subdirectories and its options.
func Meson(files Files) *Reading {
	m := &meson{files: files, r: &Reading{}, seen: map[string]bool{}}
	options := files("meson.options")
	if options == "" {
		options = files("meson_options.txt")
	}
	m.switches(mesonComment.ReplaceAllString(options, "$1"))
	m.r.group(headings(options))
	m.text = m.inlined(".", 0)
	m.variables()
	m.lookups()
	m.r.join()
	return m.r
}

type meson struct {
	files Files
	seen  map[string]bool
	read  int // bytes
	text  string
	r     *Reading
}

var (
	mesonComment = pattern.New(`(?m)(^|[ \t])#.*$`)
	mesonSubdir  = pattern.New(`\bsubdir\s*\(\s*'([^']+)'[^)]*\)`)
)

// inlined is the meson.build of a directory with those of its subdirectories.
func (m *meson) inlined(dir string, depth int) string {
	const deepest, longest = 5, 4 << 20
	name := path.Join(dir, "meson.build")
	if depth == deepest || m.seen[name] || m.read > longest {
		return ""
	}
	m.seen[name] = true
	text := mesonComment.ReplaceAllString(m.files(name), "$1")
	m.read += len(text) + 1
	var b strings.Builder
	last := 0
	for _, at := range mesonSubdir.Compiled().FindAllStringSubmatchIndex(text, most) {
		if m.read > longest {
			break
		}
		b.WriteString(text[last:at[1]] + "\n" + m.inlined(path.Join(dir, text[at[2]:at[3]]), depth+1) + "\n")
		last = at[1]
	}
	return b.String() + text[last:]
}

var (
	mesonOption = pattern.New(`\boption\s*\(`)
	mesonKey    = pattern.New(`^\s*(\w+)\s*:\s*([\s\S]*)$`)
	mesonText   = pattern.New(`'((?:[^'\\]|\\.)*)'`)
)

// mesonArguments are the arguments of a call after its parenthesis: those without a key, and
// those with one; and where it ends.
func mesonArguments(text string, at int) (plain []string, keyed map[string]string, end int) {
	keyed = map[string]string{}
	depth, from, quoted := 0, at, false
	const longest = 32 << 10
	take := func(to int) {
		arg := strings.TrimSpace(text[from:to])
		from = to + 1
		if arg == "" {
			return
		}
		if k := mesonKey.FindStringSubmatch(arg); k != nil {
			keyed[k[1]] = strings.TrimSpace(k[2])
		} else {
			plain = append(plain, arg)
		}
	}
	for i := at; i < len(text) && i < at+longest; i++ {
		switch c := text[i]; {
		case c == '\'' && (i == 0 || text[i-1] != '\\'):
			quoted = !quoted
		case quoted:
		case c == '(' || c == '[' || c == '{':
			depth++
		case c == ')' && depth == 0:
			take(i)
			return plain, keyed, i + 1
		case c == ')' || c == ']' || c == '}':
			depth--
		case c == ',' && depth == 0:
			take(i)
		}
	}
	return nil, nil, at
}

// strs are the texts in an argument; adjacent ones are joined.
func mesonTexts(arg string) []string {
	var all []string
	for _, m := range mesonText.FindAllStringSubmatch(arg, -1) {
		all = append(all, m[1])
	}
	return all
}

// switches reads the file of options.
func (m *meson) switches(text string) {
	for _, at := range mesonOption.Compiled().FindAllStringIndex(text, most) {
		plain, keyed, _ := mesonArguments(text, at[1])
		if len(plain) == 0 || len(mesonTexts(plain[0])) == 0 {
			continue
		}
		raw := mesonTexts(plain[0])[0]
		says := strings.Join(mesonTexts(keyed["description"]), "")
		value := strings.Trim(keyed["value"], `'`)
		set := func(v string) []string { return []string{"-D" + raw + "=" + v} }
		s := Switch{Name: optionName(raw), Raw: raw, About: about(says, raw, false), Purpose: purposeOf(optionName(raw)),
			vars: []string{"get_option('" + raw + "')"}}
		var choices []string
		kind := strings.Trim(keyed["type"], `'`)
		if kind == "combo" {
			choices = mesonTexts(keyed["choices"])
		}
		plainChoices := len(choices) > 1 && !slices.ContainsFunc(choices, func(v string) bool {
			_, is := states[v]
			return !is
		})
		switch {
		case s.Name == "":
			continue
		case kind == "boolean":
			s.Default, s.On, s.Off = On, set("true"), set("false")
			if value == "false" {
				s.Default = Off
			}
		case kind == "feature":
			s.Default, s.On, s.Off = Auto, set("enabled"), set("disabled")
			if state, is := states[value]; is {
				s.Default = state
			}
		case plainChoices: // as yes, no and auto
			s.Default = states[value]
			for _, v := range choices {
				switch states[v] {
				case On:
					s.On = set(v)
				case Off:
					s.Off = set(v)
				}
			}
			if s.Default == "" {
				s.Default = states[choices[0]]
			}
			if s.On == nil || s.Off == nil {
				continue
			}
		case kind == "combo" && len(choices) > 0:
			s.Order, s.Values = choices, map[string][]string{}
			for _, v := range choices {
				s.Values[v] = set(v)
			}
			if s.Value = value; !slices.Contains(choices, value) {
				s.Value = choices[0]
			}
		default:
			m.setting(raw, kind, value, says, keyed)
			continue
		}
		if kind == "boolean" {
			s.positively(says)
		}
		m.r.Switches = append(m.r.Switches, s)
	}
	m.r.Switches = distinct(m.r.Switches)
}

// setting reads an option with a free value.
func (m *meson) setting(raw, kind, value, says string, keyed map[string]string) {
	s := newSetting("-D"+raw, raw, map[string]string{"integer": "N", "array": "LIST"}[kind], says)
	if kind == "array" {
		value = strings.Join(mesonTexts(value), ",")
		var choices []string
		for _, c := range mesonTexts(keyed["choices"]) {
			choices = append(choices, regexp.QuoteMeta(c))
		}
		s.Matches = strings.Join(choices, "|")
	}
	s.usual(value)
	m.r.Settings = append(m.r.Settings, s)
}

var mesonAssigns = pattern.New(`(?m)^\s*(\w+)\s*=\s*(.*)$`)

// variables assigns variables to the switches that they stand for.
func (m *meson) variables() {
	for _, v := range mesonAssigns.FindAllStringSubmatch(m.text, -1) {
		for i := range m.r.Switches {
			if s := &m.r.Switches[i]; strings.HasPrefix(strings.TrimSpace(v[2]), s.vars[0]) && v[1] != "" {
				s.vars = append(s.vars, v[1])
			}
		}
	}
}

var (
	mesonLookup = pattern.New(`(\w+\.)?\b(dependency|find_library|find_program)\s*\(`)
	mesonBlocks = pattern.New(`(?m)^[ \t]*(?:(if|foreach)\b(.*)|(endif|endforeach)\b.*)$`)
	mesonLang   = pattern.New(`(?s)\bproject\s*\(([^)]*)\)`)
	mesonAdds   = pattern.New(`\badd_languages\s*\([^)]*'cpp'`)
	mesonPython = pattern.New(`\bimport\s*\(\s*'python3?'\s*\)`)
)

// lookups reads the look-ups.
func (m *meson) lookups() {
	var spans []span
	var stack []span
	for _, at := range mesonBlocks.Compiled().FindAllStringSubmatchIndex(m.text, most) {
		if at[2] >= 0 {
			stack = append(stack, span{at[0], 0, m.text[at[4]:at[5]]})
		} else if len(stack) > 0 {
			s := stack[len(stack)-1]
			s.to, stack = at[1], stack[:len(stack)-1]
			spans = append(spans, s)
		}
	}
	for _, at := range mesonLookup.Compiled().FindAllStringSubmatchIndex(m.text, most) {
		plain, keyed, _ := mesonArguments(m.text, at[1])
		var names []string
		for _, p := range plain {
			if strings.HasPrefix(p, "'") {
				names = append(names, mesonTexts(p)...)
			}
		}
		conditions := around(spans, at[0])
		required, said := keyed["required"]
		l := Lookup{Kind: map[string]string{"dependency": "module", "find_library": "library",
			"find_program": "program"}[m.text[at[4]:at[5]]], Names: names, From: "meson.build"}
		l.Switch = m.r.switchOf(append([]string{required}, conditions...))
		switch {
		case elsewhere(conditions):
			continue
		case !said:
			l.Required = len(conditions) == 0 || l.Switch != ""
		case required == "true":
			l.Required = true
		case required == "false":
		default:
			l.Required = l.Switch != ""
		}
		if texts := mesonTexts(keyed["version"]); len(texts) > 0 {
			l.Version = strings.Join(texts, ", ")
		}
		if l.Kind == "module" {
			m.r.Modules = true
		}
		if l.Names = slices.DeleteFunc(l.Names, Ordinary); len(l.Names) > 0 {
			m.r.Lookups = append(m.r.Lookups, l)
		}
	}
	if p := mesonLang.FindStringSubmatch(m.text); p != nil && strings.Contains(p[1], "'cpp'") ||
		mesonAdds.MatchString(m.text) {
		m.r.CXX = true
	}
	if mesonPython.MatchString(m.text) {
		m.r.Lookups = append(m.r.Lookups, Lookup{Kind: "program", Names: []string{"python3"}, Required: true,
			From: "meson.build"})
	}
}
