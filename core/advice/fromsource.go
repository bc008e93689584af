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
	"fernladder/core/pattern"
	"fernladder/core/recipe"
	"fernladder/core/safefs"
	"fernladder/core/tomlfile"
)

// writers are programs that write documentation, by the variables with which build files call
// them. A no-op in their place skips the documentation, or keeps the archive's copy.
var writers = map[string]string{"makeinfo": "MAKEINFO", "help2man": "HELP2MAN", "xsltproc": "XSLTPROC",
	"pod2man": "POD2MAN", "doxygen": "DOXYGEN", "asciidoc": "ASCIIDOC", "a2x": "A2X", "txt2man": "TXT2MAN",
	"groff": "GROFF"}

// withArguments adds arguments to those of a recipe.
func withArguments(r *recipe.Recipe, says string, args ...string) *Answer {
	return &Answer{Text: says, Args: args, change: func(e *tomlfile.Edit, why string) {
		AddArguments(e, r, args...)
		e.Append(why + "\n" + says)
	}}
}

// AddArguments adds arguments to those of a recipe's build.
func AddArguments(e *tomlfile.Edit, r *recipe.Recipe, args ...string) {
	e.SetTable("build", []string{"args"},
		map[string]string{"args": tomlfile.QuoteList(slices.Concat(r.Build.Args, args))})
}

// undocumented goes without a program that only writes documentation.
func undocumented(r *recipe.Recipe, c *diagnose.Cause) []*Answer {
	variable := writers[c.Name()]
	if c.Kind != diagnose.MissingProgram || variable == "" ||
		r.Build.Method != recipe.Configure && r.Build.Method != recipe.Make {
		return nil
	}
	arg := variable + "=true"
	if slices.Contains(r.Build.Args, arg) {
		return nil
	}
	a := withArguments(r, fmt.Sprintf("# The argument %s is added: documentation is not written anew.", arg), arg)
	a.Detour = true
	return []*Answer{a}
}

// visited matches documentation files, which builds visit and need nothing of.
var visited = pattern.New(`(?:^|/)(?:docs?|man|doc-\w+|manual|po|examples?|samples?|demos?|tests?)/|\.(?:texi` +
	`|texinfo|txi|info|[1-8]|html?|md|rst|txt|in)$`)

// standIn creates an empty file in place of one that the archive lacks, if that is part of the
// documentation, or of something else that a build only visits.
func standIn(r *recipe.Recipe, f *build.Failure) []*Answer {
	c := f.Cause
	if c == nil || c.Kind != diagnose.MissingInSource || r.Build.Method == recipe.Script {
		return nil
	}
	name := inSource(c, c.Name())
	if name == "" || !visited.MatchString(name) {
		return nil
	}
	line := fmt.Sprintf("mkdir -p %s; test -e %s || : >%s   # a stand-in: the archive lacks it", path.Dir(name),
		name, name)
	answers := inStep(r, early(r), line, fmt.Sprintf("# The archive lacks %s. An empty file stands in for it, in the "+
		"step %s; the repository may have it.", name, early(r)))
	for _, a := range answers {
		a.Detour = true
	}
	return answers
}

// inSource is the name, in the source, of a file that a log names; "" for one that is elsewhere.
func inSource(c *diagnose.Cause, name string) string {
	if _, rest, is := strings.Cut(name, "/box/source/"); is {
		name = rest
	} else if !filepath.IsAbs(name) {
		name = path.Join(entered(c.Lines), name)
	}
	if name = path.Clean(name); !filepath.IsLocal(name) || !plainPath.MatchString(name) {
		return ""
	}
	return name
}

// early is the step that prepares the source.
func early(r *recipe.Recipe) string {
	if r.Build.Method == recipe.Make {
		return "before_compile"
	}
	return "before_configure"
}

// inStep adds a line to a step, unless it is there.
func inStep(r *recipe.Recipe, step, line, says string) []*Answer {
	if strings.Contains(r.Step(step), line) {
		return nil
	}
	return []*Answer{asStep(step, strings.Trim(r.Step(step)+"\n"+line, "\n"), says)}
}

// asStep makes a script a step.
func asStep(step, script, says string) *Answer {
	return &Answer{Text: says, change: func(e *tomlfile.Edit, why string) {
		e.SetTable("steps", []string{step}, map[string]string{step: "'''\n" + script + "\n'''"})
		e.Append(why + "\n" + says)
	}}
}

// needs are the names of a recipe's needs.
func needs(r *recipe.Recipe) (names []string) {
	for _, n := range r.Needs {
		names = append(names, n.Names()...)
	}
	return names
}

// renamed has makefiles link a need's library of another name that implements what they look for:
// the need has the header of that name.
func renamed(r *recipe.Recipe, c *diagnose.Cause, e Evidence) []*Answer {
	if c.Kind != diagnose.MissingLibrary || e.Known == nil || r.Build.Method != recipe.Make {
		return nil
	}
	known, err := e.Known()
	if err != nil {
		return nil
	}
	library := known.Implements(needs(r), c.Name())
	if library == "" {
		return nil
	}
	return inStep(r, early(r), draft.Relink(c.Name(), library),
		fmt.Sprintf("# The step %s makes the makefiles link %s instead of %s.", early(r), library, c.Name()))
}

// searched has GNU make look in a need's tree for a library that is a prerequisite, as -lNAME, for which
// it only looks in the system's directories.
func searched(r *recipe.Recipe, f *build.Failure, e Evidence) []*Answer {
	if f.Cause.Kind != diagnose.MissingLibrary || e.Known == nil || r.Build.Method != recipe.Make ||
		!slices.ContainsFunc(f.Lines, prerequisite.MatchString) {
		return nil
	}
	known, err := e.Known()
	if err != nil {
		return nil
	}
	need, found := known.WithLibrary(f.Cause.Name())
	argument := "--eval=vpath lib%.so $FL_TREE_" + recipe.VariableName(need.Recipe) + "/lib"
	if !found || slices.Contains(r.Build.Args, argument) {
		return nil
	}
	return []*Answer{withArguments(r, withNeed(r, need, fmt.Sprintf("# make looks in the tree of %s, too, for the "+
		"libraries that are prerequisites.", need.Recipe)), argument)}
}

// withNeed adds the lines of a need that the recipe does not have to what an answer says.
func withNeed(r *recipe.Recipe, need recipe.NeedEntry, says string) string {
	if slices.Contains(needs(r), need.Recipe) {
		return says
	}
	return need.Text() + "\n" + says
}

var prerequisite = pattern.New(`No rule to make target ['‘]-l`)

// undescribed passes the flags of a library that the shelf has without a pkg-config module, in the
// variables that stand in for the module.
func undescribed(r *recipe.Recipe, c *diagnose.Cause, e Evidence) []*Answer {
	need, args := Undescribed(r, c, e)
	if need.Recipe == "" || slices.Contains(r.Build.Args, args[0]) {
		return nil
	}
	says := fmt.Sprintf("# %s has the library %s, but no module: the arguments %s have its flags.", need.Recipe, c.Name(),
		strings.Join(args, " "))
	return []*Answer{withArguments(r, withNeed(r, need, says), args...)}
}

// Undescribed finds the library that a missing pkg-config module would describe on the shelf: the need
// that brings it, and the arguments that stand in for the module. The need has no recipe if there is
// none, or if the source names no such variables.
func Undescribed(r *recipe.Recipe, c *diagnose.Cause, e Evidence) (need recipe.NeedEntry, args []string) {
	if c.Kind != diagnose.MissingModule || c.Flags == "" || e.Known == nil || r == nil ||
		r.Build.Method != recipe.Configure {
		return need, nil
	}
	known, err := e.Known()
	if err != nil {
		return need, nil
	}
	if need, _ = known.WithLibrary(c.Name()); need.Recipe == r.Name {
		need.Recipe = ""
	}
	return need, []string{c.Flags + "_CFLAGS=-I$FL_TREE_" + recipe.VariableName(need.Recipe) + "/include",
		c.Flags + "_LIBS=-l" + c.Name()}
}

// include adds the #include of a need's header to a file that uses what it defines: older releases
// of other libraries have made it.
func include(r *recipe.Recipe, f *build.Failure, e Evidence) []*Answer {
	c := f.Cause
	if c == nil || c.Kind != diagnose.CompileError || e.Known == nil || r.Build.Method == recipe.Script {
		return nil
	}
	known, err := e.Known()
	if err != nil {
		return nil
	}
	file, _, _ := strings.Cut(c.Place, ":")
	file = inSource(c, file)
	for _, line := range c.Lines {
		m := unknownName.FindStringSubmatch(line)
		if m == nil || file == "" {
			continue
		}
		header := known.Defines(needs(r), m[1]+m[2])
		if header == "" {
			return nil
		}
		return inStep(r, early(r), fmt.Sprintf("sed -i '1i #include <%s>' %s", header, file),
			fmt.Sprintf("# The step %s adds #include <%s> to %s, which uses %s.", early(r), header, file, m[1]+m[2]))
	}
	return nil
}

// unknownName matches a macro or a type that C code uses without a declaration.
var unknownName = pattern.New(`error: (?:[‘'](\w+)[’'] undeclared|unknown type name [‘'](\w+)[’'])`)

// regenerate runs autoreconf in place of a script of the source's own that left a Makefile.in
// out: such scripts often run the generators in an order that only works the second time.
func regenerate(r *recipe.Recipe, f *build.Failure) []*Answer {
	c, step := f.Cause, r.Step("before_configure")
	if c == nil || c.Kind != diagnose.MissingInSource || path.Base(c.Name()) != "Makefile.in" ||
		strings.Contains(step, "autoreconf") || !strings.Contains(step, "sh ./") {
		return nil
	}
	const says = "# autoreconf makes the configure script: the source's own script left Makefile.in out."
	return []*Answer{asStep("before_configure", "autoreconf -fi", says)}
}

// plainPath matches paths without a special meaning to a shell.
var plainPath = pattern.New(`^\w[\w./+-]*$`)

// entered is the directory of the source that make failed in, according to its output: it names
// the directory when it leaves it, or else when it entered it.
func entered(lines []string) string {
	failed := max(0, slices.IndexFunc(lines, func(line string) bool { return strings.Contains(line, ": *** ") }))
	for _, line := range slices.Concat(lines[failed:], reversed(lines[:failed])) {
		m := inDirectory.FindStringSubmatch(line)
		if m == nil {
			continue
		}
		for _, top := range []string{"/box/source/", "/box/build/"} {
			if _, rest, is := strings.Cut(m[1], top); is {
				return rest
			}
		}
		return ""
	}
	return ""
}

func reversed(lines []string) []string {
	lines = slices.Clone(lines)
	slices.Reverse(lines)
	return lines
}

var inDirectory = pattern.New(`(?:Entering|Leaving) directory ['"‘` + "`" + `]([^'"’]+)`)

// inside leads files that were placed outside of the tree into it, by the argument of the
// source that says where they go.
func inside(r *recipe.Recipe, f *build.Failure) []*Answer {
	if len(f.Outside) == 0 || f.Work == "" {
		return nil
	}
	var args []string
	for _, file := range f.Outside {
		arg := governs(r, f.Work, file)
		name, _, _ := strings.Cut(arg, "=")
		if arg != "" && !slices.ContainsFunc(append(slices.Clone(args), r.Build.Args...),
			func(a string) bool { return strings.HasPrefix(a, name+"=") }) {
			args = append(args, arg)
		}
	}
	if len(args) == 0 {
		return moved(r, f)
	}
	return []*Answer{withArguments(r, fmt.Sprintf("# %s: so that what went to %s is in the tree.", strings.Join(args, " "),
		path.Dir(f.Outside[0])), args...)}
}

// moved moves files that were staged outside of the tree into it, if no argument leads them there.
func moved(r *recipe.Recipe, f *build.Failure) []*Answer {
	var dirs []string
	for _, file := range f.Outside {
		dir := path.Dir(file)
		for _, whole := range []string{"/usr/local", "/usr"} {
			if strings.HasPrefix(dir, whole+"/") {
				dir = whole
				break
			}
		}
		dirs = append(dirs, dir)
	}
	slices.Sort(dirs)
	var lines []string
	for _, dir := range slices.Backward(slices.Compact(dirs)) { // what is in another first
		if !plainPath.MatchString(strings.TrimPrefix(dir, "/")) {
			return nil
		}
		to := "$DESTDIR$FL_PREFIX" + inTreeOf(dir)
		lines = append(lines, fmt.Sprintf("mkdir -p %s && cp -a $DESTDIR%s/. %s && rm -rf $DESTDIR%s", to, dir, to, dir))
	}
	return inStep(r, "after_place", strings.Join(lines, "\n"), fmt.Sprintf("# The step after_place moves what went to %s "+
		"into the tree. Link it there by hand if the operating system should use it.", path.Dir(f.Outside[0])))
}

// inTreeOf is the place in a tree of a directory of the operating system.
func inTreeOf(dir string) string {
	return strings.TrimPrefix(strings.TrimPrefix(dir, "/usr/local"), "/usr")
}

var assigns = pattern.New(`(?m)^[ \t]*(\w+)[ \t]*[?:]?=[ \t]*(/[^\s#]*)`)

// governs finds the argument that says where a file goes, with a place in the tree.
func governs(r *recipe.Recipe, work, file string) string {
	box, err := safefs.OpenDir(filepath.Join(work, "box"))
	if err != nil {
		return ""
	}
	defer box.Close()
	const most = 4 << 20
	text := func(name string) string {
		data, err := box.ReadFile(path.Join("source", r.Build.Dir, name), most)
		if err != nil {
			return ""
		}
		return string(data)
	}
	dir := path.Dir(file)
	place := "$FL_PREFIX" + inTreeOf(dir)
	var reading *buildfile.Reading
	switch r.Build.Method {
	case recipe.Configure:
		reading = buildfile.ConfigureHelp(text("configure"))
	case recipe.CMake:
		reading = buildfile.CMake(text)
	case recipe.Meson:
		reading = buildfile.Meson(text)
	case recipe.Make:
		best := ""
		arg := ""
		for _, name := range []string{"GNUmakefile", "makefile", "Makefile", "config.mk", "Makefile.inc"} {
			for _, m := range assigns.FindAllStringSubmatch(text(name), -1) {
				if value := strings.TrimRight(m[2], "/"); len(value) > len(best) &&
					(dir == value || strings.HasPrefix(dir, value+"/")) {
					best, arg = value, m[1]+"=$FL_PREFIX"+inTreeOf(value)
				}
			}
		}
		return arg
	default:
		return ""
	}
	for _, part := range slices.Backward(strings.Split(strings.Trim(dir, "/"), "/")) {
		stem := buildfile.Stem(part)
		if len(stem) < 3 || slices.Contains([]string{"usr", "lib", "share", "local", "etc", "system"}, stem) {
			continue
		}
		for _, s := range reading.Settings {
			name, _, _ := strings.Cut(s.Given, "=")
			if strings.Contains(strings.NewReplacer("-", "", "_", "").Replace(strings.ToLower(name)),
				strings.TrimSuffix(stem, "s")) {
				return name + "=" + place
			}
		}
	}
	return ""
}
