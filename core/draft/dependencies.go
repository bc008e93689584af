package draft

import (
	"slices"
	"strings"

	"fernladder/core/pattern"
	"fernladder/core/recipe"
	"fernladder/core/version"
)

// Where build files say what they look for: the pattern's first group is the
// name, the second, if there is one, arguments that may say more.
var lookups = []struct {
	method  recipe.Method // the one whose files say so
	kind    string
	pattern *pattern.Pattern
	// required tells from the arguments whether the build fails without it.
	required func(arguments string) bool
	lower    bool // the name stands in capitals there
}{
	{recipe.Configure, "module", pattern.New(`PKG_CHECK_MODULES\(\s*\[?\w+\]?\s*,\s*(\[[^\]]+\]|[^,)\[\]]+)\s*(\)|,[^)]*)`), func(a string) bool { return !strings.HasPrefix(a, ",") }, false},
	{recipe.Configure, "library", pattern.New(`AC_CHECK_LIB\(\s*\[?([\w+.-]+)\]?\s*,([^)]*)`), func(a string) bool { return strings.Contains(a, "AC_MSG_ERROR") }, false},
	{recipe.Configure, "program", pattern.New(`AC_(?:PATH|CHECK)_PROG\(\s*\[?\w+\]?\s*,\s*\[?([\w+.-]+)\]?(.*)`), func(string) bool { return false }, false},
	{recipe.Configure, "library", pattern.New(`AC_SEARCH_LIBS\(\s*\[?\w+\]?\s*,\s*\[?([\w+.-]+)\]?\s*,([^)]*)`), func(a string) bool { return strings.Contains(a, "AC_MSG_ERROR") }, false},
	{recipe.Configure, "header", pattern.New(`AC_CHECK_HEADERS?\(\s*\[?([\w./+-]+\.h)\]?\s*,([^)]*AC_MSG_ERROR)`), func(string) bool { return true }, false},
	{recipe.Configure, "package", pattern.New(`AM_PATH_([A-Z][A-Z0-9]*(?:_[A-Z0-9]+)*)\b(.*)`), func(string) bool { return false }, true},
	{recipe.CMake, "package", pattern.New(`(?i)find_package\s*\(\s*([\w+.-]+)([^)]*)\)`), func(a string) bool { return strings.Contains(a, "REQUIRED") }, false},
	{recipe.CMake, "module", pattern.New(`(?i)pkg_(?:check|search)_module[s]?\s*\(\s*\w+(?:\s+REQUIRED|\s+QUIET|\s+IMPORTED_TARGET)*\s+([^)\s]+)([^)]*)\)`), func(a string) bool { return false }, false},
	{recipe.CMake, "library", pattern.New(`(?i)find_library\s*\(\s*\w+\s+(?:NAMES\s+)?"?([\w+.-]+)"?([^)]*)\)`), func(a string) bool { return strings.Contains(a, "REQUIRED") }, false},
	{recipe.CMake, "program", pattern.New(`(?i)find_program\s*\(\s*\w+\s+(?:NAMES\s+)?"?([\w+.-]+)"?([^)]*)\)`), func(a string) bool { return strings.Contains(a, "REQUIRED") }, false},
	{recipe.Meson, "module", pattern.New(`dependency\s*\(\s*'([^']+)'([^)]*)\)`), func(a string) bool { return !strings.Contains(a, "required") || strings.Contains(a, "required: true") }, false},
	{recipe.Meson, "library", pattern.New(`find_library\s*\(\s*'([^']+)'([^)]*)\)`), func(a string) bool { return !strings.Contains(a, "required") }, false},
	{recipe.Meson, "program", pattern.New(`find_program\s*\(\s*'([^']+)'([^)]*)\)`), func(a string) bool { return !strings.Contains(a, "required") }, false},
}

// base are what every system with a compiler has.
var base = []string{"m", "c", "dl", "rt", "pthread", "socket", "nsl", "threads", "iconv", "intl", "openmp", "ws2_32", "pkgconfig", "pkg-config", "sh", "sed", "grep", "awk", "perl", "ar", "ranlib", "python3", "git", "python", "lisp", "stdlib.h", "stdio.h", "string.h", "unistd.h", "pthread.h", "math.h"}

// blocks are how build files begin and end what only counts under a condition.
var blocks = map[recipe.Method]*pattern.Pattern{
	recipe.Configure: pattern.New(`(?m)^[ \t]*(?:(if)\b.*|(fi)\b.*|(case)\b.* in|(esac)\b.*)$|(AS_IF\(|AC_ARG_(?:WITH|ENABLE)\()`),
	recipe.CMake:     pattern.New(`(?im)^[ \t]*(?:(if|foreach|function|macro)|(endif|endforeach|endfunction|endmacro))[ \t]*\(`),
	recipe.Meson:     pattern.New(`(?m)^[ \t]*(?:(if|foreach)\b|(endif|endforeach)\b)`),
}

// conditional returns whether a place in a build file is in a block that only
// counts under a condition. What such a block looks for may not be needed.
func conditional(text string, method recipe.Method) func(offset int) bool {
	p := blocks[method]
	if p == nil {
		return func(int) bool { return false }
	}
	type span struct{ from, to int }
	var spans []span
	depth, from := 0, 0
	for _, at := range p.Compiled().FindAllStringSubmatchIndex(text, -1) {
		opens := at[2] >= 0 || len(at) > 6 && at[6] >= 0
		switch {
		case len(at) > 10 && at[10] >= 0: // a macro: to its last parenthesis
			spans = append(spans, span{at[10], closing(text, at[11])})
		case opens:
			if depth == 0 {
				from = at[0]
			}
			depth++
		case depth > 0:
			if depth--; depth == 0 {
				spans = append(spans, span{from, at[1]})
			}
		}
	}
	return func(offset int) bool {
		return slices.ContainsFunc(spans, func(s span) bool { return s.from < offset && offset < s.to })
	}
}

// closing is where the parenthesis ends that is open at offset.
func closing(text string, offset int) int {
	for depth := 1; offset < len(text); offset++ {
		switch text[offset] {
		case '(':
			depth++
		case ')':
			if depth--; depth == 0 {
				return offset
			}
		}
	}
	return offset
}

// moduleList reads a list of modules, each perhaps with the version it must
// have: "dewcalc >= 1.4 loam".
func moduleList(text string) []Dependency {
	var dependencies []Dependency
	words := strings.Fields(strings.NewReplacer(",", " ", "[", "", "]", "", ">=", " >= ", "<=", " <= ").Replace(text))
	for i := 0; i < len(words); i++ {
		operator := ""
		if i+2 < len(words) {
			operator = words[i+1]
		}
		w := Dependency{Kind: "module", Name: words[i]}
		switch operator {
		case ">=", "<=", ">", "<", "=":
			if _, err := version.Parse(words[i+2]); err == nil {
				w.Version = map[bool]string{true: "==", false: operator}[operator == "="] + " " + words[i+2]
			}
			i += 2
		}
		if moduleName.MatchString(w.Name) {
			dependencies = append(dependencies, w)
		}
	}
	return dependencies
}

// add notes a dependency, unless it is for what every system with a compiler has, or
// its name is only known when the build runs.
func (s *Source) add(w Dependency) {
	if w.Name != "" && !strings.ContainsAny(w.Name, "$@{}") && !slices.Contains(base, strings.ToLower(w.Name)) {
		s.Dependencies = append(s.Dependencies, w)
	}
}

var moduleName = pattern.New(`^[\w+.-]+$`)

// dependencies finds what the source looks for in other packages.
func (t *tree) dependencies(s *Source) {
	file := map[recipe.Method]string{
		recipe.Configure: t.first("configure.ac", "configure.in"), recipe.CMake: "CMakeLists.txt", recipe.Meson: "meson.build",
	}[recipe.Method(s.Method.Value)]
	text := uncommented(t.text(file))
	unsure := conditional(text, recipe.Method(s.Method.Value))
	for _, l := range lookups {
		if l.method != recipe.Method(s.Method.Value) {
			continue
		}
		for _, at := range l.pattern.Compiled().FindAllStringSubmatchIndex(text, -1) {
			m := []string{"", text[at[2]:at[3]], text[at[4]:at[5]]}
			required := l.required(m[2]) && !unsure(at[0])
			if l.kind == "module" {
				for _, w := range moduleList(m[1]) {
					w.Required, w.From = required, file
					s.add(w)
				}
				continue
			}
			name := m[1]
			if l.lower {
				name = strings.ToLower(name)
			}
			s.add(Dependency{Kind: l.kind, Name: name, Required: required, From: file})
		}
	}
	own := strings.TrimPrefix(s.Name.Value, "lib")
	seen := map[string]bool{}
	s.Dependencies = slices.DeleteFunc(s.Dependencies, func(w Dependency) bool {
		key := w.Kind + " " + w.Name
		defer func() { seen[key] = true }()
		return seen[key] || strings.TrimPrefix(w.Name, "lib") == own
	})
}

var comment = pattern.New(`(?m)(^|\s)(#|dnl\b).*$`)

// uncommented takes the comments out of a build file. What looks like one in
// the middle of a text is lost too, which does no harm here.
func uncommented(text string) string { return comment.ReplaceAllString(text, "$1") }
