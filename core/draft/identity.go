package draft

import (
	"errors"
	"io/fs"
	"path"
	"regexp"
	"slices"
	"strings"

	"github.com/google/licensecheck"

	"fernladder/core/pattern"
	"fernladder/core/recipe"
	"fernladder/core/version"
)

var (
	configureName    = pattern.New(`(?m)^PACKAGE_TARNAME='([^']+)'`)
	configureVersion = pattern.New(`(?m)^PACKAGE_VERSION='([^']+)'`)
	configureIssues  = pattern.New(`(?m)^PACKAGE_BUGREPORT='(https://[^/'\s]+/[^/'\s]+/[^/'\s]+)(?:/-)?/issues/?'`)
	configureHome    = pattern.New(`(?m)^PACKAGE_URL='(https?://[^']+)'`)
	initName         = pattern.New(`AC_INIT\(\s*\[?([^\],()\s]+)\]?\s*,`) // one argument is a file
	initVersion      = pattern.New(`AC_INIT\(\s*\[?[^,()]+\]?\s*,\s*\[?([0-9][^\],()\s]*)\]?\s*[,)]`)
	cmakeName        = pattern.New(`(?im)^\s*project\s*\(\s*"?([\w.+-]+)`)
	cmakeVersion     = pattern.New(`(?is)project\s*\([^)]*\bVERSION\s+"?([0-9][\w.+-]*)`)
	mesonName        = pattern.New(`(?s)project\s*\(\s*'([^']+)'`)
	mesonVersion     = pattern.New(`(?s)project\s*\([^)]*\bversion\s*:\s*'([^']+)'`)
	archiveParts     = pattern.New(`^(.+?)[-_]v?([0-9][A-Za-z0-9.+_~-]*?)(?:\.orig)?(?:\.(?:tar(?:\.\w+)?|tgz|tbz2?` +
		`|txz|tzst|zip))?$`)
	dated         = pattern.New(`-(?:19|20)\d{6}$`)
	archiveSuffix = pattern.New(`\.(?:tar(?:\.\w+)?|tgz|tbz2?|txz|tzst|zip)$`)
	pcDescription = pattern.New(`(?m)^Description:[ \t]*(\S.*)$`)
	pcURL         = pattern.New(`(?m)^URL:[ \t]*(https?://\S+)`)
)

// identity finds the name and version: what the build files say, because that goes into the
// result, otherwise the name of the archive.
func (t *tree) identity(s *Source) {
	archiveName, archiveVersion := "", ""
	if m := archiveParts.FindStringSubmatch(t.archive); m != nil {
		archiveName, archiveVersion = undecorated(m[1]), afterVersion.ReplaceAllString(m[2], "")
		archiveVersion, _, _ = strings.Cut(archiveVersion, "~") // additions of a distribution
		if i := strings.LastIndexByte(archiveVersion, '+'); strings.Count(archiveVersion, "+") > 1 {
			archiveVersion = archiveVersion[:i] // as that
		}
		if len(archiveVersion) >= len("7ab0241") && ofCommit.MatchString(archiveVersion) {
			archiveVersion = ""
		}
	}
	ac := t.first("configure.ac", "configure.in")
	isName := func(text string) error {
		if nameless.MatchString(text) && (text[0] < '0' || text[0] > '9' || strings.Trim(text, "0123456789.") == "") {
			return errors.New("a branch or a folder has this name")
		}
		return recipe.CheckName(text)
	}
	tidy := func(name string) string { return dated.ReplaceAllString(strings.ToLower(name), "") }
	s.Name = t.choose("name", isName, tidy, []Finding{
		{"name", notFile(t.match("configure", configureName)), "configure", Certain},
		{"name", t.match("meson.build", mesonName), "meson.build", Certain},
		{"name", notFile(t.match(ac, initName)), ac, Certain},
		{"name", s.called, s.Method.From, Certain},
		{"name", archiveName, "the archive's name", Guessed},
		{"name", t.match("CMakeLists.txt", cmakeName), "CMakeLists.txt", Guessed},
		{"name", undecorated(archiveSuffix.ReplaceAllString(t.archive, "")), "the archive's name", Guessed},
	})
	// A library's archive has the lib that its configure script leaves out.
	if tidy := strings.ToLower(archiveName); tidy == "lib"+s.Name.Value {
		s.Name = Finding{"name", tidy, "the archive's name", Guessed}
	}
	isVersion := func(text string) error { _, err := version.Parse(text); return err }
	same := func(text string) string { return text }
	s.Version = t.choose("version", isVersion, same, []Finding{
		{"version", t.match("configure", configureVersion), "configure", Certain},
		{"version", t.match("meson.build", mesonVersion), "meson.build", Certain},
		{"version", t.match("CMakeLists.txt", cmakeVersion), "CMakeLists.txt", Certain},
		{"version", t.match(ac, initVersion), ac, Certain},
		{"version", s.versioned, s.Method.From, Certain},
		{"version", archiveVersion, "the archive's name", Guessed},
		t.headerVersion(),
	})
	if archiveVersion == "" || archiveVersion == s.Version.Value || isVersion(archiveVersion) != nil {
		return
	}
	more, longer := strings.CutPrefix(archiveVersion, s.Version.Value)
	switch {
	case longer && (strings.HasPrefix(more, ".") || dated.MatchString(more)): // it says more
		s.Version = Finding{"version", archiveVersion, "the archive's name", Guessed}
	case strings.EqualFold(archiveName, s.Name.Value) && !strings.Contains(archiveVersion, s.Version.Value) &&
		version.CompareTexts(s.Version.Value, archiveVersion) < 0:
		// Its authors forgot to change the file.
		s.Remarks = append(s.Remarks,
			Finding{"version", s.Version.Value + " is what " + s.Version.From + " says", "", Guessed})
		s.Version = Finding{"version", archiveVersion, "the archive's name", Guessed}
	default:
		s.Remarks = append(s.Remarks, Finding{"version", archiveVersion + " is what the archive's name says", "", Guessed})
	}
}

// notFile drops file names, which old configure scripts begin with, to find the source.
func notFile(name string) string {
	switch path.Ext(name) {
	case ".c", ".h", ".cc", ".cpp", ".in", ".am", ".ac", ".y", ".l", ".el":
		return ""
	}
	return name
}

var headerVersion = pattern.New(`(?m)^[ \t]*#[ \t]*define[ \t]+\w*VERSION(?:_STRING|_STR)?[ \t]+"v?([0-9][\w.+-]*)"`)

// headerVersion finds a version that a header defines.
func (t *tree) headerVersion() Finding {
	for _, pattern := range []string{"*.h", "*.h.in", "include/*.h", "src/*.h", "lib/*.h", "include/*/*.h"} {
		names, _ := fs.Glob(t.files, pattern)
		for _, name := range names {
			if v := t.match(name, headerVersion); v != "" {
				return Finding{"version", v, name, Guessed}
			}
		}
	}
	return Finding{}
}

// choose takes the first finding with an acceptable value.
func (t *tree) choose(what string, check func(string) error, tidy func(string) string, candidates []Finding) Finding {
	for _, c := range candidates {
		if c.Value = tidy(c.Value); c.Value != "" && check(c.Value) == nil {
			return c
		}
	}
	return Finding{What: what, Certainty: Open}
}

// about finds summary, home page and licence.
func (t *tree) about(s *Source) {
	if s.Summary.Value == "" {
		s.Summary = Finding{What: "summary", Certainty: Open}
	}
	s.Home = Finding{What: "home", Certainty: Open}
	if home := t.match("configure", configureHome); home != "" {
		s.Home = Finding{"home", home, "configure", Certain}
	}
	modules, _ := fs.Glob(t.files, "*.pc*.in")
	for _, name := range modules {
		if text := t.match(name, pcDescription); text != "" && s.Summary.Value == "" && !strings.Contains(text, "@") {
			s.Summary = Finding{"summary", text, name, Certain}
		}
		if home := t.match(name, pcURL); home != "" && s.Home.Value == "" {
			s.Home = Finding{"home", home, name, Certain}
		}
	}
	if at := t.match("configure", configureIssues); at != "" {
		s.Repository = Finding{"repository", at, "configure", Certain}
	}
	if s.Summary.Value == "" {
		s.Summary = t.introduction(s.Name.Value)
	}
	if s.Summary.Value == "" {
		s.Summary = t.described(s.Name.Value)
	}
	s.License = t.license()
}

// Other places with a description in one line: the first line of a manual page, a package's
// description, a desktop entry.
var descriptions = []struct {
	files   []string
	pattern *pattern.Pattern
}{
	{[]string{"%s.[1-8]", "%s.[1-8].in", "*/%s.[1-8]", "*/*/%s.[1-8]"},
		pattern.New(`(?im)^\.S[Hh][ \t]+"?NAME"?[ \t]*\n(?:\.\S+.*\n)*[^\n]*?(?:\\-|\\\(em| - |^\.Nd)[ \t]*([^\n]{6,120})$`)},
	{[]string{"%s.[1-8]", "*/%s.[1-8]"}, pattern.New(`(?m)^\.Nd[ \t]+([^\n]{6,120})$`)},
	{[]string{"%s.spec*", "*.spec", "*.spec.in", "*/%s.spec*"}, pattern.New(`(?m)^Summary:[ \t]*([^\n%%]{6,120})$`)},
	{[]string{"*.desktop", "*.desktop.in", "*/*.desktop", "*/*.desktop.in"},
		pattern.New(`(?m)^_?Comment=([^\n]{6,120})$`)},
}

// described finds such a line.
func (t *tree) described(name string) Finding {
	for _, d := range descriptions {
		for _, form := range d.files {
			files, _ := fs.Glob(t.files, strings.ReplaceAll(form, "%s", name))
			for _, file := range files {
				if text := strings.TrimSuffix(t.match(file, d.pattern), "."); text != "" && !strings.ContainsAny(text, "@$\\") {
					return Finding{"summary", strings.ToUpper(text[:1]) + text[1:], file, Guessed}
				}
			}
		}
	}
	return Finding{What: "summary", Certainty: Open}
}

// introduction finds the sentence in which a README says what the package is: "Fern is a library
// for …".
func (t *tree) introduction(name string) Finding {
	open := Finding{What: "summary", Certainty: Open}
	readme := t.first("README", "README.md", "README.txt", "README.rst", "readme.md", "Readme.md", "README.markdown")
	bare := strings.TrimPrefix(name, "lib")
	if readme == "" || bare == "" {
		return open
	}
	text := strings.Join(strings.Fields(t.text(readme)), " ")
	const most = 8 << 10
	text = text[:min(len(text), most)]
	says := pattern.New(`(?i)\b(?:lib)?` + regexp.QuoteMeta(bare) +
		`[^\s.]{0,12}(?: \([^)]{1,40}\))? is (?:an? |the )([^.]{10,140})\.(?: |$)`)
	if m := says.FindStringSubmatch(text); m != nil && !strings.ContainsAny(m[1], "[]<>`|") {
		return Finding{"summary", strings.ToUpper(m[1][:1]) + m[1][1:], readme, Guessed}
	}
	return open
}

// licenseFiles are where sources usually have their licence.
var licenseFiles = []string{"LICENSE", "LICENSE.txt", "LICENSE.md", "LICENCE", "COPYING", "COPYING.txt", "COPYRIGHT",
	"License", "License.txt"}

// license compares the files that usually have the licence with the texts of
// known ones.
func (t *tree) license() Finding {
	name := t.first(licenseFiles...)
	if name == "" {
		return Finding{What: "license", Certainty: Open}
	}
	id := licenseOf([]byte(t.text(name)))
	if id == "" {
		return Finding{"license", "", name + " has to be read", Open}
	}
	for _, family := range []string{"GPL-", "LGPL-", "AGPL-"} {
		if strings.HasPrefix(id, family) {
			return t.laterVersions(id, name)
		}
	}
	return Finding{"license", id, name, Certain}
}

// common are the licences that most sources have. To get ready for all that are known
// takes longer than everything else of a draft.
var common = strings.Fields(`
	MIT ISC Zlib BSD-2-Clause BSD-3-Clause Apache-2.0 GPL-2.0 GPL-2.0-only GPL-2.0-or-later GPL-3.0 GPL-3.0-only
	GPL-3.0-or-later LGPL-2.0 LGPL-2.0-only LGPL-2.1 LGPL-2.1-only LGPL-2.1-or-later LGPL-3.0 LGPL-3.0-only AGPL-3.0
	AGPL-3.0-only MPL-2.0 BSL-1.0 CC0-1.0 Unlicense`)

// licenseOf is the licence that a text is: it consists of little else.
func licenseOf(text []byte) string {
	of := func(scan func([]byte) licensecheck.Coverage) string {
		got, longest := scan(text), licensecheck.Match{}
		for _, m := range got.Match {
			if m.End-m.Start > longest.End-longest.Start {
				longest = m
			}
		}
		const mostly = 75.0
		if got.Percent < mostly {
			return ""
		}
		return longest.ID
	}
	var few []licensecheck.License
	for _, l := range licensecheck.BuiltinLicenses() {
		if slices.Contains(common, l.ID) {
			few = append(few, l)
		}
	}
	if scanner, err := licensecheck.NewScanner(few); err == nil {
		if id := of(scanner.Scan); id != "" {
			return id
		}
	}
	return of(licensecheck.Scan)
}

// laterVersions finds out whether a licence of the GNU family may be replaced by
// its later versions. The licence does not say; the source files do.
func (t *tree) laterVersions(id, name string) Finding {
	id = strings.TrimSuffix(strings.TrimSuffix(id, "-only"), "-or-later")
	const enough = 40
	looked, found := 0, ""
	fs.WalkDir(t.files, ".", func(file string, d fs.DirEntry, err error) error {
		ext := path.Ext(file)
		if err != nil || !d.Type().IsRegular() || ext != ".c" && ext != ".h" && ext != ".cc" && ext != ".cpp" {
			return nil
		}
		if looked++; looked > enough {
			return fs.SkipAll
		}
		if strings.Contains(strings.Join(strings.Fields(t.text(file)), " "), "any later version") {
			found = file
			return fs.SkipAll
		}
		return nil
	})
	if found != "" {
		return Finding{"license", id + "-or-later", name + " and " + found, Certain}
	}
	return Finding{"license", id + "-only", name, Guessed}
}
