package draft

import (
	"regexp"
	"slices"
	"strings"

	"fernladder/core/recipe"
)

// Where build files say what they look for: the pattern's first group is the
// name, the second, if there is one, arguments that may say more.
var lookups = []struct {
	method  recipe.Method // the one whose files say so
	kind    string
	pattern *regexp.Regexp
	// required tells from the arguments whether the build fails without it.
	required func(arguments string) bool
}{
	{recipe.Configure, "module", regexp.MustCompile(`PKG_CHECK_MODULES\(\s*\[?\w+\]?\s*,\s*\[?([^\])]+?)\]?\s*(\)|,[^)]*)`), func(a string) bool { return !strings.HasPrefix(a, ",") }},
	{recipe.Configure, "library", regexp.MustCompile(`AC_CHECK_LIB\(\s*\[?([\w+.-]+)\]?\s*,([^)]*)`), func(a string) bool { return strings.Contains(a, "AC_MSG_ERROR") }},
	{recipe.Configure, "program", regexp.MustCompile(`AC_(?:PATH|CHECK)_PROG\(\s*\[?\w+\]?\s*,\s*\[?([\w+.-]+)\]?(.*)`), func(string) bool { return false }},
	{recipe.CMake, "package", regexp.MustCompile(`(?i)find_package\s*\(\s*([\w+.-]+)([^)]*)\)`), func(a string) bool { return strings.Contains(a, "REQUIRED") }},
	{recipe.CMake, "module", regexp.MustCompile(`(?i)pkg_(?:check|search)_module[s]?\s*\(\s*\w+(?:\s+REQUIRED|\s+QUIET|\s+IMPORTED_TARGET)*\s+([^)\s]+)([^)]*)\)`), func(a string) bool { return false }},
	{recipe.CMake, "library", regexp.MustCompile(`(?i)find_library\s*\(\s*\w+\s+(?:NAMES\s+)?"?([\w+.-]+)"?([^)]*)\)`), func(a string) bool { return strings.Contains(a, "REQUIRED") }},
	{recipe.CMake, "program", regexp.MustCompile(`(?i)find_program\s*\(\s*\w+\s+(?:NAMES\s+)?"?([\w+.-]+)"?([^)]*)\)`), func(a string) bool { return strings.Contains(a, "REQUIRED") }},
	{recipe.Meson, "module", regexp.MustCompile(`dependency\s*\(\s*'([^']+)'([^)]*)\)`), func(a string) bool { return !strings.Contains(a, "required") || strings.Contains(a, "required: true") }},
	{recipe.Meson, "library", regexp.MustCompile(`find_library\s*\(\s*'([^']+)'([^)]*)\)`), func(a string) bool { return !strings.Contains(a, "required") }},
	{recipe.Meson, "program", regexp.MustCompile(`find_program\s*\(\s*'([^']+)'([^)]*)\)`), func(a string) bool { return !strings.Contains(a, "required") }},
}

// base are what every system with a compiler has.
var base = []string{"m", "c", "dl", "rt", "pthread", "socket", "nsl", "threads", "pkgconfig", "pkg-config", "sh", "sed", "grep", "awk", "perl", "ar", "ranlib", "python3", "git"}

var moduleVersion = regexp.MustCompile(`^([\w+.-]+)(?:\s*(>=|<=|=|>|<)\s*([0-9][\w.]*))?`)

// wishes finds what the source looks for in other packages.
func (t *tree) wishes(s *Source) {
	file := map[recipe.Method]string{
		recipe.Configure: t.first("configure.ac", "configure.in"), recipe.CMake: "CMakeLists.txt", recipe.Meson: "meson.build",
	}[recipe.Method(s.Method.Value)]
	text := uncommented(t.text(file))
	for _, l := range lookups {
		if l.method != recipe.Method(s.Method.Value) {
			continue
		}
		for _, m := range l.pattern.FindAllStringSubmatch(text, -1) {
			w := Wish{Kind: l.kind, Name: m[1], Required: l.required(m[2]), From: file}
			if v := moduleVersion.FindStringSubmatch(m[1]); l.kind == "module" && v != nil {
				w.Name = v[1]
				if v[3] != "" {
					w.Version = map[bool]string{true: "==", false: v[2]}[v[2] == "="] + " " + v[3]
				}
			}
			if w.Name != "" && !strings.ContainsAny(w.Name, "$@{}") && !slices.Contains(base, strings.ToLower(w.Name)) {
				s.Wishes = append(s.Wishes, w)
			}
		}
	}
	seen := map[string]bool{}
	s.Wishes = slices.DeleteFunc(s.Wishes, func(w Wish) bool {
		key := w.Kind + " " + w.Name
		defer func() { seen[key] = true }()
		return seen[key]
	})
}

var comment = regexp.MustCompile(`(?m)(^|\s)(#|dnl\b).*$`)

// uncommented takes the comments out of a build file. What looks like one in
// the middle of a text is lost too, which does no harm here.
func uncommented(text string) string { return comment.ReplaceAllString(text, "$1") }
