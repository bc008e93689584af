package buildfile

import (
	"maps"
	"path"
	"slices"
	"strings"

	"fernladder/core/pattern"
)

// CMake reads a CMakeLists.txt, with the files and directories that it includes by plain names.
func CMake(files Files) *Reading {
	c := &cmake{files: files, headings: map[string]string{}, r: &Reading{}, seen: map[string]bool{}}
	text := c.inlined("CMakeLists.txt", ".", 0)
	c.commands = cmakeCommands(text)
	c.switches()
	c.r.group(c.headings)
	c.lookups()
	c.r.join()
	return c.r
}

type cmake struct {
	files    Files
	headings map[string]string // headings of options, by name
	seen     map[string]bool
	read     int // bytes
	commands []command
	r        *Reading
}

// A command is one of a CMake file: NAME(words), with the conditions around it.
type command struct {
	name       string
	words      []string
	conditions []string
}

// uncommentedCMake removes comments. Inside quotes, a # is text, for example of a test program.
func uncommentedCMake(text string) string {
	var b strings.Builder
	quoted := false
	for i := 0; i < len(text); i++ {
		switch c := text[i]; {
		case c == '\\' && i+1 < len(text):
			b.WriteByte(c)
			i++
		case c == '"':
			quoted = !quoted
		case c == '#' && !quoted:
			for i < len(text) && text[i] != '\n' {
				i++
			}
			i--
			continue
		}
		b.WriteByte(text[i])
	}
	return b.String()
}

// inlined is a file with the files it includes.
func (c *cmake) inlined(name, dir string, depth int) string {
	const deepest, longest = 5, 4 << 20
	if depth == deepest || c.seen[name] || c.read > longest {
		return ""
	}
	c.seen[name] = true
	whole := c.files(name)
	maps.Copy(c.headings, headings(whole))
	text := uncommentedCMake(whole)
	c.read += len(text) + 1
	var b strings.Builder
	last := 0
	for _, at := range cmakeBrings.Compiled().FindAllStringSubmatchIndex(text, most) {
		how, what := strings.ToLower(text[at[2]:at[3]]), strings.Trim(text[at[4]:at[5]], `"`)
		what = cmakeHere.ReplaceAllString(what, "")
		if strings.Contains(what, "$") || c.read > longest {
			continue
		}
		b.WriteString(text[last:at[1]])
		last = at[1]
		if how == "add_subdirectory" {
			b.WriteString("\n" + c.inlined(path.Join(dir, what, "CMakeLists.txt"), path.Join(dir, what), depth+1) + "\n")
			continue
		}
		for _, place := range []string{path.Join(dir, what), what, path.Join("cmake", what+".cmake"),
			path.Join("cmake/modules", what+".cmake"), path.Join("cmake/Modules", what+".cmake"),
			path.Join("CMake", what+".cmake"), path.Join("CMakeModules", what+".cmake")} {
			if c.files(place) != "" && strings.HasSuffix(place, ".cmake") {
				b.WriteString("\n" + c.inlined(place, dir, depth+1) + "\n")
				break
			}
		}
	}
	b.WriteString(text[last:])
	return b.String()
}

var (
	cmakeBrings = pattern.New(`(?i)\b(include|add_subdirectory)\s*\(\s*("[^"]+"|[^\s()]+)[^)]*\)`)
	cmakeHere   = pattern.New(`\$\{(?:CMAKE_CURRENT_SOURCE_DIR|CMAKE_SOURCE_DIR|PROJECT_SOURCE_DIR` +
		`|CMAKE_CURRENT_LIST_DIR)\}/`)
	cmakeWord = pattern.New(`"(?:[^"\\]|\\.)*"|[^\s"()]+|[()]`)
	cmakeCall = pattern.New(`(?m)\b([A-Za-z_]\w*)[ \t]*\(`)
)

// cmakeCommands parses a text. Functions and macros count where they are defined.
func cmakeCommands(text string) []command {
	var all []command
	var conditions []string
	for at := 0; at < len(text); {
		m := cmakeCall.Compiled().FindStringSubmatchIndex(text[at:])
		if m == nil {
			break
		}
		name := strings.ToLower(text[at+m[2] : at+m[3]])
		at += m[1]
		end := at
		quoted, depth := false, 1
		for ; end < len(text) && depth > 0; end++ {
			switch text[end] {
			case '\\':
				end++
			case '"':
				quoted = !quoted
			case '(':
				if !quoted {
					depth++
				}
			case ')':
				if !quoted {
					depth--
				}
			}
		}
		end = min(end, len(text))
		inside := text[at:max(at, end-1)]
		at = end
		words := cmakeWord.FindAllStringSubmatch(inside, -1)
		c := command{name: name}
		for _, w := range words {
			c.words = append(c.words, strings.Trim(w[0], `"`))
		}
		switch name {
		case "if":
			conditions = append(conditions, strings.Join(c.words, " "))
		case "elseif":
			if len(conditions) > 0 {
				conditions[len(conditions)-1] += " elseif " + strings.Join(c.words, " ")
			}
		case "else":
			if len(conditions) > 0 {
				conditions[len(conditions)-1] += " else"
			}
		case "endif":
			if len(conditions) > 0 {
				conditions = conditions[:len(conditions)-1]
			}
		default:
			if len(all) > 2*most {
				return all
			}
			const deepest = 32 // real files are nested less
			c.conditions = slices.Clone(conditions[max(0, len(conditions)-deepest):])
			slices.Reverse(c.conditions)
			all = append(all, c)
		}
	}
	return all
}

// word is one of a command's words, or "".
func (c command) word(i int) string {
	if i < len(c.words) {
		return c.words[i]
	}
	return ""
}

// has reports whether one of the words is this one.
func (c command) has(word string) bool { return slices.Contains(c.words, word) }

// switches reads the switches.
func (c *cmake) switches() {
	choices := map[string][]string{}
	for _, k := range c.commands {
		if k.name == "set_property" && k.word(0) == "CACHE" && len(k.words) > 4 && k.has("STRINGS") {
			choices[k.word(1)] = strings.FieldsFunc(strings.Join(k.words[slices.Index(k.words, "STRINGS")+1:], ";"),
				func(r rune) bool { return r == ';' })
		}
	}
	for _, k := range c.commands {
		raw := k.word(0)
		if raw == "" || strings.ContainsAny(raw, "${}") || elsewhere(k.conditions) {
			continue
		}
		switch {
		case k.name == "option", k.name == "cmake_dependent_option":
			c.onOff(raw, k.word(1), k.word(2))
		case k.name == "set" && k.has("CACHE"):
			i := slices.Index(k.words, "CACHE")
			value, kind, text := k.word(1), k.word(i+1), k.word(i+2)
			if i == 1 {
				value = ""
			}
			values := choices[raw]
			switch {
			case strings.HasPrefix(raw, "CMAKE_") || kind == "INTERNAL":
			case kind == "BOOL":
				c.onOff(raw, text, value)
			case len(values) > 1 && optionName(raw) != "":
				s := Switch{Name: optionName(raw), Raw: raw, About: about(text, raw, false), Order: values,
					Values: map[string][]string{}, vars: []string{raw}}
				for _, v := range values {
					s.Values[v] = []string{"-D" + raw + "=" + v}
				}
				if slices.Contains(values, value) {
					s.Value = value
				}
				c.r.Switches = append(c.r.Switches, s)
			default:
				s := newSetting("-D"+raw, raw, map[string]string{"PATH": "DIR", "FILEPATH": "PATH"}[kind], text)
				s.usual(value)
				c.r.Settings = append(c.r.Settings, s)
			}
		}
	}
	c.r.Switches = distinct(c.r.Switches)
}

func (c *cmake) onOff(raw, text, value string) {
	s := CMakeOption(raw, text, slices.Contains([]string{"ON", "TRUE", "YES", "1"}, strings.ToUpper(value)))
	if strings.EqualFold(value, "AUTO") || strings.Contains(value, "${") {
		s.Default = Auto // decided elsewhere, often by what was found
	}
	if s.Name != "" {
		c.r.Switches = append(c.r.Switches, s)
	}
}

// CMakeOption is the switch for an option of CMake. Its name is "" if recipes cannot have it.
func CMakeOption(raw, text string, on bool) Switch {
	s := Switch{Name: optionName(raw), Raw: raw, About: about(text, raw, false), Default: Off,
		Purpose: purposeOf(optionName(raw)),
		On:      []string{"-D" + raw + "=ON"}, Off: []string{"-D" + raw + "=OFF"}, vars: []string{raw}}
	if on {
		s.Default = On
	}
	s.positively(text)
	if raw == "BUILD_SHARED_LIBS" { // instead of static ones
		s.Name, s.About, s.Purpose = "shared", "Shared libraries rather than static ones", Shared
	}
	return s
}

// lookups reads the look-ups.
func (c *cmake) lookups() {
	languages := false
	for _, k := range c.commands {
		if elsewhere(k.conditions) {
			continue
		}
		l := Lookup{From: "CMakeLists.txt", Switch: c.r.switchOf(k.conditions)}
		required := k.has("REQUIRED")
		sure := len(k.conditions) == 0 || l.Switch != ""
		switch k.name {
		case "project":
			languages = true
			words := k.words[min(1, len(k.words)):]
			named := slices.ContainsFunc(words, func(w string) bool {
				return slices.Contains([]string{"C", "CXX", "NONE", "ASM", "Fortran"}, w)
			})
			if i := slices.Index(words, "LANGUAGES"); i >= 0 || named {
				c.r.CXX = c.r.CXX || slices.Contains(words, "CXX")
			} else {
				c.r.CXX = true // its meaning
			}
		case "enable_language":
			c.r.CXX = c.r.CXX || k.has("CXX") && len(k.conditions) == 0
		case "find_package":
			name := k.word(0)
			if cmakeOwn[name] {
				continue
			}
			if program := cmakePrograms[name]; program != "" {
				l.Kind, l.Names, l.Required = "program", []string{program}, required && sure
			} else {
				l.Kind, l.Names, l.Required = "package", []string{name}, required && sure
				if l.Switch == "" && !required {
					l.Off = []string{"-DCMAKE_DISABLE_FIND_PACKAGE_" + name + "=ON"}
				}
			}
			c.add(l)
		case "pkg_check_modules", "pkg_search_module":
			c.r.Modules = true
			words := slices.DeleteFunc(slices.Clone(k.words[min(1, len(k.words)):]), func(w string) bool {
				return slices.Contains([]string{"REQUIRED", "QUIET", "IMPORTED_TARGET", "GLOBAL", "NO_CMAKE_PATH",
					"NO_CMAKE_ENVIRONMENT_PATH"}, w)
			})
			found := modules(strings.Join(words, " "))
			if k.name == "pkg_search_module" && len(found) > 0 {
				for _, other := range found[1:] {
					found[0].Names = append(found[0].Names, other.Names...)
				}
				found = found[:1]
			}
			for _, m := range found {
				m.From, m.Switch, m.Required = l.From, l.Switch, required && sure
				c.add(m)
			}
		case "find_library", "find_program":
			l.Kind = strings.TrimPrefix(k.name, "find_")
			l.Names, l.Required = namesOf(k.words), required && sure
			c.add(l)
		case "check_library_exists":
			l.Kind, l.Names = "library", k.words[:min(1, len(k.words))]
			c.add(l)
		}
	}
	c.r.CXX = c.r.CXX || !languages
}

func (c *cmake) add(l Lookup) {
	if l.Names = slices.DeleteFunc(l.Names, Ordinary); len(l.Names) > 0 {
		c.r.Lookups = append(c.r.Lookups, l)
	}
}

// namesOf are the names that find_library and find_program look for: the second word, or
// those behind NAMES.
func namesOf(words []string) []string {
	from := 1
	if i := slices.Index(words, "NAMES"); i >= 0 {
		from = i + 1
	}
	var names []string
	for _, w := range words[min(from, len(words)):] {
		if w == strings.ToUpper(w) && strings.ToLower(w) != w && len(w) > 3 {
			break // the next keyword
		}
		if names = append(names, w); from == 1 {
			break
		}
	}
	return names
}

// cmakeOwn are packages that CMake has itself, or that every system with a compiler has.
var cmakeOwn = map[string]bool{"Threads": true, "PkgConfig": true, "OpenMP": true, "Iconv": true, "Intl": true,
	"UnixCommands": true, "Sanitizers": true, "CodeCoverage": true, "Backtrace": true}

// cmakePrograms are packages that are a program.
var cmakePrograms = map[string]string{"Python3": "python3", "Python": "python3", "PythonInterp": "python3",
	"Perl": "perl", "Git": "git", "BISON": "bison", "FLEX": "flex",
	"Doxygen": "doxygen", "Gettext": "msgfmt", "SWIG": "swig", "Java": "java", "JNI": "java", "Ruby": "ruby",
	"AsciiDoc": "asciidoc", "Sphinx": "sphinx-build", "LATEX": "latex", "RE2C": "re2c", "LibXslt": "xsltproc"}
