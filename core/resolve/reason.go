package resolve

import (
	"fmt"
	"slices"
	"strings"

	"fernladder/core/keyfile"
	"fernladder/core/recipe"
)

// NoLadder is the error for a request that no ladder fits.
type NoLadder struct {
	Reasons []Reason // of the ways that were tried, at most a few; the preferred way first
}

func (e *NoLadder) Error() string {
	texts := make([]string, len(e.Reasons))
	for i, r := range e.Reasons {
		texts[i] = r.String()
	}
	return strings.Join(texts, "\nAnother way fails too: ")
}

// A Reason is a conflict in sentences: what cannot be, the demands that lead
// to it, and a way out.
type Reason struct {
	Claim  string   `json:"claim"`
	Chain  []string `json:"chain"`
	WayOut string   `json:"way_out,omitempty"`
	about  string   // the same for conflicts of the same kind between the same packages
}

// String shows the claim with a line for each sentence below it.
func (r Reason) String() string {
	text := r.Claim
	for _, sentence := range r.Chain {
		text += "\n    " + sentence
	}
	if r.WayOut != "" {
		text += "\n  " + r.WayOut
	}
	return text
}

// BadSetting is the error for an option that cannot be set as it was asked.
type BadSetting struct {
	Setting Setting
	Reason  string
}

func (e *BadSetting) Error() string { return e.Reason }

func missingReason(e *recipe.NotFound, demands []Demand) *Reason {
	r := &Reason{Claim: fmt.Sprintf("No shelf has a recipe %q (searched: %s).", e.Name, commas(e.Shelves)), Chain: sentences(demands), about: about("missing", e.Name, demands...)}
	if len(e.Shelves) == 0 {
		r.Claim = fmt.Sprintf("There is no recipe %q, for no shelf is set.", e.Name)
		r.WayOut = "Name a shelf in fernladder.toml, or make a folder to work in with: fernladder new DIR"
		return r
	}
	r.WayOut = fmt.Sprintf("Write %s/%s/%s, or take the need out.", e.Shelves[0], e.Name, recipe.FileName)
	if e.Near != "" {
		r.WayOut = fmt.Sprintf("Did you mean %q?", e.Near)
	}
	return r
}

func noReleaseReason(r *recipe.Recipe, demands []Demand) *Reason {
	reason := &Reason{Claim: fmt.Sprintf("No release of %s is what everyone needs.", r.Name), Chain: sentences(demands), about: about("release", r.Name, demands...)}
	if len(demands) == 1 {
		reason.Claim = fmt.Sprintf("%s has no release that is %s.", r.Name, demands[0].Range)
	}
	var stable, previews []string
	fitting := ""
	for _, x := range r.Releases {
		if x.Track == recipe.Tip {
			continue
		}
		if x.Track == recipe.Stable {
			stable = append(stable, x.Version.String())
			continue
		}
		previews = append(previews, x.Version.String())
		if !slices.ContainsFunc(demands, func(d Demand) bool { return !d.Range.Contains(x.Version) }) {
			fitting = x.Version.String()
		}
	}
	has := fmt.Sprintf("%s has %s", r.File, commas(stable))
	if len(stable) == 0 {
		has = fmt.Sprintf("%s has no stable release", r.File)
	}
	if len(previews) > 0 {
		has += fmt.Sprintf(", and as previews %s", commas(previews))
	}
	reason.Chain = append(reason.Chain, has)
	switch {
	case slices.ContainsFunc(demands, func(d Demand) bool { return d.Tip }) && r.Tip() == nil:
		reason.Claim = fmt.Sprintf("%s has no tip.", r.Name)
		reason.WayOut = fmt.Sprintf("Add a release with track = \"tip\", git and branch to %s, or ask for a version.", r.File)
	case fitting != "":
		reason.WayOut = fmt.Sprintf("The preview would do: ask for %s:%s.", r.Name, fitting)
	case len(demands) == 1:
		reason.WayOut = fmt.Sprintf("Add a release that fits to %s, or ask for another.", r.File)
	default:
		reason.WayOut = fmt.Sprintf("Widen one of these ranges, or add a release that fits them all to %s.", r.File)
	}
	return reason
}

func badOptionReason(r *recipe.Recipe, d Demand, want keyfile.Pair) *Reason {
	reason := &Reason{
		Claim: fmt.Sprintf("%s has no option %q.", r.Name, want.Name),
		Chain: []string{d.String(), fmt.Sprintf("%s has the options: %s", r.File, optionNames(r))},
		about: about("option", r.Name+"."+want.Name, d),
	}
	if o := r.Option(want.Name); o != nil {
		reason.Claim = fmt.Sprintf("The option %s of %s cannot be %q.", o.Name, r.Name, want.Values[0])
		reason.Chain[1] = fmt.Sprintf("it can be: %s (%s)", commas(o.Choices()), o.Position)
	}
	return reason
}

func optionClashReason(r *recipe.Recipe, o *recipe.Option, first string, firstBy Demand, second string, secondBy Demand) *Reason {
	chain := []string{fmt.Sprintf("you set %s=%s", o.Name, first), secondBy.String()}
	wayOut := fmt.Sprintf("Leave out -o %s.%s=%s, or set what needs it otherwise.", r.Name, o.Name, first)
	if firstBy.By != nil {
		chain[0] = firstBy.String()
		wayOut = "Change one of the two needs."
	}
	return &Reason{
		Claim: fmt.Sprintf("The option %s of %s cannot be both %s and %s.", o.Name, r.Name, first, second),
		Chain: chain, WayOut: wayOut, about: about("clash", r.Name+"."+o.Name, firstBy, secondBy),
	}
}

// cycleReason tells of a cycle in which last needs the first package of path,
// and each package of path needs the next.
func cycleReason(path []Link, last *Package) *Reason {
	claim, from := last.Name(), last.Name()
	var chain []string
	for _, link := range path {
		to := link.Package.Name()
		claim += " → " + to
		chain = append(chain, fmt.Sprintf("%s needs %s as %s (%s)", from, to, link.Role, link.Need.Position))
		from = to
	}
	return &Reason{
		Claim: fmt.Sprintf("These packages need each other in a circle: %s.", claim), Chain: chain, about: claim,
		WayOut: "Break the circle: take one of these needs out, or put it under an option that is off (when = …).",
	}
}

// about says what a conflict is about, leaving out the versions of those who
// demand what cannot be.
func about(kind, name string, demands ...Demand) string {
	words := []string{kind, name}
	for _, d := range demands {
		if d.By != nil {
			words = append(words, d.By.Name(), d.Range.String(), d.At.String())
		}
	}
	return strings.Join(words, "|")
}

func sentences(demands []Demand) []string {
	texts := make([]string, len(demands))
	for i, d := range demands {
		texts[i] = d.String()
	}
	return texts
}

func optionNames(r *recipe.Recipe) string {
	var names []string
	for _, o := range r.Options {
		names = append(names, o.Name)
	}
	return commas(names)
}

func commas(words []string) string {
	if len(words) == 0 {
		return "none"
	}
	return strings.Join(words, ", ")
}
