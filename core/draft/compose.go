package draft

import (
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"

	"fernladder/core/build"
	"fernladder/core/buildfile"
	"fernladder/core/host"
	"fernladder/core/pattern"
	"fernladder/core/recipe"
	"fernladder/core/tomlfile"
	"fernladder/core/version"
)

// An Origin is the place that the source is from.
type Origin struct {
	URL       string   // of an archive; "" for a folder or a repository
	SHA256    string   // of the file as downloaded, unconfirmed
	Size      int64    // of the file in bytes
	Signature string   // the URL of a signature beside it, or ""
	Signers   []string // the keys that the signature says it is by
	Signer    *Signer  // the one that a person trusts, or nil

	Git, Branch, Tag, Commit string // of a repository; Tag is "" if it has none
	Svn, Revision            string
	Version                  string // that the tag, or the commits since, make
}

// Compose writes the recipe. Lines that a person should check end with a remark; open values
// have a line of their own, in comments.
func (s *Source) Compose(o Origin, d Decided, family string) string {
	c := &composer{family: family, named: map[string]bool{}, auto: map[string]bool{}}
	c.url, c.page, c.open = s.openURL(o)
	by := "the source's own files"
	if s.heard {
		by += ", and what its build asks for"
	}
	c.line("# A draft by Fern Ladder, from %s.", by)
	c.line("# Check the lines with remarks, then run fernladder check.")
	c.line("format = 1")
	c.line("")
	c.line("[package]")
	c.finding("name   ", s.Name)
	c.finding("summary", s.Summary)
	c.finding("home   ", s.Home)
	c.finding("license", s.License)
	c.knownAs(o, s)
	c.source(o, s)
	c.releases(o, s.Version)
	c.extras(s.Extras)
	for _, choice := range d.Choices {
		c.choice(choice)
	}
	c.settings(s.Settings)
	for _, w := range d.Needs {
		c.need(w, s.Hints)
	}
	c.listed(d.Perhaps, "The source seems to need these, but neither a recipe nor this machine has them.")
	c.listed(d.Itself, "The source also uses these if they are present. The build does not see them,",
		"because nothing here declares them.")
	c.hints(s.Hints)
	c.line("")
	c.line("[build]")
	c.finding("method", s.Method)
	if s.Dir != "" {
		c.line("dir    = %s   # it has the build system", quote(s.Dir))
	}
	if len(s.Args) > 0 {
		c.line("args   = %s   # guessed", list(s.Args))
	}
	if s.Method.Value == string(recipe.Configure) {
		c.line("in_tree = true   # few sources are tested in another directory")
	}
	for _, r := range s.Remarks {
		if r.Certainty == Open && r.What != "signature" {
			c.line("# open: %s: %s", r.Value, r.From)
		}
	}
	c.steps(s)
	c.upstream(o, s)
	return c.b.String()
}

// knownAs writes what the package is called elsewhere.
func (c *composer) knownAs(o Origin, s *Source) {
	if recipe.CheckName(s.Name.Value) != nil {
		return
	}
	c.line("")
	c.line("[known_as]")
	c.line("purl   = %s", quote("pkg:generic/"+s.Name.Value))
	switch {
	case recipe.CheckRepository(o.Git) == nil:
		c.line("git    = %s", quote(o.Git))
	case s.Repository.Value != "":
		c.finding("git   ", s.Repository)
	}
	if s.Distribution.Value != "" {
		c.finding("debian", s.Distribution)
	}
}

// source writes the place of releases: the URL without its version, so that later releases need
// none, and a signature beside the archive. Which keys to trust is for the person to decide, so
// that stays in comments.
func (c *composer) source(o Origin, s *Source) {
	if !c.open && o.Signature == "" {
		return
	}
	signature := "signature = " + quote(strings.ReplaceAll(o.Signature, s.Version.Value, "$FL_VERSION"))
	keys := fmt.Sprintf("keys      = [%s]", quote("keys/"+s.Name.Value+".asc"))
	c.line("")
	if c.open {
		c.line("[source]")
		key := "archive"
		if o.Signature != "" { // aligned with lines in comments
			key = "archive  "
		}
		c.line("%s = %s", key, quote(c.url))
	} else {
		signature = "signature = " + quote(o.Signature)
	}
	if o.Signature == "" {
		return
	}
	if o.Signer != nil {
		if !c.open {
			c.line("[source]")
		}
		c.line("%s\nkeys      = [%s]   # %s", signature, quote(o.Signer.File(s.Name.Value)), plainText(o.Signer.String()))
		return
	}
	c.line("# There is a signature beside the archive, by the key")
	for _, signer := range o.Signers {
		c.line("#   %s", plainText(signer))
	}
	c.line("# Get that key from its makers, compare the fingerprint, put it into keys/, and")
	c.line("# take the marks away; or draft it again and name the key:")
	if !c.open {
		c.line("# [source]")
	}
	c.line("# %s\n# %s", signature, keys)
}

// openURL is the URL of the archive with a variable in place of the version, and the page that
// lists it, if that does not depend on the version.
func (s *Source) openURL(o Origin) (url, page string, open bool) {
	v := s.Version.Value
	if !strings.HasPrefix(o.URL, "http") || len(v) < 2 || strings.Contains(o.URL, "$") {
		return "", "", false
	}
	dir, file := o.URL[:strings.LastIndexByte(o.URL, '/')+1], o.URL[strings.LastIndexByte(o.URL, '/')+1:]
	if i := strings.Index(file, v); i < 0 || strings.Count(file, v) != 1 ||
		partOfNumber.MatchString(file[:i]+"|"+file[i+len(v):]) {
		return "", "", false
	}
	url = strings.ReplaceAll(o.URL, v, "$FL_VERSION")
	if strings.Count(dir, "/") > 3 && !strings.Contains(dir, v) && !strings.ContainsAny(file, "?") {
		page = dir
	}
	return url, page, true
}

// partOfNumber matches a variable in the middle of a longer number.
var partOfNumber = pattern.New(`\d\.?\||\|\.?\d`)

// upstream writes where newer releases are announced, if the archive's URL tells.
func (c *composer) upstream(o Origin, s *Source) {
	if c.page == "" {
		return
	}
	file := o.URL[len(c.page):]
	before, after, _ := strings.Cut(file, s.Version.Value)
	c.line("")
	c.line("[upstream]   # guessed: the directory of the archive")
	c.line("page    = %s", quote(c.page))
	c.line("pattern = '%s'",
		strings.ReplaceAll(regexp.QuoteMeta(before)+`([0-9][0-9a-z.]*)`+regexp.QuoteMeta(after), "'", "."))
}

// releases writes the release and, for a repository, the tip of its branch.
func (c *composer) releases(o Origin, v Finding) {
	c.line("")
	if o.Svn != "" {
		c.line("[[release]]\ntrack = \"tip\"\nsvn   = %s", quote(o.Svn))
		c.line("\n[[release]]")
		c.finding("version ", v)
		c.line("svn      = %s\nrevision = %s", quote(o.Svn), quote(o.Revision))
		return
	}
	if o.Git != "" {
		c.line("[[release]]\ntrack  = \"tip\"\ngit    = %s\nbranch = %s", quote(o.Git), quote(o.Branch))
		c.line("\n[[release]]")
		c.finding("version", v)
		c.line("git     = %s", quote(o.Git))
		if o.Tag != "" {
			c.line("tag     = %s", quote(o.Tag))
		}
		c.line("commit  = %s", quote(o.Commit))
		return
	}
	c.line("[[release]]")
	c.finding("version", v)
	if parsed, err := version.Parse(v.Value); err == nil && parsed.Preview() {
		c.line("track   = %s", quote(string(recipe.Preview)))
	}
	if o.URL == "" {
		c.line("# open: archive = \"https://…\" and sha256 = \"…\", because a folder has neither")
		return
	}
	if !c.open {
		remark := ""
		if strings.HasPrefix(o.URL, "file:") {
			remark = "   # a file of this machine; others need the URL that it is from"
		}
		c.line("archive = %s%s", quote(o.URL), remark)
	}
	c.line("# The digest is of the file as downloaded; compare it with what the authors publish.")
	c.line("sha256  = %s", quote(o.SHA256))
	if o.Size > 0 {
		c.line("size    = %d", o.Size)
	}
}

// settings writes arguments with free values as open options, which leave the value to the
// source until a person sets one.
func (c *composer) settings(settings []buildfile.Setting) {
	for _, s := range settings {
		if s.Name == "" || c.named[s.Name] {
			continue
		}
		c.named[s.Name] = true
		c.line("")
		c.line("[option.%s]", s.Name)
		c.line("about   = %s", quote(s.About))
		c.group(s.Group)
		c.line("takes   = %s", quote(string(s.Form)))
		if s.Matches != "" {
			c.line("matches = '%s'", plainText(strings.ReplaceAll(s.Matches, "'", ".")))
		}
		if s.Between != "" {
			c.line("between = %s", quote(s.Between))
		}
		remark := ""
		if s.Usual != "" {
			remark = "   # " + plainText(s.Usual) + " in the source"
		}
		c.line("default = \"\"%s", remark)
		c.line("given   = [%s]", quote(s.Given))
	}
}

func (c *composer) group(name string) {
	if name != "" {
		c.line("group   = %s", quote(name))
	}
}

type composer struct {
	b         strings.Builder
	family    string          // of the operating system
	url, page string          // of the archive, with a placeholder for the version, and of the page that lists it
	open      bool            // the URL is
	named     map[string]bool // the options that are written
	auto      map[string]bool // those of them that the source decides
	stepping  bool            // the table of steps has begun
}

func (c *composer) line(format string, args ...any) { fmt.Fprintf(&c.b, format+"\n", args...) }

// finding writes a key, or says that it is open. A required key that is open gets a recognisable
// placeholder.
func (c *composer) finding(key string, f Finding) {
	switch {
	case f.Certainty == Open && strings.TrimSpace(key) == "summary":
		c.line("%s = \"?\"   # open: what it is, in one line", key)
	case f.Certainty == Open && f.Value == "":
		c.line("# open: %s = \"…\"%s", strings.TrimSpace(key), from(f))
	case f.Certainty == Certain:
		c.line("%s = %s", key, quote(f.Value))
	default:
		c.line("%s = %s   # %s%s", key, quote(f.Value), f.Certainty, from(f))
	}
}

func from(f Finding) string {
	if f.From == "" {
		return ""
	}
	return ", " + f.From
}

func (c *composer) arguments(key string, args []string) {
	if len(args) > 0 {
		c.line("%s = %s", key, list(args))
	}
}

// choice writes an option. If the source decides by itself by default, it writes both states;
// otherwise only those that differ from the source's default.
func (c *composer) choice(o Choice) {
	c.line("")
	c.named[o.Name] = true
	c.line("[option.%s]", o.Name)
	c.line("about   = %s", quote(o.About))
	c.group(o.Group)
	remark := ""
	if o.Remark != "" {
		remark = "   # " + plainText(o.Remark)
	}
	switch {
	case o.Values != nil:
		values := []string{}
		set := o.Set
		if set == "" {
			set = unset
			values = append(values, quote(unset)+" = []")
		}
		for _, v := range o.Order {
			args := o.Values[v]
			if v == o.Value {
				args = nil
			}
			values = append(values, fmt.Sprintf("%s = %s", quote(v), list(args)))
		}
		c.line("default = %s%s", quote(set), remark)
		c.line("values  = { %s }", strings.Join(values, ", "))
	case o.Set == string(buildfile.Auto):
		c.auto[o.Name] = true
		c.line("default = \"auto\"   # the source decides it")
		c.line("values  = { \"auto\" = [], \"on\" = %s, \"off\" = %s }", list(o.On), list(o.Off))
	default:
		c.line("default = %t%s", o.Set == "on", remark)
		if o.Default != buildfile.On {
			c.arguments("on     ", o.On)
		}
		if o.Default != buildfile.Off {
			c.arguments("off    ", o.Off)
		}
	}
}

// need writes a need on a recipe, or on the operating system.
func (c *composer) need(w Wants, hints []Hint) {
	c.line("")
	conditions := make([]string, len(w.When))
	for i, option := range w.When {
		if conditions[i] = option; c.auto[option] {
			conditions[i] += " == on"
		}
	}
	when := strings.Join(conditions, " or ")
	reason := plainText(w.Reason)
	if w.Recipe != "" {
		if !w.Sure {
			reason = "guessed by its name, for " + reason
		}
		c.line("%s", recipe.NeedEntry{Recipe: w.Recipe, Version: plainText(w.Version), Role: w.Role, When: when,
			Options: w.Options, Remark: reason}.Text())
		return
	}
	entry := recipe.HostEntry{Question: host.Question{Kind: w.Question.Kind, Name: plainText(w.Question.Name)},
		Version: plainText(w.Version), When: when, Remark: reason}
	entry.Packages = recipe.OfFamily(c.family, w.Packages...)
	// What hardly differs between systems.
	if w.Question.Kind == host.Program && host.PackageOf(w.Question.Name, c.family) != nil {
		entry.Packages = nil
		for _, family := range host.Families {
			if names := host.PackageOf(w.Question.Name, family); names != nil {
				entry.Packages = append(entry.Packages, tomlfile.Pair{Name: family, Values: names})
			}
		}
	}
	own := ""
	if i := slices.IndexFunc(entry.Packages, func(p tomlfile.Pair) bool { return p.Name == c.family }); i >= 0 {
		own = entry.Packages[i].Values[0]
	}
	entry.Packages = packagesFor(hints, w.Question, own, entry.Packages)
	c.line("%s", entry.Text())
}

// listed writes things that are not needs, as comments.
func (c *composer) listed(what []string, about ...string) {
	if len(what) == 0 {
		return
	}
	c.line("")
	for _, line := range about {
		c.line("# %s", line)
	}
	for _, w := range what {
		c.line("#   %s", plainText(w))
	}
}

// hints writes what the source's own texts say.
func (c *composer) hints(hints []Hint) {
	var lines []string
	for _, h := range hints {
		lines = append(lines, h.Lines(c.family)...)
	}
	c.listed(lines, "The source's own files say:")
}

// inSteps begins the table of steps, only once.
func (c *composer) inSteps() {
	if !c.stepping {
		c.stepping = true
		c.line("")
		c.line("[steps]")
	}
}

func (c *composer) steps(s *Source) {
	if len(s.Empty) > 0 {
		c.inSteps()
		c.line("# guessed: the archive is without documentation\nbefore_configure = '''")
		for _, name := range s.Empty {
			c.line("mkdir -p %s\nprintf '%%%%:\\n\\t@:\\nall check install:\\n' >%s", path.Dir(name), name)
		}
		c.line("'''")
	}
	if s.Prepare != "" {
		c.inSteps()
		why := "there is no makefile of the usual name"
		if s.Prepare == "./configure" {
			why = "configure knows no prefix, and makes the makefile"
		}
		for _, r := range s.Remarks {
			if r.What == "before_configure" {
				why = r.From
			}
		}
		c.line("# guessed: %s\nbefore_configure = '''\n%s\n'''", why, s.Prepare)
	}
	if s.Place {
		c.inSteps()
		c.place(s)
	}
	switch {
	case len(s.Steps) > 0:
		c.inSteps()
		for _, step := range s.Steps {
			c.line("%s = '''\n%s\n'''", step[0], strings.ReplaceAll(step[1], "'''", ""))
		}
	case s.Method.Value == string(recipe.Script) && !s.Place:
		c.inSteps()
		for _, step := range [][2]string{{"compile", "how it is built"},
			{"place", "how its files come below $DESTDIR$FL_PREFIX"}} {
			c.line("# open: %s\n%s = '''\n%s\n'''", step[1], step[0], recipe.OpenStep)
		}
	}
	for i, pair := range s.Env { // everyone's programs would follow them
		if i == 0 {
			c.line("")
			c.line("# Where others find its modules. To set it for everyone who uses the landing, take")
			c.line("# the marks away, and name the package in trusted_env in the settings.\n# [env]")
		}
		c.line("# %s = %s", pair[0], quote(pair[1]))
	}
}

// place writes the step that places what was built, if no target does.
func (c *composer) place(s *Source) {
	step, about := PlaceStep(s.Built), "what it makes is placed"
	if len(s.Built) == 0 {
		step, about = PlaceByName(s.Name.Value), "the program is called like the package"
	}
	c.line("place = '''\n%s\n'''   # guessed: there is no target that installs, and %s", step, about)
}

// PlaceByName is shell text that places a program with the name of the package, wherever it is.
func PlaceByName(name string) string {
	return PlaceStep([]string{"$(find . -type f -perm -100 -iname " + name + ")"})
}

// PlaceStep is shell text that places programs, plug-ins and libraries, named relative to the build
// directory, with headers beside the libraries, and manual pages.
func PlaceStep(built []string) string {
	var programs, plugins, libraries, headers, lines []string
	for _, name := range built {
		switch base := path.Base(name); {
		case build.IsPlugin(base):
			plugins = append(plugins, name)
			continue
		case !build.IsLibrary(base):
			programs = append(programs, name)
			continue
		}
		libraries = append(libraries, name)
		if beside := path.Join(path.Dir(name), "*.h"); !slices.Contains(headers, beside) {
			headers = append(headers, beside)
		}
	}
	for _, some := range []struct {
		files []string
		to    string
	}{{programs, "bin"}, {libraries, "lib"}, {plugins, "lib/$FL_NAME"}} {
		if len(some.files) > 0 {
			lines = append(lines, "mkdir -p $DESTDIR$FL_PREFIX/"+some.to, "for file in "+strings.Join(some.files, " ")+"; do",
				"\ttest ! -f $file || cp -P $file $DESTDIR$FL_PREFIX/"+some.to, "done")
		}
	}
	if len(libraries) > 0 {
		lines = append(lines, "mkdir -p $DESTDIR$FL_PREFIX/include", "if test -d include; then",
			"\tcp -R include/. $DESTDIR$FL_PREFIX/include", "else",
			"\tfor header in "+strings.Join(headers, " ")+"; do",
			"\t\ttest ! -f $header || cp $header $DESTDIR$FL_PREFIX/include", "\tdone", "fi")
	}
	return strings.Join(append(lines, "for page in $FL_SOURCE/*.[1-8] $FL_SOURCE/doc/*.[1-8] $FL_SOURCE/man/*.[1-8]; do",
		"\tif test -f $page; then", "\t\tmkdir -p $DESTDIR$FL_PREFIX/share/man/man${page##*.}",
		"\t\tcp $page $DESTDIR$FL_PREFIX/share/man/man${page##*.}", "\tfi", "done"), "\n")
}

// extras writes additional archives that the source needs. Their URLs are for a person to fill
// in, so they stay in comments.
func (c *composer) extras(extras []ExtraOf) {
	if len(extras) == 0 {
		return
	}
	c.line("")
	c.line("# The source's own files name these archives, and builds download nothing. Fill in the URLs and")
	c.line("# digests that are missing, and take the marks away.")
	for _, e := range extras {
		from := e.URL
		if from == "" {
			from = "https://…/" + e.File
		}
		sum := e.SHA256
		if sum == "" {
			sum = "…"
		}
		c.line("# [[extra]]\n# name    = %s\n# archive = %s\n# sha256  = %s\n# into    = %s", quote(e.Name), quote(from),
			quote(sum), quote(e.Into))
		if e.Arg != "" {
			c.line("# and in args of [build]: %s", quote(e.Arg))
		}
	}
}

func list(args []string) string {
	quotes := make([]string, len(args))
	for i, a := range args {
		quotes[i] = quote(a)
	}
	return "[" + strings.Join(quotes, ", ") + "]"
}

// quote writes a text as a TOML string in one line.
func quote(text string) string { return tomlfile.Quote(plainText(text)) }

// plainText makes one line of a text from a source, and leaves out what does not belong in a
// recipe.
func plainText(text string) string {
	const longest = 200
	text = strings.Map(func(c rune) rune {
		if c < ' ' || c == 0x7f || c == 0xfeff {
			return -1
		}
		return c
	}, strings.Join(strings.Fields(text), " "))
	if len(text) > longest {
		text = strings.ToValidUTF8(text[:longest], "")
	}
	return text
}
