// Package buildfile reads the files of build systems: the switches of a build, its look-ups in
// other packages, and which switch decides about which look-up.
//
// It reads texts and runs nothing. It knows the languages of the build systems as people write
// them, and gives up quietly where they compute what they look for: then a Reading has less, but
// nothing wrong.
package buildfile

import (
	"slices"
	"strings"

	"fernladder/core/pattern"
	"fernladder/core/recipe"
)

// State is the default of a switch.
type State string

// The states.
const (
	On   State = "on"
	Off  State = "off"
	Auto State = "auto" // by look-ups
)

// A Switch is a choice that a build system offers.
type Switch struct {
	Name    string // as options of recipes are called
	Raw     string // as the source calls it
	About   string
	Group   string // its heading, or ""
	Default State
	On, Off []string // the arguments of each side

	// For a switch that is neither on nor off: its values, with their arguments, and its default;
	// "" if that is not one of them.
	Values map[string][]string
	Order  []string
	Value  string

	Purpose Purpose
	Place   bool     // the last of On takes the place of the need as a suffix
	maybe   bool     // its argument is a place: it is a switch if it controls a look-up
	vars    []string // by which the build file asks for it
}

// Purpose is what a switch is about, if users of a package do not need that.
type Purpose string

// The purposes.
const (
	Tests         Purpose = "tests"
	Documentation Purpose = "documentation"
	Examples      Purpose = "examples"
	Benchmarks    Purpose = "benchmarks"
	Bindings      Purpose = "bindings for another language"
	Static        Purpose = "static libraries"
	Shared        Purpose = "shared libraries" // which people do use
	Developers    Purpose = "for developers of the source"
)

// A Lookup is something of another package that a build looks for.
type Lookup struct {
	Kind     string   // module, library, header, program or package
	Names    []string // any of which will do, the first before the others
	Version  string   // a range, or ""
	Required bool     // the build does not go on without it, or, with a switch, not when that is on
	Switch   string   // the name of the one that decides about it, or ""
	Value    string   // of the switch that gives it, if known
	Off      []string // arguments that turn the look-up off, without a switch
	Ran      bool     // it is used where it is written, without a look-up; whether it matters is unknown
	From     string   // file
	sets     []string // variables that say whether it was found
	unsure   bool     // it is under an unknown condition
}

// Name is the first of the names.
func (l Lookup) Name() string { return l.Names[0] }

// Reading is what the files of a build system say.
type Reading struct {
	Switches []Switch
	Settings []Setting
	Lookups  []Lookup
	CXX      bool // there is C++ to compile
	Modules  bool // modules are looked up with pkg-config
}

// Files returns the text of a file of the source, or "" if there is none.
type Files func(name string) string

// switchOf finds the switch that one of the texts mentions: conditions around a look-up, from
// the innermost outwards.
func (r *Reading) switchOf(conditions []string) string {
	for _, c := range conditions {
		for _, s := range r.Switches {
			for _, v := range s.vars {
				if mentions(c, v) {
					return s.Name
				}
			}
		}
	}
	return ""
}

// mentions reports whether a condition contains a word.
func mentions(condition, word string) bool {
	for from := 0; ; {
		i := strings.Index(condition[from:], word)
		if i < 0 {
			return false
		}
		i += from
		end := i + len(word)
		if (i == 0 || !isWord(condition[i-1])) && (end == len(condition) || !isWord(condition[end])) {
			return true
		}
		from = end
	}
}

func isWord(c byte) bool {
	return c == '_' || c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z'
}

// Stem is a name without what differs between a package, its module, its library and its switch:
// lib at the beginning, a version at the end, punctuation.
func Stem(name string) string {
	name = strings.ToLower(name)
	for _, prefix := range []string{"enable_", "with_", "use_", "have_", "build_", "want_"} {
		name = strings.TrimPrefix(name, prefix)
	}
	if i := strings.LastIndexByte(name, '/'); i >= 0 {
		name = name[i+1:]
	}
	name = strings.TrimSuffix(strings.TrimSuffix(name, ".h"), ".pc")
	if len(name) > 4 {
		name = strings.TrimPrefix(name, "lib")
	}
	if rest := strings.TrimSuffix(name, "lib"); rest != "" {
		name = rest // as z is zlib
	}
	bare := strings.TrimRight(name, "0123456789.-_+")
	if len(bare) >= 2 {
		name = bare
	}
	return strings.Map(func(c rune) rune {
		if c == '-' || c == '_' || c == '.' {
			return -1
		}
		return c
	}, name)
}

// join assigns look-ups without a switch to the one with their name, and removes duplicates.
func (r *Reading) join() {
	for i := range r.Lookups {
		l := &r.Lookups[i]
		if l.Switch != "" {
			continue
		}
		for _, s := range r.Switches {
			if s.Values == nil && slices.ContainsFunc(l.Names, func(name string) bool { return Stem(name) == Stem(s.Raw) }) {
				l.Switch = s.Name
				break
			}
		}
	}
	r.Switches = slices.DeleteFunc(r.Switches, func(s Switch) bool {
		return s.maybe && !slices.ContainsFunc(r.Lookups, func(l Lookup) bool { return l.Switch == s.Name })
	})
	var all []Lookup
	for _, l := range r.Lookups {
		i := slices.IndexFunc(all, func(o Lookup) bool {
			return o.Kind == l.Kind && o.Name() == l.Name() && (o.Switch == l.Switch || o.Switch == "" || l.Switch == "")
		})
		if i < 0 {
			all = append(all, l)
			continue
		}
		if all[i].Switch != "" && l.Switch == "" && l.Required { // needed anyway
			all[i].Switch = ""
		}
		all[i].Required = all[i].Required || l.Required
		if all[i].Version == "" {
			all[i].Version = l.Version
		}
	}
	r.Lookups = all
}

// purposes are recognised by the names of switches.
var purposes = []struct {
	purpose Purpose
	names   *pattern.Pattern
}{
	{Static, pattern.New(`^(static|static-libs?|static-library)$`)},
	{Tests, pattern.New(`(^|-)(tests?|testing|unit-?tests?|gtest|googletest|testsuite|install-tests|install-test)(-|$)`)},
	{Documentation,
		pattern.New(`(^|-)(docs?|documentation|documents|doxygen|doxygen-doc|doxygen-docs|apidocs?|html|html-docs?` +
			`|html-doc|gtk-doc|manuals?|man-?pages?|pdf|sphinx|asciidoc|xmlto|docbook|info)(-|$)`)},
	{Examples, pattern.New(`(^|-)(examples?|samples?|demos?|tutorials?)(-|$)`)},
	{Benchmarks, pattern.New(`(^|-)(bench(mark)?s?|benchmarking|perf-?tests?)(-|$)`)},
	{Developers,
		pattern.New(`(^|-)(fuzz(ing|ers?|er)?|coverage|code-coverage|gcov|valgrind|asan|ubsan|msan|tsan|sanitizers?` +
			`|werror|warnings-as-errors|maintainer-mode|manywarnings|gcc-warnings|profiling|gprof|lcov)(-|$)`)},
	{Bindings,
		pattern.New(`^(python[23]?|python-(bindings?|modules?|examples?|embed)|perl|perl5|ruby|tcl|java|jni|php|guile` +
			`|ocaml|swig|csharp|mono|lua-bindings|swift|go-bindings?|cython|introspection|gir|vala|vapi)(-bindings?)?$`)},
}

// formats are names of documentation that are also those of what a package may read or write;
// documents is what a description says of documentation.
var (
	formats   = pattern.New(`^(?:html|pdf|info|docbook)$`)
	documents = pattern.New(`(?i)\b(?:docs?|documents?|documentation|manuals?|man ?pages?|help|guides?` +
		`|reference|doxygen|sphinx|texinfo)\b`)
)

// OwnPurposes ignores the name of the package in the names of its switches, as in moss-docs: a
// package named after one of the purposes is about more than that. A format is documentation only if
// its description says so.
func OwnPurposes(switches []Switch, pkg string) {
	for i, s := range switches {
		if formats.MatchString(s.Name) && !documents.MatchString(s.About) {
			switches[i].Purpose = ""
			continue
		}
		if rest, is := strings.CutPrefix(strings.ReplaceAll(s.Name, "_", "-"), strings.ToLower(pkg)+"-"); is &&
			s.Purpose != Shared && s.Purpose != Static {
			switches[i].Purpose = purposeOf(rest)
		}
	}
}

// purposeOf finds the purpose of a switch.
func purposeOf(name string) Purpose {
	name = strings.TrimPrefix(strings.TrimPrefix(strings.TrimPrefix(strings.ReplaceAll(name, "_", "-"), "enable-"),
		"with-"), "build-")
	for _, p := range purposes {
		if p.names.MatchString(name) {
			return p.purpose
		}
	}
	return ""
}

var notInNames = pattern.New(`[^a-z0-9_-]+`)

// optionName makes an option's name for a recipe, or "" if none can be made.
func optionName(name string) string {
	name = strings.Trim(notInNames.ReplaceAllString(strings.ToLower(name), "-"), "-_")
	if recipe.CheckOptionName(name) != nil {
		return ""
	}
	return name
}

// negative begins the description of a switch that says what happens when it is turned off.
var negative = pattern.New(`(?i)^(?:(?:if set, )?(?:to )?(?:disables?(?: the)?|turns? off|omits?|excludes?` +
	`|suppress(?:es)?|skips?|avoids?|no|without|builds? without|compiles? without|don'?t|do not)|(?:set to on to` +
	`|use this to) disable)\s+`)

// evenIf goes with what is not done.
var evenIf = pattern.New(`(?i),? even (?:if|when|though) .*$`)

// negated matches the names of switches that leave something out when they are on.
var negated = pattern.New(`(?i)^(.*?_)?(?:no|disable|without|skip|omit)[_-](.+)$`)

// notes are remarks about defaults in a switch's description; the recipe states those itself.
var notes = pattern.New(`(?i)\s*[\[(<]\s*(?:the )?(?:default(?:s)?\s*(?:to|is|[=:])?\s*)?` + set +
	`\s*[\])>]|[,;]?\s*\b(?:the )?default(?:s to| is|\s*[=:])\s*` + set + `\b`)

const set = `(?:yes|no|on|off|auto|check|enabled|disabled|true|false|autodetect(?:ed)?|maybe|detect|if found` +
	`|if available|optional)`

// positively inverts a switch that leaves something out when it is on, in name and description,
// so that it is on when the thing is built.
func (s *Switch) positively(text string) {
	m := negated.FindStringSubmatch(s.Raw)
	if m == nil || !negative.MatchString(strings.TrimSpace(text)) || optionName(m[1]+m[2]) == "" {
		return
	}
	s.Name, s.About = optionName(m[1]+m[2]), about(text, s.Raw, true)
	s.On, s.Off = s.Off, s.On
	switch s.Default {
	case On:
		s.Default = Off
	case Off:
		s.Default = On
	}
	s.Purpose = purposeOf(s.Name)
}

// about tidies the description of a switch, so that it says what it does when it is on. off says
// that the text is about turning it off.
func about(text, raw string, off bool) string {
	text = strings.TrimSuffix(text, ".")
	text = strings.NewReplacer("@<:@", "[", "@:>@", "]", "@%:@", "#", "@S|@", "$", "@&t@", "", "[[", "[", "]]", "]").
		Replace(text)
	text = strings.Join(strings.Fields(notes.ReplaceAllString(text, "")), " ")
	if rest := negative.ReplaceAllString(text, ""); off && rest != text && rest != "" {
		text = evenIf.ReplaceAllString(rest, "")
	}
	if text = strings.Trim(text, " ,;:"); text == "" {
		return raw
	}
	if first, _, _ := strings.Cut(text, " "); strings.ContainsAny(first, "_-.") { // a literal name
		return text
	}
	return strings.ToUpper(text[:1]) + text[1:]
}

// span is a part of a text under a condition.
type span struct {
	from, to  int
	condition string
}

// around are the conditions around a place, from the innermost outwards.
func around(spans []span, at int) []string {
	var in []span
	for _, s := range spans {
		if s.from < at && at < s.to {
			in = append(in, s)
		}
	}
	slices.SortStableFunc(in, func(a, b span) int { return (a.to - a.from) - (b.to - b.from) })
	conditions := make([]string, len(in))
	for i, s := range in {
		conditions[i] = s.condition
	}
	return conditions
}
