package landing

import (
	"cmp"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"

	"fernladder/core/problem"
	"fernladder/core/recipe"
	"fernladder/core/safefs"
	"fernladder/core/store"
)

// An Arrangement is the set of links of a state.
type Arrangement struct {
	Links map[string]Target // by their paths below the landing
	Named []Naming          // names that are not linked, or needed a decision
}

// A Target is the file or directory of a tree that a link leads to.
type Target struct {
	store.Ref
	Path string // below the tree
}

// A Naming is a file of a member that is not linked under its own name, or that has a name of
// the operating system.
type Naming struct {
	Build  store.Ref `json:"build"`
	File   string    `json:"file"`
	As     []string  `json:"as"` // the names that it has on the landing
	Why    Why       `json:"why"`
	System string    `json:"system,omitempty"` // the operating system's program of the name
	Winner string    `json:"winner,omitempty"` // the package that has the name
}

// Why is the reason for a naming.
type Why string

// The reasons.
const (
	BySystem  Why = "system"        // the operating system has a program of the name, which comes first
	OverIt    Why = "before_system" // it has, and ours was let before it
	ByRule    Why = "settings"      // the settings say so
	ByWinner  Why = "winner"        // another package was decided to have the name
	ByLink    Why = "link"          // it is a link at the top of the tree, in the place of a directory
	ByFronted Why = "beside"        // another build of the package has the plain names
	Untrusted Why = "untrusted"     // it is not known to be harmless where others look
)

// Conflict is the error for two packages that want the same names on the landing.
type Conflict struct {
	Paths         []string // below the landing, in order; at least one
	First, Second Target   // of the first path; one may be a directory where the other is a file
	Only          []string // packages whose files all clash
}

func (e *Conflict) Error() string {
	also := ""
	if n := len(e.Paths) - 1; n > 0 {
		also = fmt.Sprintf(", and %d more of the same files", n)
	}
	return fmt.Sprintf("%s %s and %s %s both have %s%s\n  They cannot both have that name on the landing. The landing "+
		"did not change.",
		e.First.Name, e.First.Version, e.Second.Name, e.Second.Version, e.Paths[0], also)
}

// Collective reports whether a file of a tree is one that many packages have, that is only
// useful if made from all of them, and for which caches are renewed; or one of the tree's own
// records.
func Collective(file string) bool {
	switch {
	case file == "share/fernladder", strings.HasPrefix(file, "share/fernladder/"), file == "share/info/dir",
		file == "share/applications/mimeinfo.cache", file == "share/glib-2.0/schemas/gschemas.compiled",
		strings.HasPrefix(file, "share/icons/") && path.Base(file) == "icon-theme.cache":
		return true
	}
	name, mime := strings.CutPrefix(file, "share/mime/")
	return mime && slices.Contains(MIMEFiles, name)
}

// Entry reports whether a file of a tree is a desktop entry. Entries reach their tree through
// store.UsedLink.
func Entry(file string) bool {
	is, _ := path.Match("share/applications/*.desktop", file)
	return is
}

// MIMEFiles are the files of the database of MIME types; programs look in mime.cache first.
var MIMEFiles = []string{"XMLnamespaces", "aliases", "generic-icons", "globs", "globs2", "icons", "magic", "subclasses",
	"treemagic", "types", "version", "mime.cache"}

// A part is a member with its receipt and its list of files.
type part struct {
	Member
	receipt *store.Receipt
	files   []store.File
}

// places is an arrangement that is being made.
type places struct {
	rules   Rules
	beside  map[string]string // names that builds beside others have, to their packages
	links   map[string]Target
	holders map[string]*holder // of directories
	named   []Naming
	clashes map[[2]string][]string // the paths, by the two packages
	first   map[[2]string][2]Target
}

// A holder is the package that has a directory.
type holder struct {
	ref   store.Ref // one of the members that have it
	mixed bool      // others have it too, or not all of its files are linked as they are
}

// arrange works out the links of a state. It depends only on its arguments, and on the programs
// of the operating system. Its error is a *Conflict.
func arrange(parts []part, rules Rules) (*Arrangement, error) {
	p := &places{rules: rules, beside: besides(parts), links: map[string]Target{}, holders: map[string]*holder{},
		clashes: map[[2]string][]string{}, first: map[[2]string][2]Target{}}
	for _, x := range parts {
		p.add(x)
	}
	if err := p.conflict(parts); err != nil {
		return nil, err
	}
	p.fold()
	return &Arrangement{Links: p.links, Named: p.named}, nil
}

func (p *places) add(x part) {
	for _, f := range x.files {
		if Entry(f.Path) && !x.Beside {
			p.claim(store.UsedLink(x.Name), Target{x.Ref, ""})
		}
		if Collective(f.Path) {
			if !x.Beside {
				p.mix(x.Ref, f.Path)
			}
			continue
		}
		if f.Mode&fs.ModeDir != 0 {
			continue
		}
		// If a top directory, such as bin, were itself a link, it would have names that were not
		// checked.
		if f.Mode&fs.ModeSymlink != 0 && !strings.Contains(f.Path, "/") {
			p.named = append(p.named, Naming{Build: x.Ref, File: f.Path, As: []string{}, Why: ByLink})
			continue
		}
		names, naming := p.names(x, f)
		if !x.Beside && (len(names) != 1 || names[0] != f.Path) {
			p.mix(x.Ref, f.Path)
		}
		for _, name := range names {
			p.claim(name, Target{x.Ref, f.Path})
		}
		if naming != nil {
			p.named = append(p.named, *naming)
		}
	}
}

// names are those under which a file of a member is linked.
func (p *places) names(x part, f store.File) ([]string, *Naming) {
	file := f.Path
	if x.Beside && Entry(file) {
		return nil, nil // it would start the build that has the plain names
	}
	var also []string
	for _, as := range x.besideNames(file) {
		if !x.Beside && p.beside[as] == x.Name {
			continue // it tells the other build from this one
		}
		if safefs.ValidName(as) && !Collective(as) && p.rules.lets(x.Name, as) &&
			(p.rules.Behind(x.Name, as, f.Mode) == "" || p.rules.before(x.receipt)) {
			also = append(also, as)
		}
	}
	naming := &Naming{Build: x.Ref, File: file}
	rule, winner := p.rules.find(x.Name, file), p.rules.winner(file)
	name := file
	switch {
	case x.Beside:
		naming.As, naming.Why = also, ByFronted
		if len(also) == 0 { // a file of many: renamed ones are reported
			return nil, nil
		}
		return also, naming
	case rule != nil && rule.Off:
		naming.As, naming.Why = also, ByRule
		return also, naming
	case rule != nil && rule.As != "":
		name = rule.As
		naming.As, naming.Why = append([]string{name}, also...), ByRule
	case winner != "" && winner != x.Name:
		naming.As, naming.Why, naming.Winner = also, ByWinner, winner
		return also, naming
	case !p.rules.lets(x.Name, file):
		naming.As, naming.Why = also, Untrusted
		return also, naming
	default:
		naming = nil
	}
	system := p.rules.Behind(x.Name, name, f.Mode)
	switch {
	case system == "":
		return append([]string{name}, also...), naming
	case p.rules.before(x.receipt):
		all := append([]string{name}, also...)
		return all, &Naming{Build: x.Ref, File: file, As: all, Why: OverIt, System: system}
	}
	return also, &Naming{Build: x.Ref, File: file, As: also, Why: BySystem, System: system}
}

// besides are the names of builds beside others.
func besides(parts []part) map[string]string {
	names := map[string]string{}
	for _, x := range parts {
		if !x.Beside {
			continue
		}
		for _, f := range x.files {
			if f.Mode&fs.ModeDir == 0 {
				for _, as := range x.besideNames(f.Path) {
					names[as] = x.Name
				}
			}
		}
	}
	return names
}

// besideNames are a file's names while another build of the package has the plain ones. A build
// by a preset that is beside others only has names that distinguish presets: those of its recipe
// or, if that has none, the names of its programs with the preset as suffix.
func (x part) besideNames(file string) []string {
	var plain, apart []string
	told := false
	for _, b := range x.receipt.Beside {
		as, is := recipe.PresetName(b.As, x.Preset)
		told = told || is
		switch {
		case b.File != file:
		case is:
			apart = append(apart, as)
		case as == b.As && !strings.Contains(as, "$"):
			plain = append(plain, as)
		}
	}
	switch {
	case x.Preset == "" || !x.Beside:
		return append(plain, apart...)
	case told:
		return apart
	case path.Dir(file) == "bin" || path.Dir(file) == "sbin":
		return []string{file + "-" + x.Preset}
	}
	return nil
}

// claim gives a name to a file, if no other file has it.
func (p *places) claim(name string, t Target) {
	if other, taken := p.links[name]; taken {
		if other != t {
			p.clash(name, other, t)
		}
		return
	}
	if h := p.holders[name]; h != nil {
		p.clash(name, Target{h.ref, name}, t)
		return
	}
	for dir := path.Dir(name); dir != "."; dir = path.Dir(dir) {
		if other, taken := p.links[dir]; taken {
			p.clash(dir, other, t)
			return
		}
	}
	p.links[name] = t
	if t.Path != name {
		p.mix(t.Ref, name)
	}
	for dir := path.Dir(name); dir != "."; dir = path.Dir(dir) {
		h := p.holders[dir]
		if h == nil {
			p.holders[dir] = &holder{ref: t.Ref}
			continue
		}
		if h.ref == t.Ref {
			break // as are those above, or they are mixed
		}
		if h.mixed {
			continue
		}
		h.mixed = true
	}
}

// mix notes that the directories above a path belong to several members.
func (p *places) mix(r store.Ref, name string) {
	for dir := path.Dir(name); dir != "."; dir = path.Dir(dir) {
		if h := p.holders[dir]; h == nil {
			p.holders[dir] = &holder{ref: r, mixed: true}
		} else {
			h.mixed = true
		}
	}
}

func (p *places) clash(name string, a, b Target) {
	key := [2]string{a.Name, b.Name}
	if len(p.clashes[key]) == 0 {
		p.first[key] = [2]Target{a, b}
	}
	p.clashes[key] = append(p.clashes[key], name)
}

// conflict is the first clash in the order of the packages' names, or nil.
func (p *places) conflict(parts []part) error {
	if len(p.clashes) == 0 {
		return nil
	}
	keys := slices.SortedFunc(maps.Keys(p.clashes), func(a, b [2]string) int {
		return cmp.Or(cmp.Compare(a[0], b[0]), cmp.Compare(a[1], b[1]))
	})
	key := keys[0]
	paths := slices.Compact(slices.Sorted(slices.Values(p.clashes[key])))
	e := &Conflict{Paths: paths, First: p.first[key][0], Second: p.first[key][1]}
	for _, x := range parts {
		files := 0
		for _, f := range x.files {
			if f.Mode&fs.ModeDir == 0 && !Collective(f.Path) {
				files++
			}
		}
		if (x.Name == key[0] || x.Name == key[1]) && files == len(paths) {
			e.Only = append(e.Only, x.Name)
		}
	}
	return e
}

// fold makes a directory that one member has alone, complete and under its own name, a single
// link; except for directories that packages share by custom, because files that are put there
// later would end up in a tree.
func (p *places) fold() {
	folded := map[string]string{} // a directory to the one that is linked, or ""
	var top func(dir string) string
	top = func(dir string) string {
		if dir == "." {
			return ""
		}
		if known, is := folded[dir]; is {
			return known
		}
		found := top(path.Dir(dir))
		if h := p.holders[dir]; found == "" && h != nil && !h.mixed && !Common(dir) {
			found = dir
		}
		folded[dir] = found
		return found
	}
	for name, t := range p.links {
		if dir := top(path.Dir(name)); dir != "" {
			delete(p.links, name)
			p.links[dir] = Target{t.Ref, dir}
		}
	}
}

// Common reports whether packages share a directory by custom: by the Filesystem Hierarchy
// Standard, the freedesktop.org specifications, and the conventions of languages.
func Common(dir string) bool {
	if !strings.Contains(dir, "/") {
		return true
	}
	parts := strings.Split(dir, "/")
	parent, base := parts[0], parts[1]
	switch {
	case parent == "lib64" || parent == "lib32":
		parent = "lib"
	case parent == "man" || parent == "info" || parent == "var" || parent == "etc":
		return true
	}
	second := parent + "/" + base
	if allCommon[second] || strings.HasPrefix(second, "share/perl") || strings.HasPrefix(second, "lib/perl") {
		return true
	}
	if len(parts) == 2 {
		// A target triplet.
		return common2[second] || strings.HasPrefix(second, "lib/python") ||
			strings.HasPrefix(second, "lib/") && strings.Count(base, "-") == 2
	}
	return len(parts) == 3 && strings.HasPrefix(second, "lib/python") && (parts[2] == "site-packages" ||
		parts[2] == "dist-packages") ||
		len(parts) == 3 && strings.HasPrefix(second, "lib/") && strings.Count(base, "-") == 2
}

// allCommon are directories that are shared with everything below them, common2 those whose
// entries can belong to one package.
var (
	allCommon = words(`
	share/man share/info share/locale share/icons share/mime share/glib-2.0 share/applications share/bash-completion
	share/zsh share/fish share/metainfo share/appdata share/dbus-1 share/polkit-1 share/gir-1.0 share/vala
	share/pixmaps share/sounds share/themes share/fonts share/pkgconfig share/aclocal share/desktop-directories
	share/xml share/sgml share/help share/gnome share/systemd lib/pkgconfig lib/systemd lib/girepository-1.0
	lib/debug lib/udev lib/sysusers.d lib/tmpfiles.d lib/modules lib/locale lib/ruby lib/node_modules share/gconf
	share/GConf share/xsessions share/wayland-sessions share/vim share/emacs share/ghostscript share/java`)
	common2 = words(`
	share/doc share/licenses share/cmake lib/cmake share/gtk-doc share/examples libexec/installed-tests
	share/defaults lib/bfd-plugins lib/security lib/mozilla`)
)

func words(text string) map[string]bool {
	set := map[string]bool{}
	for word := range strings.FieldsSeq(text) {
		set[word] = true
	}
	return set
}

// ProblemKind is the kind of the error.
func (e *Conflict) ProblemKind() problem.Kind { return problem.NoLadder }
