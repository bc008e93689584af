// Package resolve works out the ladder: which release of which package has to
// be built, with which options, in which order, so that every need of what was
// asked for is met.
//
// It promises that the same shelves, request and machine give the same ladder,
// and that a ladder it returns is complete and without cycles. It reads recipes
// and nothing else; what is already built does not concern it.
package resolve

import (
	"fmt"
	"strings"

	"fernladder/core/host"
	"fernladder/core/keyfile"
	"fernladder/core/recipe"
	"fernladder/core/version"
)

// A Request is what a person asks for.
type Request struct {
	Wanted  []Wanted
	Options []Setting // set on the command line, for any package of the ladder
	Machine host.Machine
	Pins    map[string]recipe.Pin // of the tips that are asked for, by package
}

// Wanted is a package asked for, in the versions that will do.
type Wanted struct {
	Name  string
	Range version.Range
	Tip   bool // the head of a branch, as it is pinned
}

// ParseWanted reads NAME, NAME:RANGE or NAME:tip.
func ParseWanted(text string) (Wanted, error) {
	name, rest, ranged := strings.Cut(text, ":")
	if err := recipe.CheckName(name); err != nil {
		return Wanted{}, err
	}
	w := Wanted{Name: name}
	if ranged && rest == string(recipe.Tip) {
		w.Tip = true
	} else if ranged {
		var err error
		if w.Range, err = version.ParseRange(rest); err != nil {
			return Wanted{}, fmt.Errorf("%s: %w", text, err)
		}
	}
	return w, nil
}

// A Setting is an option of a package that a person has set.
type Setting struct {
	Package, Option, Value string
}

// A Ladder is a plan: every package to build.
type Ladder struct {
	Packages []*Package // those on lower rungs first, by name within a rung
}

// A Package is one package of a ladder, with everything about it decided.
type Package struct {
	Recipe  *recipe.Recipe
	Release *recipe.Release
	Options map[string]string // of every option the recipe has
	Needs   []Link
	Rung    int      // 1 for packages that stand on nothing
	Asked   bool     // by a person, rather than by another package
	Why     []Demand // who asked for it, at least one
}

// A Link is a need that is met by another package of the ladder.
type Link struct {
	Package *Package
	Role    recipe.Role
	Need    *recipe.Need
}

// A Demand is one reason why a package is on a ladder.
type Demand struct {
	By      *Package      // nil: a person
	Range   version.Range // the versions it accepts
	Tip     bool          // it wants the head of a branch
	Options []keyfile.Pair
	At      keyfile.Position // of the need in the recipe of By
}

// String says who demands what: "mistplan 2.1.0 needs >= 1.4 (FILE:LINE)".
func (d Demand) String() string {
	if d.By == nil {
		if d.Tip {
			return "you asked for the tip"
		}
		if d.Range.String() == "any" {
			return "you asked for it"
		}
		return fmt.Sprintf("you asked for %s", d.Range)
	}
	text := fmt.Sprintf("%s %s needs it", d.By.Recipe.Name, d.By.Release.Version)
	if d.Range.String() != "any" {
		text = fmt.Sprintf("%s %s needs %s", d.By.Recipe.Name, d.By.Release.Version, d.Range)
	}
	for i, o := range d.Options {
		text += map[bool]string{true: " with ", false: ", "}[i == 0] + o.Name + "=" + o.Values[0]
	}
	return fmt.Sprintf("%s (%s)", text, d.At)
}

// Name is the name of the package's recipe.
func (p *Package) Name() string { return p.Recipe.Name }

// Facts are what the conditions of the package's recipe are decided by.
func (p *Package) Facts(m host.Machine) recipe.Facts {
	return recipe.Facts{Version: p.Release.Version, Options: p.Options, Machine: m}
}

// Changed returns the options that are not as the recipe has them by default,
// as NAME=VALUE in the order of the recipe.
func (p *Package) Changed() []string {
	var changed []string
	for _, o := range p.Recipe.Options {
		if p.Options[o.Name] != o.Default {
			changed = append(changed, o.Name+"="+p.Options[o.Name])
		}
	}
	return changed
}

// Rungs returns the number of rungs.
func (l *Ladder) Rungs() int {
	if len(l.Packages) == 0 {
		return 0
	}
	return l.Packages[len(l.Packages)-1].Rung
}
