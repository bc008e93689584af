package resolve

import (
	"fmt"
	"slices"
	"strings"

	"fernladder/core/recipe"
	"fernladder/core/tomlfile"
)

// sentence is something that a person wrote, in a recipe or on the command line, and that can be
// quoted.
type sentence struct {
	Literal
	kind     kind
	about    *candidate
	needing  *needing      // of needs
	setting  *setting      // of hasDefault
	set      int           // of youAsked, youSet and settingsWant: which of them
	option   tomlfile.Pair // of hasNot
	demanded *demanded     // of youAsked, for a tool apart
}

// kind is what a sentence says.
type kind string

const (
	youAsked     kind = "asked"    // a package is wanted
	youSet       kind = "set"      // an option is set
	settingsWant kind = "held"     // a package has to be in these versions, if it is there
	needs        kind = "needs"    // a package needs another
	hasReleases  kind = "releases" // a package has these releases and no others
	hasDefault   kind = "default"  // an option is so unless it is demanded otherwise
	hasNot       kind = "option"   // a package has no such option, or no such value
)

// say adds a sentence, unless it was added before, and returns the literal that says that it
// counts.
func (p *formula) say(s *sentence) Literal {
	key := s.key()
	if same := p.byKey[key]; same != nil {
		return same.Literal
	}
	s.Literal = p.Variable()
	p.sentences = append(p.sentences, s)
	p.saying[s.Literal] = s
	p.byKey[key] = s
	return s.Literal
}

// key is the same for the same sentence in every problem of a request.
type key struct {
	kind          kind
	name          string       // of the package it is about
	need          *recipe.Need // of needs, and of a tool that is resolved apart
	set           int
	option, value string
}

func (s *sentence) key() key {
	switch s.kind {
	case youAsked:
		if s.demanded != nil {
			return key{kind: youAsked, need: s.demanded.needing.need}
		}
		return key{kind: youAsked, set: s.set}
	case youSet, settingsWant:
		return key{kind: s.kind, set: s.set}
	case needs:
		return key{kind: needs, need: s.needing.need}
	case hasDefault:
		return key{kind: hasDefault, name: s.about.name, option: s.setting.option.Name}
	case hasNot:
		return key{kind: hasNot, name: s.about.name, option: s.option.Name, value: s.option.Values[0]}
	}
	return key{kind: hasReleases, name: s.about.name}
}

// text is the sentence in words.
func (p *formula) text(s *sentence) string {
	c := s.about
	switch s.kind {
	case youAsked:
		w := p.request.Wanted[s.set]
		return "you asked for " + what(w.Name, w.Range, w.Tip, nil)
	case youSet:
		set := p.request.Options[s.set]
		if set.At.Line > 0 {
			return fmt.Sprintf("the settings set %s of %s to %s (%s)", set.Option, set.Package, set.Value, set.At)
		}
		return fmt.Sprintf("you set %s.%s=%s", set.Package, set.Option, set.Value)
	case settingsWant:
		h := p.request.Held[s.set]
		return fmt.Sprintf("the settings want %s (%s)", what(h.Name, h.Range, h.Tip, nil), h.At)
	case needs:
		return p.needText(s.needing)
	case hasDefault:
		o := s.setting.option
		defaults := s.setting.values[:s.setting.free]
		for i, value := range defaults {
			if value == "" {
				defaults = slices.Clone(defaults)
				defaults[i] = "nothing"
			}
		}
		return fmt.Sprintf("%s of %s is %s by default (%s)", o.Name, c.name, strings.Join(defaults, " or "), o.Position)
	case hasNot:
		if o := c.recipe.Option(s.option.Name); o != nil {
			return fmt.Sprintf("%s of %s can be: %s (%s)", o.Name, c.name, o.Can(), o.Position)
		}
		return fmt.Sprintf("%s has the options: %s (%s)", c.name, optionNames(c.recipe), c.recipe.File)
	}
	return p.releasesText(c)
}

// needText says who needs what: "mistplan 2.1 needs dewcalc >= 1.4 (FILE:LINE)".
func (p *formula) needText(n *needing) string {
	var versions []string
	all := true
	for _, x := range n.of.choices {
		switch {
		case x.release == nil:
		case p.counts(n, x) == p.yes.Not():
			all = false
		default:
			versions = append(versions, x.version.String())
		}
	}
	subject, verb := n.of.name, "needs"
	switch {
	case len(versions) == 1:
		subject += " " + versions[0]
	case !all && len(versions) <= 3:
		subject, verb = subject+" "+strings.Join(versions[:len(versions)-1], ", ")+" and "+versions[len(versions)-1], "need"
	case !all:
		subject += fmt.Sprintf(" in %d releases, %s first,", len(versions), versions[0])
	}
	target := what(strings.Join(n.need.Names(), " or "), n.need.Range, false, n.need.Options)
	if n.need.Role == recipe.Tool {
		target += " as a tool"
	}
	if slices.ContainsFunc(n.of.recipe.Options, func(o *recipe.Option) bool { return n.need.When.Mentions(o.Name) }) {
		target += " when " + n.need.When.String()
	}
	return fmt.Sprintf("%s %s %s (%s)", subject, verb, target, n.need.Position)
}

func (p *formula) releasesText(c *candidate) string {
	if c.recipe == nil {
		if len(c.missing.Shelves) == 0 {
			return "no shelf is set"
		}
		return fmt.Sprintf("no shelf has a recipe %s (searched: %s)", c.name, commas(c.missing.Shelves))
	}
	var stable, previews []string
	for _, x := range c.recipe.Releases {
		switch x.Track {
		case recipe.Stable:
			stable = append(stable, x.Version.String())
		case recipe.Preview:
			previews = append(previews, x.Version.String())
		}
	}
	text := fmt.Sprintf("%s has %s", c.name, commas(stable))
	if len(stable) == 0 {
		text = fmt.Sprintf("%s has no stable release", c.name)
	}
	if len(previews) > 0 {
		text += fmt.Sprintf(", and as previews %s", commas(previews))
	}
	for _, o := range c.recipe.Options { // that not all of them have, and that are demanded
		demanded := slices.ContainsFunc(p.demanding(c), func(n *recipe.Need) bool {
			return slices.ContainsFunc(n.Options, func(want tomlfile.Pair) bool { return want.Name == o.Name })
		})
		if demanded && o.When.String() != "" {
			text += fmt.Sprintf("; with the option %s when %s", o.Name, o.When)
		}
	}
	return fmt.Sprintf("%s (%s)", text, c.recipe.File)
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
