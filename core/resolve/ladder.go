// Package resolve works out the ladder: which release of which package has to be built, with
// which options, in which order, so that every need is met.
//
// The same shelves, request and machine give the same ladder. Solve finds a ladder whenever one
// exists; otherwise it explains why with sentences none of which can be left out. Its
// preferences are documented at Solve. It reads recipes and nothing else.
package resolve

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"fernladder/core/host"
	"fernladder/core/recipe"
	"fernladder/core/tomlfile"
	"fernladder/core/version"
)

// A Request is what a person requests, and what should stay as it is.
type Request struct {
	Wanted  []Wanted
	Options []Setting // set by the person, for any package of the ladder
	Machine host.Machine
	Pins    map[string]recipe.Pin // of tips, by package
	Kept    map[string][]Kept     // by package, most preferred first

	Held []Held // requirements for packages on the ladder

	Prefer []string // for needs that several packages can meet: those that precede all others
	Usual  []string // those that precede others that are not kept

	// HostCopies are the operating system's own copies that may replace a build, by package.
	HostCopies map[string]HostCopy
}

// Held is what the settings want of a package if the whole ladder shares it. It does not add the
// package to the ladder, and a person's request has precedence.
type Held struct {
	Wanted
	At tomlfile.Position
}

// Wanted is a requested package, with the acceptable versions.
type Wanted struct {
	Name  string
	Range version.Range
	Tip   bool // the head of a branch, as pinned

	demanded *demanded // of a tool that is resolved apart: the need that asks for it
}

// Kept is a build that is on this machine or in the lock file, and that stays if it fits. The
// zero Version is that of no release; then only the options stay.
type Kept struct {
	Version version.Version
	Options map[string]string
	Changed map[string]string // those of them that were not as they are by default, as far as that is known
	Needs   []string          // the packages it was built with
}

// A HostCopy is the operating system's own copy of a package. Its version is zero if it is not
// known.
type HostCopy struct {
	Name    string
	Version version.Version
}

// String returns NAME VERSION.
func (h HostCopy) String() string {
	if h.Version.IsZero() {
		return h.Name
	}
	return h.Name + " " + h.Version.String()
}

// ParseWanted reads NAME, NAME:RANGE or NAME:tip.
func ParseWanted(text string) (Wanted, error) {
	name, rest, ranged := strings.Cut(text, ":")
	if err := recipe.CheckName(name); err != nil {
		return Wanted{}, err
	}
	w := Wanted{Name: name}
	if !ranged {
		return w, nil
	}
	if err := w.Narrow(rest); err != nil {
		return Wanted{}, fmt.Errorf("%s: %w", text, err)
	}
	return w, nil
}

// Narrow states the wanted versions: a range, or tip.
func (w *Wanted) Narrow(text string) (err error) {
	if w.Tip = text == string(recipe.Tip); !w.Tip {
		w.Range, err = version.ParseRange(text)
	}
	return err
}

// String returns what ParseWanted reads.
func (w Wanted) String() string {
	switch {
	case w.Tip:
		return w.Name + ":" + string(recipe.Tip)
	case w.Range.String() == "any":
		return w.Name
	}
	return w.Name + ":" + w.Range.String()
}

// A Setting is an option of a package that a person has set.
type Setting struct {
	Package, Option, Value string
	At                     tomlfile.Position // in the settings; zero: on the command line
}

// A Ladder is a plan: every package to build.
type Ladder struct {
	Packages []*Package // those on lower rungs first, by name within a rung
}

// A Package is one package of a ladder, with everything about it decided.
type Package struct {
	Recipe  *recipe.Recipe
	Release *recipe.Release
	Options map[string]string // of every option the release has
	Missed  []tomlfile.Pair   // options that were chosen earlier, and that the release has not, or not as they were
	Needs   []Link            // that other packages of the ladder meet
	ByHost  []HostLink        // needs that the operating system meets
	Rung    int               // 1 for packages without needs
	Asked   bool              // by a person, rather than by another package
	Why     []Demand          // its requesters, at least one
	Kept    bool              // it is in the version that was kept
	Apart   bool              // a tool of one package, or a need of such a tool, beside another build for the others
}

// A Link is a need that is met by another package of the ladder.
type Link struct {
	Package *Package
	Role    recipe.Role
	Need    *recipe.Need
}

// A HostLink is a need that the operating system's own copy meets.
type HostLink struct {
	HostCopy
	Need *recipe.Need
	As   *recipe.HostNeed // how the copy is recognised
}

// A Demand is one reason for a package to be on a ladder.
type Demand struct {
	By      *Package      // nil: a person
	Range   version.Range // the versions it accepts
	Tip     bool          // it wants the head of a branch
	Role    recipe.Role
	Options []tomlfile.Pair
	Or      []string          // other packages that would do
	At      tomlfile.Position // of the need in the recipe of By
}

// String says who demands what: "mistplan 2.1.0 needs >= 1.4 (FILE:LINE)".
func (d Demand) String() string {
	if d.By == nil {
		return "you asked for " + what("it", d.Range, d.Tip, nil)
	}
	return fmt.Sprintf("%s %s needs %s (%s)", d.By.Recipe.Name, d.By.Release.Version,
		strings.Join(append([]string{what("it", d.Range, false, d.Options)}, d.Or...), " or "), d.At)
}

// what names a package with the demanded versions and options. It leaves out a package called
// "it" if there is something else to say.
func what(name string, r version.Range, tip bool, options []tomlfile.Pair) string {
	text := name
	switch {
	case tip && name == "it":
		text = "the tip"
	case tip:
		text = "the tip of " + name
	case r.String() != "any" && name == "it":
		text = r.String()
	case r.String() != "any":
		text += " " + r.String()
	}
	if len(options) > 0 {
		text += " with " + settingsText(options)
	}
	return text
}

// settingsText returns options as NAME=VALUE, with commas.
func settingsText(options []tomlfile.Pair) string {
	texts := make([]string, len(options))
	for i, o := range options {
		texts[i] = o.Name + "=" + o.Values[0]
	}
	return strings.Join(texts, ", ")
}

// Name is the name of the package's recipe.
func (p *Package) Name() string { return p.Recipe.Name }

// Facts are the facts that decide the conditions of the package's recipe.
func (p *Package) Facts(m host.Machine) recipe.Facts {
	return recipe.Facts{Version: p.Release.Version, Options: p.Options, Machine: m}
}

// Changed returns the options that differ from the recipe's defaults, as NAME=VALUE in the order
// of the recipe.
func (p *Package) Changed() []string {
	var changed []string
	for _, o := range p.Recipe.Options {
		if value, has := p.Options[o.Name]; has && value != o.DefaultOf(p.Release) {
			changed = append(changed, o.Name+"="+value)
		}
	}
	return changed
}

// Chosen are the options that differ from the release's defaults, with their values.
func (p *Package) Chosen() map[string]string {
	chosen := map[string]string{}
	for _, o := range p.Recipe.Options {
		if value, has := p.Options[o.Name]; has && value != o.DefaultOf(p.Release) {
			chosen[o.Name] = value
		}
	}
	return chosen
}

// key is the same for packages that are the same build.
func (p *Package) key() string {
	text := p.Name() + " " + p.Release.Version.String()
	for _, name := range slices.Sorted(maps.Keys(p.Options)) {
		text += " " + name + "=" + p.Options[name]
	}
	for _, link := range p.Needs {
		text += fmt.Sprintf(" %p", link.Package)
	}
	for _, h := range p.ByHost {
		text += " " + h.String()
	}
	return text
}

// Rungs returns the number of rungs.
func (l *Ladder) Rungs() int {
	if len(l.Packages) == 0 {
		return 0
	}
	return l.Packages[len(l.Packages)-1].Rung
}
