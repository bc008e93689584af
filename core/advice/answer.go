package advice

import (
	"fmt"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"fernladder/core/build"
	"fernladder/core/buildfile"
	"fernladder/core/diagnose"
	"fernladder/core/draft"
	"fernladder/core/host"
	"fernladder/core/pattern"
	"fernladder/core/recipe"
	"fernladder/core/tomlfile"
)

// An Answer is a change of a recipe after a failed build.
type Answer struct {
	Text     string   // the lines to add, or a description of the change
	Packages []string // of the operating system that have to be installed for it; none: it can go on
	Program  bool     // they are for a program that the build runs, not for its own inputs
	Args     []string // that are added to those of the build, if it is that
	Detour   bool     // it avoids what is missing, which may lead nowhere
	Absent   bool     // something has to be installed, and its package is unknown
	change   func(e *tomlfile.Edit, why string)
}

// Give changes the recipe, with a remark about the reason.
func (a *Answer) Give(r *recipe.Recipe, why string) error {
	return r.Change(func(e *tomlfile.Edit) { a.change(e, why) })
}

// To finds the answers to a failed build, the best first: the argument, or the step, that moves files
// placed outside into the tree; a directory that is expected; an option that is off and provides
// what is missing; the argument that the source asks for; a library of a need that implements the
// missing one, that is a prerequisite, or that has no module; a need on a recipe; the argument with
// which the source goes without it; a no-op in place of what writes documentation; a need on the
// operating system; an empty file in place of documentation that the archive lacks; a flag that is
// known to help; a directory outside the source to build in; compiling only what is placed; copying
// what was built.
func To(r *recipe.Recipe, f *build.Failure, e Evidence) []*Answer {
	c := f.Cause
	answers := slices.Concat(inside(r, f), directories(r, f), installing(r, f))
	if c == nil {
		return slices.Concat(answers, outside(r, f), onlyPlaced(r, f), copied(r, f))
	}
	m := For(r, c, e)
	need := func(text string) *Answer {
		return &Answer{Text: text, change: func(e *tomlfile.Edit, why string) { e.Append(why + "\n" + text) }}
	}
	answers = append(answers, turnedOn(r, c)...)
	if c.Asks != "" && !slices.Contains(r.Build.Args, c.Asks) {
		answers = append(answers, asked(r, c.Asks))
	}
	answers = slices.Concat(answers, renamed(r, c, e), searched(r, f, e))
	answers = append(answers, undescribed(r, c, e)...)
	if m.Recipe != "" {
		answers = append(answers, need(m.Need().Text()))
	}
	if c.Without != "" && !slices.Contains(r.Build.Args, c.Without) {
		answers = append(answers, without(r, c, m))
	}
	answers = append(answers, undocumented(r, c)...)
	if m.Host.Kind != "" {
		a := need(m.HostNeed().Text())
		if a.Program = m.Role == recipe.Tool; !m.Here {
			a.Absent = len(m.Owners) == 0
			a.Packages = m.Owners[:min(1, len(m.Owners))]
		}
		answers = append(answers, a)
	}
	if !c.Sure() { // nothing is installed for a guess
		answers = slices.DeleteFunc(answers, func(a *Answer) bool { return len(a.Packages) > 0 || a.Absent })
	}
	return slices.Concat(answers, unwarned(r, c), regenerate(r, f), standIn(r, f), include(r, f, e), flag(r, c),
		outside(r, f), onlyPlaced(r, f), copied(r, f))
}

// installing turns on what installs files, which the source has on, if nothing was placed
// without it.
func installing(r *recipe.Recipe, f *build.Failure) (answers []*Answer) {
	for _, o := range r.Options {
		if f.Nothing && !o.Implied && o.Values == nil && o.Default == "off" && len(o.Off) > 0 &&
			strings.HasPrefix(strings.ToLower(o.Name), "install") {
			answers = append(answers, on(o, "without it, nothing is placed"))
		}
	}
	if f.Nothing {
		answers = append(answers, copied(r, f)...)
	}
	return answers
}

// copied places what was built by a step, if the source's own way to install places nothing, or
// fails.
func copied(r *recipe.Recipe, f *build.Failure) []*Answer {
	files := draft.Placeable(f.Built)
	if step := strings.TrimSpace(r.Step(build.StagePlace)); len(files) == 0 ||
		step != "" && step != draft.PlaceByName(r.Name) {
		return nil
	}
	says := fmt.Sprintf("# The step place copies what was built, for nothing else does: %s.", strings.Join(files, ", "))
	a := asStep("place", draft.PlaceStep(files), says)
	a.Detour = !f.Nothing
	return []*Answer{a}
}

// directories makes a directory of the tree that the source's way to install expects.
func directories(r *recipe.Recipe, f *build.Failure) []*Answer {
	if f.Stage != build.StagePlace {
		return nil
	}
	for _, line := range f.Lines {
		m := noDirectory.FindStringSubmatch(line)
		if m == nil {
			continue
		}
		dir := m[3]
		if m[1] != "target" && !manual.MatchString(dir) {
			dir = path.Dir(dir)
		}
		to := "$FL_PREFIX/" + dir
		if strings.Contains(m[2], "/box/stage/") {
			to = "$DESTDIR" + to
		}
		if !filepath.IsLocal(dir) || !plainPath.MatchString(dir) {
			continue
		}
		says := fmt.Sprintf("# The step before_place makes the directory %s, which the source expects.", to)
		if answers := inStep(r, "before_place", "mkdir -p "+to, says); answers != nil {
			return answers
		}
	}
	return nil
}

// noDirectory matches what cp and install say of a file below a directory of the tree that does
// not exist.
var noDirectory = pattern.New(`(target|create [a-z ]+) ['‘](/[^'’]*/trees/[\w.+-]+/[\w.+-]+)/([^'’]+)['’]`)

// manual matches the directory of a section of the manual, which is no file.
var manual = pattern.New(`(?:^|/)man[1-9]$`)

// onlyPlaced compiles only what is placed: what fails may be a test or an example.
func onlyPlaced(r *recipe.Recipe, f *build.Failure) []*Answer {
	if f.Stage != build.StageCompile || r.Build.SkipUnplaced || r.SkipsNothing() != "" ||
		f.Cause != nil && len(f.Cause.Questions()) > 0 {
		return nil
	}
	const says = "# Only what is placed is compiled (skip_unplaced): what fails may be a test or an example."
	return []*Answer{{Text: says, Detour: true, change: func(e *tomlfile.Edit, why string) {
		e.Set("true", "build", "skip_unplaced")
		e.Append(why + "\n" + says)
	}}}
}

// on turns an option on.
func on(o *recipe.Option, why string) *Answer {
	says := fmt.Sprintf("# The option %s is on: %s.", o.Name, why)
	return &Answer{Text: says, Detour: true, change: func(e *tomlfile.Edit, why string) {
		e.SetTable("option."+o.Name, []string{"default"}, map[string]string{"default": "true"})
		e.Append(why + "\n" + says)
	}}
}

// stemsOf are the stems of what is missing.
func stemsOf(c *diagnose.Cause) map[string]bool {
	stems := map[string]bool{}
	for _, q := range c.Questions() {
		stems[buildfile.Stem(q.Name)] = true
		if dir, _, is := strings.Cut(q.Name, "/"); is && q.Kind == host.Header {
			stems[buildfile.Stem(dir)] = true
		}
	}
	return stems
}

// Belongs is the option that is on and that what is missing belongs to, by its name; nil for
// none.
func Belongs(r *recipe.Recipe, c *diagnose.Cause) *recipe.Option {
	stems := stemsOf(c)
	for _, o := range r.Options {
		if !o.Implied && o.Values == nil && o.Default == "on" && len(o.Off) > 0 && stems[buildfile.Stem(o.Name)] {
			return o
		}
	}
	return nil
}

// Brings is the option of a recipe that is on by default and that a need depends on; nil for none.
func Brings(r *recipe.Recipe, need string) *recipe.Option {
	for _, n := range r.Needs {
		i := slices.IndexFunc(r.Options, func(o *recipe.Option) bool {
			return !o.Implied && o.Values == nil && o.Default == "on" && n.When.Mentions(o.Name)
		})
		if i >= 0 && slices.Contains(n.Names(), need) {
			return r.Options[i]
		}
	}
	return nil
}

// turnedOn turns on an option that is off, and that has a need for what is missing: the source
// cannot do without it.
func turnedOn(r *recipe.Recipe, c *diagnose.Cause) []*Answer {
	stems := stemsOf(c)
	for _, o := range r.Options {
		if o.Implied || o.Values != nil || o.Default != "off" {
			continue
		}
		brings := slices.ContainsFunc(r.HostNeeds, func(n *recipe.HostNeed) bool {
			return n.When.Mentions(o.Name) && stems[buildfile.Stem(n.Question().Name)]
		}) || slices.ContainsFunc(r.Needs, func(n *recipe.Need) bool {
			return n.When.Mentions(o.Name) && slices.ContainsFunc(n.Names(), func(name string) bool {
				return stems[buildfile.Stem(name)]
			})
		})
		if !brings {
			continue
		}
		return []*Answer{on(o, "the source does not do without it")}
	}
	return nil
}

// OptionOf is the option of a recipe that gives an argument when it is on, nil for none.
func OptionOf(r *recipe.Recipe, argument string) *recipe.Option {
	for _, o := range r.Options {
		if !o.Implied && o.Values == nil && slices.Contains(o.On, argument) {
			return o
		}
	}
	return nil
}

// asked gives the argument that the source asks for: by an option that has it, or as it is.
func asked(r *recipe.Recipe, argument string) *Answer {
	change, says := func(e *tomlfile.Edit) {
		AddArguments(e, r, argument)
	}, fmt.Sprintf("# The argument %s is added, which the source asks for.", argument)
	if o := OptionOf(r, argument); o != nil {
		change, says = func(e *tomlfile.Edit) {
			e.SetTable("option."+o.Name, []string{"default"}, map[string]string{"default": "true"})
		}, fmt.Sprintf("# The option %s is on: the source asks for %s.", o.Name, argument)
	}
	return &Answer{Text: says, Detour: true, change: func(e *tomlfile.Edit, why string) {
		change(e)
		e.Append(why + "\n" + says)
	}}
}

// without goes without what is missing, in the way that the source states.
func without(r *recipe.Recipe, c *diagnose.Cause, m Remedy) *Answer {
	turnOff, done := turnedOff(r, c.Without)
	says := "# " + done
	if m.Host.Kind != "" {
		says += "\n# Or, with it:\n# " + strings.ReplaceAll(m.HostNeed().Text(), "\n", "\n# ")
	}
	return &Answer{Text: says, change: func(e *tomlfile.Edit, why string) {
		turnOff(e)
		e.Append(why + "\n" + says)
	}}
}

// turnedOff turns off what an argument turns off: by an option of the recipe for it, or else by
// the argument itself.
func turnedOff(r *recipe.Recipe, argument string) (change func(*tomlfile.Edit), done string) {
	about := strings.NewReplacer("--without-", "", "--disable-", "", "-D", "").Replace(argument)
	about, _, _ = strings.Cut(about, "=")
	for _, o := range r.Options {
		if o.Implied || o.Values != nil || o.Default == "off" ||
			!slices.Contains(o.Off, argument) && !strings.EqualFold(o.Name, about) {
			continue
		}
		return func(e *tomlfile.Edit) {
			e.SetTable("option."+o.Name, []string{"default", "off"},
				map[string]string{"default": "false", "off": tomlfile.QuoteList([]string{argument})})
		}, fmt.Sprintf("The option %s is off.", o.Name)
	}
	return func(e *tomlfile.Edit) {
		AddArguments(e, r, argument)
	}, fmt.Sprintf("The argument %s is added.", argument)
}

// outside builds outside the source's directory if the configure step demands that.
func outside(r *recipe.Recipe, f *build.Failure) []*Answer {
	if !r.Build.InTree || f.Stage != build.StageConfigure || !apart.MatchString(strings.Join(f.Lines, "\n")) {
		return nil
	}
	return []*Answer{{Text: "# It is built outside the source's directory.",
		change: func(e *tomlfile.Edit, why string) {
			e.SetTable("build", []string{"in_tree"}, map[string]string{"in_tree": "false"})
			e.Append(why + "\n# It is built outside the source's directory.")
		}}}
}

// apart matches how configure scripts refuse to run in the source's directory.
var apart = pattern.New(`(?i)(?:separate|different|another) (?:build )?directory|in-(?:tree|source) build|` +
	`\bin (?:the |its )?source (?:tree|dir)`)

// flag adds a helpful flag to the compiler, in the environment; for makefiles, which do not take
// the compiler from the environment, among the arguments.
func flag(r *recipe.Recipe, c *diagnose.Cause) []*Answer {
	given := slices.Clone(r.Build.Args)
	for _, pair := range r.Build.Env {
		given = append(given, pair.Values...)
	}
	if c.Kind == diagnose.WarningError && strings.Contains(strings.Join(given, " "), "-Wno-error") {
		return tolerant(r) // one after the other would take long
	}
	flag, variables := helpful(c)
	switch both := []string{"CC", "CXX"}; {
	case flag != "":
		return append(withFlag(r, flag, variables, false), named(r, flag)...)
	case c.Kind != diagnose.Undefined:
		return nil
	case c.Found != "" && r.Build.Method == recipe.Make: // which takes no LIBS
		return withFlag(r, lateLibraries+" "+c.Found, both, false)
	case c.Found == "":
		// It may be defined inline, which compilers before GCC 5 took for a definition as well; or a library
		// of a need may precede the objects that use it.
		var answers []*Answer
		if !ofCXX.MatchString(c.Place) && !strings.ContainsAny(c.Name(), ":(") {
			answers = withFlag(r, "-fgnu89-inline", both[:1], true)
		}
		if len(r.Needs) > 0 {
			answers = append(answers, withFlag(r, lateLibraries, both, true)...)
		}
		return answers
	}
	return nil
}

// withFlag adds a flag to what some variables have.
func withFlag(r *recipe.Recipe, flag string, variables []string, blind bool) []*Answer {
	args := slices.Clone(r.Build.Args)
	asArgument := r.Build.Method == recipe.Make && !slices.Contains(variables, "CFLAGS")
	var names, says []string
	set := map[string]string{}
	for _, name := range variables {
		value := map[string]string{"CC": "cc", "CXX": "c++", "CFLAGS": "-O2", "CXXFLAGS": "-O2"}[name]
		for _, pair := range r.Build.Env {
			if pair.Name == name {
				value = pair.Values[0]
			}
		}
		at := slices.IndexFunc(args, func(arg string) bool { return strings.HasPrefix(arg, name+"=") })
		if asArgument && at >= 0 {
			value = strings.TrimPrefix(args[at], name+"=")
		}
		if strings.Contains(value, flag) {
			continue
		}
		value += " " + flag
		if at < 0 {
			at, args = len(args), append(args, "")
		}
		args[at] = name + "=" + value
		names, set[name] = append(names, name), tomlfile.Quote(value)
		says = append(says, fmt.Sprintf("%s = %q", name, value))
	}
	if len(says) == 0 {
		return nil
	}
	where, change := "in [build.env]", func(e *tomlfile.Edit) { e.SetTable("build.env", names, set) }
	if asArgument {
		where, change = "among the arguments of make", func(e *tomlfile.Edit) {
			e.SetTable("build", []string{"args"}, map[string]string{"args": tomlfile.QuoteList(args)})
		}
	}
	text := fmt.Sprintf("# %s %s.", strings.Join(says, ", "), where)
	return []*Answer{{Text: text, Detour: blind, change: func(e *tomlfile.Edit, why string) {
		change(e)
		e.Append(why + "\n" + text)
	}}}
}

// editBuildFiles is shell text, to be continued with an expression of sed, that changes the files that
// the build uses, but not those that these are made from: they would be made anew.
const editBuildFiles = `find . '(' -name '*[Mm]akefile' -o -name Makefile.in -o -name configure ` +
	`-o -name CMakeLists.txt ')' -type f -exec sed -i `

// tolerant takes -Werror out of the build files.
func tolerant(r *recipe.Recipe) []*Answer {
	return inStep(r, early(r), editBuildFiles+`'s/-Werror\([^=a-z-]\|$\)/\1/g' {} +`,
		fmt.Sprintf("# The step %s takes -Werror out of the build files.", early(r)))
}

// unwarned takes a warning that the compiler does not know out of the build files.
func unwarned(r *recipe.Recipe, c *diagnose.Cause) []*Answer {
	if c.Kind != diagnose.WrongOption || !warning.MatchString(c.Name()) || r.Build.Method == recipe.Script {
		return nil
	}
	return inStep(r, early(r), editBuildFiles+`'s/`+c.Name()+`\>//g' {} +`,
		fmt.Sprintf("# The step %s takes %s out of the build files.", early(r), c.Name()))
}

var warning = pattern.New(`^-W[a-z][a-z0-9-]*[a-z0-9]$`)

// named adds a flag to the compilers that makefiles name in their commands, or pass to other makefiles,
// where no variable counts.
func named(r *recipe.Recipe, flag string) []*Answer {
	if r.Build.Method != recipe.Make || !plainFlag.MatchString(flag) {
		return nil
	}
	return inStep(r, early(r), `find . -name '*[Mm]akefile*' -type f `+
		`-exec sed -i 's!^\t\([-@]*\)\(gcc\|cc\|g++\|c++\) !\t\1\2 `+flag+` !; `+
		`s!^\(\t.*\<CC="\)\(gcc\|cc\)!\1\2 `+flag+`!; s!^\(\t.*\<CC=\)\(gcc\|cc\) !\1"\2 `+flag+`" !' {} +`,
		fmt.Sprintf("# The step %s adds %s to the compilers that makefiles name.", early(r), flag))
}

var plainFlag = pattern.New(`^-[\w ./+,=-]+$`)

// warnings returns the flags that turn the errors in some lines back into warnings.
func warnings(lines []string) (flags []string) {
	for _, line := range lines {
		if m := asError.FindStringSubmatch(line); m != nil && !slices.Contains(flags, "-Wno-error="+m[1]) {
			flags = append(flags, "-Wno-error="+m[1])
		}
	}
	return flags
}

var asError = pattern.New(`\[-Werror=([\w+-]+)=?\d*\]`)

// lateLibraries makes the linker keep libraries that precede the objects that use them.
const lateLibraries = "-Wl,--no-as-needed"

// helpful is a flag with which the compiler accepts what it refused, and its variables: the
// compilers themselves, because makefiles set CFLAGS, unless it has to come after theirs.
func helpful(c *diagnose.Cause) (flag string, variables []string) {
	said := func(matches func(line string) bool) bool { return slices.ContainsFunc(c.Lines, matches) }
	compiler, inCXX := []string{"CC"}, ofCXX.MatchString(c.Place) || strings.Contains(c.Name(), "C++") ||
		said(ofCXX.MatchString)
	if inCXX {
		compiler = []string{"CXX"}
	}
	both := []string{"CC", "CXX"}
	switch c.Kind {
	case diagnose.CompilerTooNew:
		switch {
		case said(func(line string) bool { return strings.Contains(line, "multiple definition") }):
			return "-fcommon", []string{"CC"}
		case said(func(line string) bool { return strings.Contains(line, "mismatches non-TLS") }):
			return "-include errno.h", []string{"CC"}
		case inCXX:
			return "-std=gnu++14", compiler
		}
		return "-std=gnu17", compiler
	case diagnose.WarningError:
		if names := warnings(c.Lines); names != nil { // wins over -Werror at any position
			return strings.Join(names, " "), compiler
		}
		return "-Wno-error", []string{"CFLAGS", "CXXFLAGS"}
	case diagnose.NotRelocatable:
		return "-fPIC", both
	case diagnose.Undefined: // in a library that precedes its user on the command line
		if slices.Contains([]string{"major", "minor", "makedev"}, c.Name()) { // macros, which sys/types.h had
			return "-include sys/sysmacros.h", compiler
		}
		if c.Found != "" && said(func(line string) bool { return slices.Contains(strings.Fields(line), c.Found) }) {
			return lateLibraries, both
		}
		return "", nil
	}
	for _, line := range c.Lines {
		if m := toInclude.FindStringSubmatch(line); m != nil {
			return "-include " + m[1], compiler
		}
		if m := undeclared.FindStringSubmatch(line); m != nil && inCXX && standard[m[1]] != "" {
			return "-include " + standard[m[1]], compiler
		}
	}
	if said(func(line string) bool { return strings.Contains(line, "[-fpermissive]") }) {
		return "-fpermissive", []string{"CXX"}
	}
	return "", nil
}

// toInclude matches what compilers say of a name whose header is not included.
var toInclude = pattern.New(`(?:is defined in header|note: include) [‘'"]<([\w./+-]+)>`)

// undeclared matches a name of the C++ standard library whose header the code does not include.
// Compilers name that header only for qualified names.
var (
	undeclared = pattern.New(`[‘'](?:std::)?(\w+)[’'] (?:was not declared in this scope` +
		`|does not name a (?:template )?type)`)
	standard = map[string]string{"numeric_limits": "limits", "unique_ptr": "memory", "shared_ptr": "memory",
		"function": "functional", "bind": "functional", "sort": "algorithm",
		"find": "algorithm", "transform": "algorithm", "reverse": "algorithm", "accumulate": "numeric", "array": "array",
		"setprecision": "iomanip", "stringstream": "sstream",
		"ostringstream": "sstream", "exit": "cstdlib", "strcmp": "cstring", "memcpy": "cstring", "strlen": "cstring",
		"mutex": "mutex", "thread": "thread"}
)

// ofCXX matches places in C++.
var ofCXX = pattern.New(`/c\+\+/|\.(?:cc|cpp|cxx|C|hh|hpp|hxx)(?:[:,]|$)`)
