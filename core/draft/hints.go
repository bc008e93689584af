package draft

import (
	"context"
	"io/fs"
	"path"
	"slices"
	"strings"

	"fernladder/core/host"
	"fernladder/core/machine"
	"fernladder/core/pattern"
	"fernladder/core/source"
	"fernladder/core/tomlfile"
)

// A Hint is what a file of the source says about building it: a text for people, a packaging, a
// dependency script or a CI configuration. These files are read and never run.
type Hint struct {
	From     string
	Packages map[string][]string // that it wants installed, by family of operating systems
	Flags    []string            // that it configures with
	Targets  []string            // of make that it names, besides the usual ones
}

var (
	// forPeople are the names of texts for people, in the order in which a person reads them.
	forPeople = []*pattern.Pattern{
		pattern.New(`(?i)^readme(?:\.(?:md|txt|rst|markdown|adoc|asciidoc|1st|unix|linux))?$`),
		pattern.New(`(?i)^(?:install(?:ation)?|build(?:ing)?|compil(?:e|ing)|hacking)(?:[._-](?:unix|linux))?(?:\.(?:md` +
			`|txt|rst|markdown|adoc|asciidoc))?$`),
	}
	tellingDirs = []string{".", "doc", "docs", ".github/workflows", ".circleci", "ci", "debian", "scripts",
		"packaging", "rpm"}
	telling = pattern.New(`(?i)^(?:\.?(?:travis|gitlab-ci|cirrus|github/workflows/[\w.-]+|circleci/config)\.ya?ml` +
		`|(?:[\w./-]*/)?(?:bootstrap|[\w-]*dep(?:s|endencies)[\w-]*)(?:\.(?:sh|bash))?|(?:[\w./-]*/)?[\w.+-]+\.spec` +
		`|debian/control)$`)

	installs = map[string]*pattern.Pattern{
		"debian": pattern.New(`(?m)\b(?:apt|apt-get` +
			`|aptitude)(?:[ \t]+-\S+)*[ \t]+install((?:[ \t]+\\?\n?[ \t]*[\w.+:=-]+)+)`),
		"fedora": pattern.New(`(?m)\b(?:dnf|yum)(?:[ \t]+-\S+)*[ \t]+install((?:[ \t]+\\?\n?[ \t]*[\w.+:=()-]+)+)`),
		"suse":   pattern.New(`(?m)\bzypper(?:[ \t]+-\S+)*[ \t]+(?:in|install)((?:[ \t]+\\?\n?[ \t]*[\w.+:=()-]+)+)`),
		"arch":   pattern.New(`(?m)\bpacman[ \t]+-S\w*((?:[ \t]+\\?\n?[ \t]*[\w.+:=-]+)+)`),
		"alpine": pattern.New(`(?m)\bapk(?:[ \t]+-\S+)*[ \t]+add((?:[ \t]+\\?\n?[ \t]*[\w.+:=-]+)+)`),
	}
	// As CI services install them.
	listedPackages = pattern.New(`(?m)^[ \t]*packages:[ \t]*\n((?:[ \t]*-[ \t]+[\w.+:'"-]+[ \t]*\n)+)`)
	buildDepends   = pattern.New(`(?m)^Build-Depends(?:-Arch)?:((?:[^\n]*\n)(?:[ \t][^\n]*\n)*)`)
	buildRequires  = pattern.New(`(?m)^BuildRequires:([^\n]*)`)
	// Suffixes for versions, architectures and the like.
	restricted = pattern.New(`\([<>=][^)]*\)|\[[^\]]*\]|<[^>\n]*>|[<>=]+[ \t]*[\w.:~+-]+|\$\{[^}]*\}`)
	makes      = pattern.New("(?m)(?:^[ \\t]*[$#>%]?[ \\t]*|[`'\"])g?make[ \\t]+([a-z][a-z0-9_-]+)\\b(?:$|[ " +
		"\\t]*[`'\"\\n;])")
	configures = pattern.New(`(?m)(?:\./configure|\bcmake|\bmeson(?:[ \t]+setup)?)((?:[ \t]+\\?\n?[ \t]*[^\s\\` +
		"`" + `]+)+)`)
	flagWord = pattern.New(`^(?:--(?:enable|disable|with|without)-[\w.+-]+(?:=[\w.+,-]+)?|-D[\w.:-]+=(?:ON|OFF` +
		`|TRUE|FALSE|YES|NO|true|false|enabled|disabled))$`)
	usualFlags   = pattern.New(`^-D(?:CMAKE_\w+|BUILD_SHARED_LIBS|BUILD_TESTING)|(?:sysroot|debug)`)
	usualTargets = []string{"all", "install", "check", "test", "tests", "clean", "distclean", "uninstall", "installcheck",
		"maintainer-clean", "mostlyclean", "dist", "sure", "it", "the", "and"}
	noPackages = []string{"and", "or", "the", "if", "for", "to", "sudo", "then", "from"}
)

// telltales lists the files that say how the source is built: first those for people, whose number
// is people.
func telltales(files fs.FS) (names []string, people int) {
	var all []string
	for _, dir := range tellingDirs {
		entries, _ := fs.ReadDir(files, dir)
		for _, e := range entries {
			if e.Type().IsRegular() {
				all = append(all, path.Join(dir, e.Name()))
			}
		}
	}
	for _, p := range forPeople {
		for _, name := range all {
			if dir := path.Dir(name); (dir == "." || dir == "doc" || dir == "docs") && p.MatchString(path.Base(name)) {
				names = append(names, name)
			}
		}
	}
	const most = 40
	people = len(names)
	for _, name := range all {
		if telling.MatchString(name) && len(names) < most {
			names = append(names, name)
		}
	}
	return names, people
}

// Hints reads what the files of a source say.
func Hints(files fs.FS) (hints []Hint) {
	t := &tree{files: files, texts: map[string]string{}}
	names, people := telltales(files)
	for i, name := range names {
		text := t.text(name)
		h := Hint{From: name, Packages: map[string][]string{}}
		for family, p := range installs {
			for _, m := range p.FindAllStringSubmatch(text, -1) {
				h.install(family, strings.Fields(strings.ReplaceAll(m[1], `\`, " ")))
			}
		}
		for _, m := range listedPackages.FindAllStringSubmatch(text, -1) {
			h.install("debian", strings.FieldsFunc(m[1], func(r rune) bool { return strings.ContainsRune(" \t\n'\"", r) }))
		}
		if path.Base(name) == "control" {
			for _, m := range buildDepends.FindAllStringSubmatch(text, -1) {
				h.install("debian", requirements(m[1]))
			}
		}
		if path.Ext(name) == ".spec" {
			for _, m := range buildRequires.FindAllStringSubmatch(text, -1) {
				h.install("fedora", requirements(m[1]))
				if strings.Contains(text, "suse_version") {
					h.install("suse", requirements(m[1]))
				}
			}
		}
		if i < people {
			h.commands(text)
		}
		if len(h.Packages)+len(h.Flags)+len(h.Targets) > 0 {
			hints = append(hints, h)
		}
	}
	return hints
}

// enough limits how many packages, flags or targets of one file are kept.
const enough = 24

// requirements returns the packages in a list of requirements; of alternatives, the first.
func requirements(list string) (names []string) {
	for part := range strings.SplitSeq(restricted.ReplaceAllString(list, ""), ",") {
		first, _, _ := strings.Cut(part, "|")
		names = append(names, strings.Fields(first)...)
	}
	return names
}

func (h *Hint) install(family string, words []string) {
	for _, word := range words {
		word = strings.TrimRight(word, ".:")
		if len(word) < 2 || strings.HasPrefix(word, "-") || strings.HasPrefix(word, "mingw") ||
			slices.Contains(noPackages, word) || host.CheckPackageName(word) != nil ||
			slices.Contains(h.Packages[family], word) || len(h.Packages[family]) == enough {
			continue
		}
		h.Packages[family] = append(h.Packages[family], word)
	}
}

// commands reads the commands that a text tells people to type.
func (h *Hint) commands(text string) {
	for _, m := range configures.FindAllStringSubmatch(text, -1) {
		for _, word := range strings.Fields(strings.ReplaceAll(m[1], `\`, " ")) {
			if flagWord.MatchString(word) && !usualFlags.MatchString(word) && !slices.Contains(h.Flags, word) &&
				len(h.Flags) < enough {
				h.Flags = append(h.Flags, plainText(word))
			}
		}
	}
	for _, m := range makes.FindAllStringSubmatch(text, -1) {
		if !slices.Contains(usualTargets, m[1]) && !slices.Contains(h.Targets, m[1]) && len(h.Targets) < enough {
			h.Targets = append(h.Targets, m[1])
		}
	}
}

// HintsOf reads those of a source that others may have changed: only regular files of it,
// behind no links.
func HintsOf(dir string) []Hint {
	files, done, err := FilesOf(dir)
	if err != nil {
		return nil
	}
	defer done()
	return Hints(files)
}

// Lines describes the hint, with the packages of one family.
func (h Hint) Lines(family string) (lines []string) {
	for _, part := range []struct {
		says  string
		words []string
	}{{" wants installed: ", h.Packages[family]}, {" configures with: ", h.Flags},
		{" names targets of make: ", h.Targets}} {
		if len(part.words) > 0 {
			lines = append(lines, h.From+part.says+strings.Join(part.words, " "))
		}
	}
	return lines
}

// packagesFor adds to the known packages for a question those that hints name for other families.
// own is the known package of this machine's family, or "".
func packagesFor(hints []Hint, q host.Question, own string, known []tomlfile.Pair) []tomlfile.Pair {
	name := q.Name
	if q.Kind == host.Header {
		name = strings.TrimSuffix(path.Base(name), path.Ext(name))
	}
	var all []tomlfile.Pair
	for _, family := range host.Families {
		if i := slices.IndexFunc(known, func(p tomlfile.Pair) bool { return p.Name == family }); i >= 0 {
			all = append(all, known[i])
			continue
		}
		if p := hinted(hints, family, func(p string) bool {
			return (stem(p) == stem(name) || own != "" && stem(p) == stem(own)) &&
				(q.Kind == host.Program || family == "arch" || strings.Contains(p, "-dev"))
		}); p != "" {
			all = append(all, tomlfile.Pair{Name: family, Values: []string{p}})
		}
	}
	return all
}

// hinted returns the only package of a family that fits, or "".
func hinted(hints []Hint, family string, fits func(string) bool) (found string) {
	for _, h := range hints {
		for _, p := range h.Packages[family] {
			if fits(p) && found != "" && found != p {
				return ""
			}
			if fits(p) {
				found = p
			}
		}
	}
	return found
}

var (
	ornament = pattern.New(`^lib|-dev(?:el)?$`)
	noLetter = pattern.New(`[^a-z0-9]`)
	counted  = pattern.New(`(?:\d+g?|\d[\d.]*)$`)
)

// stem reduces a package's name to what distributions agree on: libX11-devel and libx11-dev to
// x11, zlib-devel and zlib1g-dev to zlib.
func stem(name string) string {
	return counted.ReplaceAllString(noLetter.ReplaceAllString(ornament.ReplaceAllString(strings.ToLower(name), ""), ""),
		"")
}

// A Text is a file of the source that is written for people.
type Text struct {
	File string `json:"file"`
	Text string `json:"text"`
}

// ReadmeOf fetches an archive and returns its README and its INSTALL, as far as it has them.
// Nothing of it stays unpacked.
func ReadmeOf(ctx context.Context, m *machine.Machine, w source.Wanted) (texts []Text, err error) {
	if err := m.Store.Prepare(); err != nil {
		return nil, err
	}
	dir, done, err := m.Store.Scratch("readme")
	if err != nil {
		return nil, m.Store.Wrap(err)
	}
	defer done()
	err = m.Archives.Use(ctx, w, func(archive string) error {
		if _, err := source.Unpack(ctx, archive, dir, m.Unpacking); err != nil {
			return err
		}
		top, err := source.Top(dir)
		if err != nil {
			return err
		}
		files, done, err := FilesOf(top)
		if err != nil {
			return err
		}
		defer done()
		t := &tree{files: files, texts: map[string]string{}}
		names, people := telltales(files)
		for _, p := range forPeople {
			if i := slices.IndexFunc(names[:people], func(name string) bool { return p.MatchString(path.Base(name)) }); i >= 0 {
				texts = append(texts, Text{names[i], t.text(names[i])})
			}
		}
		return nil
	})
	return texts, m.Stored(err)
}
