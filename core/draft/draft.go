// Package draft writes most of a recipe for an unpacked source.
//
// It reads the source's files and, in a listening room, runs its configure step. Each finding
// comes with its file and its certainty; what is not found stays open for a person. It applies
// the rules of build systems and has no list of packages.
package draft

import (
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"

	"fernladder/core/buildfile"
	"fernladder/core/pattern"
	"fernladder/core/recipe"
)

// Certainty says how reliable a finding is.
type Certainty string

// The certainties.
const (
	Certain Certainty = "certain" // the source says so itself
	Guessed Certainty = "guessed" // it follows from something that is usual
	Open    Certainty = "open"    // a person has to say
)

// A Finding is something found out about the source.
type Finding struct {
	What      string    `json:"what"` // name, version, licence, method …
	Value     string    `json:"value"`
	From      string    `json:"from,omitempty"` // the file or text it is from
	Certainty Certainty `json:"certainty"`
}

// Source is what is known about unpacked sources.
type Source struct {
	Name, Version, Summary, Home, License Finding
	Repository                            Finding // the URL of its repository
	Distribution                          Finding // its source package in Debian
	Method                                Finding
	Dir                                   string      // that the build system is in, "" for the top
	InTree                                bool        // its configure script may only run in its own directory
	Prepare                               string      // shell text that makes the configure script, or the makefile
	Empty                                 []string    // files that are missing, and can be empty
	Place                                 bool        // there is no target that installs, so the draft has to
	Built                                 []string    // programs and libraries that were made when it was listened to
	Args                                  []string    // arguments that every build needs
	Steps                                 [][2]string // shell text by the names of steps, for the method script
	Env                                   [][2]string // what the package's users get
	Extras                                []ExtraOf   // archives that it needs besides
	called, versioned                     string      // as its own files call it, where no build system says so
	targets                               []string    // of its makefile
	buildfile.Reading
	heard     bool               // its look-ups are those of its own configure step
	Hints     []Hint             // of its texts
	generated []buildfile.Lookup // programs that make the configure script
	mentioned []string           // programs that configure.ac seems not to go on without
	Remarks   []Finding          // other remarks for a person

	ownCompiler bool // its makefiles compile with a script of its own
}

// An ExtraOf is an additional archive of a source, whose digest its own files state.
type ExtraOf struct {
	Name, File, SHA256, Into, Sum string
	URL                           string // if the source names it
	Arg                           string // a build argument that makes it use the directory; or ""
}

// Read finds out what it can from the files of a source. archive is the name of their archive or
// folder.
func Read(files fs.FS, archive string) *Source {
	s := &Source{}
	if s.Dir = below(files); s.Dir != "" {
		files, _ = fs.Sub(files, s.Dir)
	}
	t := &tree{files: files, archive: archive, texts: map[string]string{}}
	t.method(s)
	t.identity(s)
	t.about(s)
	t.reading(s)
	t.wraps(s)
	s.Hints = Hints(files)
	return s
}

// Clone is a copy that can be listened to while the source stays as it was read.
func (s *Source) Clone() *Source {
	c := *s
	c.Switches, c.Lookups, c.Remarks = slices.Clone(s.Switches), slices.Clone(s.Lookups), slices.Clone(s.Remarks)
	return &c
}

// Confirm takes the origin of the source into account: the version of a tag is the name that its
// authors use.
func (s *Source) Confirm(o Origin) {
	switch {
	case o.Version != "" && s.Version.Value != o.Version:
		if s.Version.Value != "" {
			s.Remarks = append(s.Remarks, Finding{"version", s.Version.Value + " is what the source says",
				s.Version.From, Guessed})
		}
		s.Version = Finding{"version", o.Version, "the tag " + o.Tag, Guessed}
	case o.Version == "" && s.Version.Value == "" && o.Revision != "":
		s.Version = Finding{"version", "0+" + o.Revision, "the revision", Guessed}
	}
	if repository, is := branchOf(o.URL); is {
		from := "it is of a branch, and changes without notice"
		if repository != "" {
			from += "; a release of the repository does not: git = " + quote(repository)
		}
		s.Remarks = append(s.Remarks, Finding{"archive", "another source than this archive", from, Open})
	}
	switch {
	case o.Signer != nil:
		s.Remarks = append(s.Remarks, Finding{"signature", "good, by " + o.Signer.String(), o.Signature, Certain})
	case o.Signature != "":
		s.Remarks = append(s.Remarks,
			Finding{"signature", "by " + strings.Join(o.Signers, ", ") + "; find out whose key that is", o.Signature, Open})
	}
}

// below finds the directory of the build system if the top has none: the only one that has one,
// one with a usual name, or the only one two levels down; otherwise "". Directories for tests,
// documentation and other systems do not count, and neither do those that only contain another one.
func below(files fs.FS) string {
	if built(files, ".") {
		return ""
	}
	top := "."
	for range 8 {
		entries, err := fs.ReadDir(files, top)
		if err != nil || len(entries) != 1 || !entries[0].IsDir() {
			break
		}
		if top = path.Join(top, entries[0].Name()); built(files, top) {
			return top
		}
	}
	var first, second []string
	for _, dir := range subdirectories(files, top) {
		if built(files, dir) {
			first = append(first, dir)
			continue
		}
		for _, deeper := range subdirectories(files, dir) {
			if built(files, deeper) {
				second = append(second, deeper)
			}
		}
	}
	for _, found := range [][]string{first, second} {
		if len(found) == 1 {
			return found[0]
		}
		coded := slices.DeleteFunc(slices.Clone(found), func(dir string) bool {
			sub, err := fs.Sub(files, dir)
			return err != nil || !(&tree{files: sub}).compiles(".c", ".cc", ".cpp", ".cxx", ".C")
		})
		if len(coded) == 1 {
			return coded[0]
		}
		for _, name := range []string{"unix", "linux", "src", "source"} {
			if i := slices.IndexFunc(found, func(dir string) bool { // as in gmake.unix
				return slices.Contains(strings.FieldsFunc(path.Base(dir), separates), name)
			}); i >= 0 {
				return found[i]
			}
		}
	}
	return ""
}

// separates reports whether a character stands between the parts of a name.
func separates(c rune) bool { return strings.ContainsRune("._-", c) }

// aside are directories whose build system is not that of the package.
var aside = pattern.New(`(?i)^(?:\.|tests?$|testing$|testsuite|docs?$|documentation|examples?$|samples?$|demos?$` +
	`|bench|contrib|third[_-]?party|external|extern$|vendor|deps$|fuzz|win(?:dows|32|64)?$|msvc|vs\d|mac|osx|android` +
	`|ios$|packaging|debian|rpm$|makefiles$)`)

func subdirectories(files fs.FS, dir string) (found []string) {
	entries, err := fs.ReadDir(files, dir)
	for _, e := range entries {
		if err == nil && e.IsDir() && !aside.MatchString(e.Name()) {
			found = append(found, path.Join(dir, e.Name()))
		}
	}
	return found
}

// built reports whether a directory has a build system. A makefile for systems like this one is enough
// below the top, where nothing else is known of it.
func built(files fs.FS, dir string) bool {
	for _, name := range []string{"configure", "configure.ac", "configure.in", "meson.build", "CMakeLists.txt", "Makefile",
		"makefile", "GNUmakefile", "Makefile.PL", "Build.PL", "pyproject.toml", "setup.py", "Cargo.toml", "go.mod", "wscript",
		"SConstruct"} {
		if info, err := fs.Stat(files, path.Join(dir, name)); err == nil && info.Mode().IsRegular() {
			return true
		}
	}
	entries, _ := fs.ReadDir(files, dir)
	return dir != "." &&
		slices.ContainsFunc(entries, func(e fs.DirEntry) bool { return unixMakefile.MatchString(e.Name()) })
}

// tree is an unpacked source, with what was read of it.
type tree struct {
	files   fs.FS
	archive string
	texts   map[string]string
	read    int // bytes of them
}

// longestText is how much of a file is read, and mostText of all together, which stay in memory: no
// real build files are longer, and hostile ones must not fill it.
const longestText, mostText = 4 << 20, 128 << 20

// text returns a file's contents, or "" if there is none.
func (t *tree) text(name string) string {
	if text, known := t.texts[name]; known {
		return text
	}
	text := ""
	if f, err := t.files.Open(name); err == nil {
		data, err := io.ReadAll(io.LimitReader(f, int64(min(longestText, mostText-t.read))))
		if t.read += len(data); err == nil {
			text = strings.ToValidUTF8(string(data), "?")
		}
		f.Close()
	}
	t.texts[name] = text
	return text
}

func (t *tree) has(name string) bool {
	info, err := fs.Stat(t.files, name)
	return err == nil && info.Mode().IsRegular()
}

// first returns the first of several files that exists, or "".
func (t *tree) first(names ...string) string {
	i := slices.IndexFunc(names, t.has)
	if i < 0 {
		return ""
	}
	return names[i]
}

// match returns the first group of a pattern in a file, or "".
func (t *tree) match(name string, pattern *pattern.Pattern) string {
	if m := pattern.FindStringSubmatch(t.text(name)); m != nil {
		return strings.TrimSpace(m[1])
	}
	return ""
}

// method decides how the source is built. An existing configure script is what most users are
// meant to run; otherwise the newer build system counts.
func (t *tree) method(s *Source) {
	found := func(m recipe.Method, from string, c Certainty) {
		s.Method = Finding{"method", string(m), from, c}
	}
	generator := t.first("autogen.sh", "bootstrap", "bootstrap.sh", "buildconf", "autoconf.sh")
	ac := t.first("configure.ac", "configure.in")
	var others []string
	for _, name := range []string{"configure", "meson.build", "CMakeLists.txt"} {
		if t.has(name) {
			others = append(others, name)
		}
	}
	byHand := t.has("configure") && !strings.Contains(t.text("configure"), "Generated by GNU Autoconf")
	switch {
	case byHand && t.has("CMakeLists.txt") && strings.Contains(t.text("configure"), "cmake"):
		found(recipe.CMake, "CMakeLists.txt", Certain) // which the script only calls
	case byHand && installTarget.MatchString(t.text("Makefile.in")) && !strings.Contains(t.text("configure"), "prefix") &&
		!strings.Contains(t.text("Makefile.in"), "prefix"):
		t.makefile(s, "Makefile.in")
		s.Prepare = "./configure"
	case t.has("configure"):
		found(recipe.Configure, "configure", Certain)
		t.leftOut(s)
		if in := t.text("Makefile.in"); in != "" && !installTarget.MatchString(in) && !strings.Contains(in, "include") {
			s.Place = true
			s.Remarks = append(s.Remarks, Finding{"steps", "place", "Makefile.in has no install target", Guessed})
		}
		if s.InTree = byHand; !byHand {
			t.unplaced(s)
		}
	case t.has("meson.build"):
		found(recipe.Meson, "meson.build", Certain)
	case t.has("CMakeLists.txt"):
		found(recipe.CMake, "CMakeLists.txt", Certain)
	case ac != "":
		found(recipe.Configure, ac, Certain)
		s.Prepare = "autoreconf -fi"
		if generator != "" {
			// Some configure the source as well, whatever their arguments.
			s.Prepare = "NOCONFIGURE=1 sh ./" + generator + "\ntest ! -f config.status || make distclean"
		}
		s.prepare(s.Prepare, "there is no configure script")
		s.generators(t.text(ac), ac)
	case t.own() && t.scripted(s):
	case t.first("GNUmakefile", "makefile", "Makefile") != "":
		t.makefile(s, t.first("GNUmakefile", "makefile", "Makefile"))
	case t.ofUnix() != "":
		name := t.ofUnix()
		t.makefile(s, name)
		s.Prepare = "cp " + name + " Makefile"
	case t.writes() != "":
		name := t.writes()
		t.makefile(s, name)
		s.Prepare = "sh " + name
	case t.scripted(s):
	case t.data(s):
	default:
		found(recipe.Script, "", Open)
		s.Remarks = append(s.Remarks, Finding{"steps", "compile and place", "no build system is recognised", Open})
	}
	if len(others) > 1 {
		s.Remarks = append(s.Remarks, Finding{"method", "also possible: " + strings.Join(others[1:], ", "), "", Guessed})
	}
}

// prepare has a command run before the configure step.
func (s *Source) prepare(command, from string) {
	s.Prepare = command
	s.Remarks = append(slices.DeleteFunc(s.Remarks, func(f Finding) bool { return f.What == "before_configure" }),
		Finding{"before_configure", strings.ReplaceAll(command, "\n", "; "), from, Guessed})
}

// unplaced has a step place what was built if the makefile is not one of the configure script's, and
// has no install target.
func (t *tree) unplaced(s *Source) {
	made := configFiles.FindStringSubmatch(t.text("configure"))
	if made != nil && t.has("Makefile") && !t.has("Makefile.in") &&
		!slices.Contains(strings.Fields(made[1]), "Makefile") && !installTarget.MatchString(t.text("Makefile")) {
		s.Place = true
		s.Remarks = append(s.Remarks, Finding{"steps", "place", "Makefile has no install target", Guessed})
	}
}

// leftOut finds makefiles of documentation that the configure script makes from files that the
// archive lacks, because its distributor left out the documentation. Empty files will do.
func (t *tree) leftOut(s *Source) {
	for _, m := range configFiles.FindAllStringSubmatch(t.text("configure"), 1000) {
		for name := range strings.FieldsSeq(m[1]) {
			if documentation.MatchString(name) && plainPath.MatchString(name) && !t.has(name+".in") {
				s.Empty = append(s.Empty, name+".in")
				s.Remarks = append(s.Remarks,
					Finding{"before_configure", "an empty " + name + ".in",
						"the archive has none, though its configure script makes " + name, Guessed})
			}
		}
	}
}

var (
	configFiles   = pattern.New(`(?m)^\s*ac_config_files="\$ac_config_files ([^"]*)"`)
	documentation = pattern.New(`^(?:docs?|documentation|man|manual|info)/(?:[\w.-]+/)*Makefile$`)
)

// ofUnix is the makefile for systems like this one, if there are several for different systems,
// or "".
func (t *tree) ofUnix() string {
	names, _ := fs.Glob(t.files, "*")
	others, _ := fs.Glob(t.files, "makefiles/*") // to be copied to the top
	names = append(names, others...)
	i := slices.IndexFunc(names, func(name string) bool {
		return unixMakefile.MatchString(path.Base(name)) && plainPath.MatchString(name)
	})
	if i < 0 {
		return ""
	}
	return names[i]
}

var unixMakefile = pattern.New(`(?i)^(?:makefile[._-](?:unx|unix|u|linux|posix|gcc|gnu|std)` +
	`|(?:unix|linux|posix)\w*\.mak)$`)

// writes is a script that writes the makefile and asks nothing, or "".
func (t *tree) writes() string {
	name := t.first("Configure", "configure.sh", "config", "config.sh")
	if text := t.text(name); !writesMakefile.MatchString(text) || asksSomething.MatchString(text) {
		return ""
	}
	return name
}

var (
	writesMakefile = pattern.New(`(?s)^(?::|#! ?/\S+sh)\n.*>+ *["']?[Mm]akefile\b`)
	asksSomething  = pattern.New(`(?m)^\s*read\s+\w`)
)

// own reports whether a makefile, if there is one, is only for developers of the source: the
// language has a build system of its own, and the makefile installs nothing.
func (t *tree) own() bool {
	if t.first("Makefile.PL", "Build.PL") != "" {
		return true
	}
	return t.first("pyproject.toml", "setup.py", "Cargo.toml", "go.mod") != "" &&
		!installTarget.MatchString(t.text(t.first("GNUmakefile", "makefile", "Makefile")))
}

// generators notes the programs that make a configure script.
func (s *Source) generators(text, from string) {
	need := func(program string) { s.needs("program", from, program) }
	need("autoreconf")
	need("automake") // or its aclocal
	if libtool.MatchString(text) {
		need("libtoolize")
	}
	// Archives of releases contain what these make; repositories do not.
	if strings.Contains(text, "PROG_LEX") {
		need("flex")
	}
	if strings.Contains(text, "AC_PROG_YACC") {
		need("bison")
	}
	if strings.Contains(text, "AM_GNU_GETTEXT") {
		need("autopoint")
		need("msgfmt") // its package has the macros
	}
}

var libtool = pattern.New(`\b(LT_INIT|AC_PROG_LIBTOOL|AM_PROG_LIBTOOL)\b`)

var installTarget = pattern.New(`(?m)^(?:[\w./-]+[ \t]+)*install(?:[ \t]+[\w./-]+)*[ \t]*:`)

// ownCompiler matches a compiler in the source itself.
var ownCompiler = pattern.New(`(?m)^[ \t]*CC[ \t]*[:?]?=[ \t]*\.{1,2}/`)

// makefile finds out how a plain makefile takes the place to install in.
func (t *tree) makefile(s *Source, name string) {
	s.Method = Finding{"method", string(recipe.Make), name, Certain}
	text := t.text(name)
	nested, _ := fs.Glob(t.files, "*/[Mm]akefile")
	s.ownCompiler = slices.ContainsFunc(append(nested, name), func(file string) bool {
		return ownCompiler.MatchString(t.text(file))
	})
	for _, m := range makeTarget.FindAllStringSubmatch(text, -1) {
		s.targets = append(s.targets, m[1])
	}
	if !installTarget.MatchString(text) {
		s.Place = true
		s.Remarks = append(s.Remarks, Finding{"steps", "place", name + " has no install target", Guessed})
	}
	if m := ownDestdir.FindStringSubmatch(text); m != nil {
		// Here, DESTDIR is the place itself.
		value := prefixReference.ReplaceAllString(m[1], "$$FL_PREFIX")
		s.Args = append(s.Args, "DESTDIR="+value)
		s.Remarks = append(s.Remarks,
			Finding{"args", "DESTDIR=" + value, name + ", which means the place to install in by it", Guessed})
	}
	if m := fixedLibrary.FindString(text); m != "" {
		s.prepare(`sed -i 's,/usr/lib[a-z0-9_/-]*/lib\([A-Za-z0-9_+-]*\)\.\(a\|so\)\>,-l\1,g' `+name,
			name+" names the file of a library, "+strings.TrimSpace(m))
	}
	seen := map[string]bool{}
	for _, m := range placeVariable.FindAllStringSubmatch(text, -1) {
		if !seen[m[1]] && m[2] != "/var/tmp" {
			seen[m[1]] = true
			below := strings.TrimPrefix(strings.TrimPrefix(m[2], "/usr/local"), "/usr")
			if below == "/man" || strings.HasPrefix(below, "/man/") {
				below = "/share" + below
			}
			value := "$FL_PREFIX" + below
			s.Args = append(s.Args, m[1]+"="+value)
			s.Remarks = append(s.Remarks, Finding{"args", m[1] + "=" + value, name + ", which would place files in " +
				m[2], Guessed})
		}
	}
	if prefixVariable.MatchString(text) {
		return
	}
	if m := otherPrefix.FindStringSubmatch(text); m != nil && !seen[m[1]] {
		s.Args = append(s.Args, m[1]+"=$FL_PREFIX")
		s.Remarks = append(s.Remarks,
			Finding{"args", m[1] + "=$FL_PREFIX", name + ", which has neither PREFIX nor prefix", Guessed})
		return
	}
	if len(seen) > 0 {
		return
	}
	if !s.Place && strings.Contains(text, "/usr/local") {
		s.Steps = [][2]string{{"before_place", `# the makefile always installs in /usr/local
find . -name '*[Mm]akefile*' -type f -exec sed -i \
	's,/usr/local/man,/usr/local/share/man,g; s,/usr/local,$(DESTDIR)$(PREFIX),g' {} +`}}
		s.Remarks = append(s.Remarks, Finding{"steps", "before_place", name + " always installs in /usr/local", Guessed})
		return
	}
	s.Remarks = append(s.Remarks, Finding{"args", "the variable for the place to install in",
		name + " knows neither PREFIX nor prefix", Open})
}

var (
	// A library of the operating system by its file, which others do not have there.
	fixedLibrary    = pattern.New(`(?m)^[^#\n]*[ \t=]/usr/lib[a-z0-9_/-]*/lib[\w+-]+\.(?:a|so)\b`)
	makeTarget      = pattern.New(`(?m)^([\w.+-]+)[ \t]*:(?:[^=]|$)`)
	ownDestdir      = pattern.New(`(?m)^[ \t]*DESTDIR[ \t]*[?:]?=[ \t]*(\S+)[ \t]*$`)
	prefixReference = pattern.New(`\$[({](?:PREFIX|prefix)[)}]`)
	prefixVariable  = pattern.New(`(?m)\$[({](?:PREFIX|prefix)[)}]|^[ \t]*(?:export[ \t]+)?(?:PREFIX|prefix)[ \t]*[?:]?=`)
	// Absolute paths that a makefile gives names to.
	placeVariable = pattern.New(`(?m)^[ \t]*([A-Za-z_]*(?i:dir|path))[ \t]*[?:]?=[ \t]*(/(?:etc|var|lib/(?:systemd` +
		`|udev)|usr/(?:local/)?(?:s?bin|lib|libexec|share|man|games))(?:/[\w./+-]*)?)[ \t]*$`)
	// Another name for the place to install in: a variable whose value is an absolute path that is
	// usually installed in.
	otherPrefix = pattern.New(`(?m)^[ \t]*(\w*(?:INSTALL|install|PREFIX|prefix|ROOT` +
		`|TOP)\w*)[ \t]*[?:]?=[ \t]*/(?:usr(?:/local)?|opt)[\w./-]*[ \t]*$`)
)
