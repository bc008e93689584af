package resolve

import (
	"cmp"
	"slices"

	"fernladder/core/recipe"
	"fernladder/core/tomlfile"
	"fernladder/core/version"
)

// addReleases encodes that a package on the ladder has exactly one release.
func (p *formula) addReleases(c *candidate) {
	c.present, c.imagined = p.Variable(), p.Variable()
	said := p.say(&sentence{kind: hasReleases, about: c})
	if c.recipe != nil {
		p.collectReleases(c)
		copied, here := p.request.HostCopies[c.name]
		if here && c.recipe.HostCopy != nil &&
			!slices.ContainsFunc(p.request.Wanted, func(w Wanted) bool { return w.Name == c.name && w.demanded == nil }) {
			c.choices = append(c.choices, &choice{version: copied.Version})
		}
		slices.SortStableFunc(c.choices, func(a, b *choice) int { return p.compare(c, a, b) })
	}
	oneOf := []Literal{c.present.Not(), c.imagined}
	single := []Literal{c.imagined}
	for _, x := range c.choices {
		x.Literal = p.Variable()
		p.Add(x.Not(), c.present)
		oneOf = append(oneOf, x.Literal)
		single = append(single, x.Literal)
	}
	p.Add(oneOf...)
	p.addSingle(single...)
	p.Add(c.imagined.Not(), c.present)
	if c.err == nil { // a faulty recipe is reported when it is needed
		p.Add(c.imagined.Not(), said.Not())
	}
}

// collectReleases lists the candidate releases. Previews are candidates only when requested by
// exact version, and the tip when it is requested, as it is pinned; both if they are kept.
func (p *formula) collectReleases(c *candidate) {
	for _, x := range c.recipe.Releases {
		if x.Track == recipe.Tip {
			pin, pinned := p.request.Pins[c.name]
			if !pinned {
				continue
			}
			x = x.Pinned(pin)
		}
		kept := slices.ContainsFunc(p.request.Kept[c.name], func(k Kept) bool {
			return k.Version.Compare(x.Version) == 0 && !k.Version.IsZero()
		})
		able := kept || x.Track == recipe.Stable || slices.ContainsFunc(p.wanting(c), func(w Wanted) bool {
			return x.Track == recipe.Tip && w.Tip || x.Track == recipe.Preview && w.names(x.Version)
		}) || x.Track == recipe.Preview && slices.ContainsFunc(c.asking, func(a *alternative) bool {
			return exactly(a.needing.need.Range, x.Version)
		})
		if able {
			c.choices = append(c.choices, &choice{release: x, version: x.Version, kept: kept})
		}
	}
}

// wanting is what a person, or the settings, want of a package on the ladder.
func (p *formula) wanting(c *candidate) []Wanted {
	var all []Wanted
	for _, w := range p.request.Wanted {
		if w.Name == c.name {
			all = append(all, w)
		}
	}
	for _, h := range p.request.Held {
		if h.Name == c.name {
			all = append(all, h.Wanted)
		}
	}
	return all
}

// names reports whether exactly one version is requested.
func (w Wanted) names(v version.Version) bool {
	if w.demanded != nil {
		return exactly(w.demanded.needing.need.Range, v)
	}
	return exactly(w.Range, v)
}

func exactly(r version.Range, v version.Version) bool { return r.Exact() && r.Contains(v) }

// compare orders the choices of a candidate: kept ones, the host's, then the newest.
func (p *formula) compare(c *candidate, a, b *choice) int {
	rank := func(x *choice) int {
		kept := p.request.Kept[c.name]
		if i := slices.IndexFunc(kept, func(k Kept) bool { return x.kept && k.Version.Compare(x.version) == 0 }); i >= 0 {
			return i
		}
		if x.release == nil {
			return len(kept)
		}
		return len(kept) + 1
	}
	return cmp.Or(rank(a)-rank(b), b.version.Compare(a.version))
}

// addOptions encodes the values of options that are demanded with another value than the
// default. All others have their defaults.
func (p *formula) addOptions(c *candidate) {
	if c.recipe == nil {
		return
	}
	for _, o := range c.recipe.Options {
		var values []string
		add := func(value string, first bool) {
			at := slices.Index(values, value)
			switch {
			case !o.Accepts(value):
			case first && at > 0:
				values = slices.Insert(slices.Delete(values, at, at+1), 0, value)
			case first && at < 0:
				values = slices.Insert(values, 0, value)
			case at < 0:
				values = append(values, value)
			}
		}
		for _, k := range slices.Backward(p.request.Kept[c.name]) {
			if value, had := k.Options[o.Name]; had {
				add(value, true)
			}
		}
		for _, set := range p.request.Options {
			if set.Package == c.name && set.Option == o.Name {
				add(set.Value, true)
			}
		}
		said := len(values)
		for _, value := range p.defaults(c, o) {
			add(value, false)
		}
		free := len(values)
		for _, need := range p.demanding(c) {
			for _, want := range need.Options {
				if want.Name == o.Name {
					add(want.Values[0], false)
				}
			}
		}
		if len(values) == 1 {
			continue
		}
		s := &setting{option: o, values: values, said: said, free: free}
		oneOf := []Literal{c.present.Not()}
		for range values {
			s.is = append(s.is, p.Variable())
		}
		p.Add(append(oneOf, s.is...)...)
		p.addSingle(s.is...)
		c.options = append(c.options, s)
		for _, x := range c.choices { // if it is absent, one of the values stands for that
			if !p.has(x, o) {
				p.Add(x.Not(), s.is[0])
			}
		}
	}
	for i, set := range p.request.Options {
		if set.Package != c.name {
			continue
		}
		if s := c.setting(set.Option); s != nil {
			said := p.say(&sentence{kind: youSet, about: c, set: i})
			sets := []Literal{said.Not(), c.present.Not(), s.value(set.Value)}
			for _, x := range c.choices { // reported by Solve if it is among them
				if !p.has(x, s.option) {
					sets = append(sets, x.Literal)
				}
			}
			p.Add(sets...)
		}
	}
}

// defaults are an option's defaults in the candidate releases that have it, each once; if a
// package has no candidate release, the most frequent one.
func (p *formula) defaults(c *candidate, o *recipe.Option) []string {
	var all []string
	for _, x := range c.choices {
		if p.has(x, o) && !slices.Contains(all, o.DefaultOf(x.release)) {
			all = append(all, o.DefaultOf(x.release))
		}
	}
	if len(all) == 0 {
		all = append(all, o.Default)
	}
	return all
}

// has reports whether a release has an option. The operating system's own copy has none.
func (p *formula) has(x *choice, o *recipe.Option) bool {
	return x.release != nil && o.In(recipe.Facts{Version: x.version, Machine: p.request.Machine})
}

// demanding lists the needs that could demand something of a candidate.
func (p *formula) demanding(c *candidate) []*recipe.Need {
	var all []*recipe.Need
	for _, w := range p.request.Wanted {
		if w.Name == c.name && w.demanded != nil {
			all = append(all, w.demanded.needing.need)
		}
	}
	for _, a := range c.asking {
		all = append(all, a.needing.need)
	}
	return all
}

func (c *candidate) setting(option string) *setting {
	for _, s := range c.options {
		if s.option.Name == option {
			return s
		}
	}
	return nil
}

// value returns the literal for a value, or 0.
func (s *setting) value(value string) Literal {
	if i := slices.Index(s.values, value); i >= 0 {
		return s.is[i]
	}
	return 0
}

// addNeed encodes that a need which applies is met by a package that fulfils its demands.
func (p *formula) addNeed(n *needing) {
	said := p.say(&sentence{kind: needs, about: n.of, needing: n})
	n.said = said
	var links []Literal
	for _, a := range n.alternatives {
		a.link = p.Variable()
		a.shared = a.link
		links = append(links, a.link)
		if n.need.Role == recipe.Tool {
			a.shared, a.alone = p.Variable(), p.Variable()
			p.Add(a.link.Not(), a.shared, a.alone)
			p.Add(a.shared.Not(), a.link)
			p.Add(a.alone.Not(), a.link)
			p.addSingle(a.shared, a.alone)
			p.apart[a.alone] = a
		}
	}
	p.addSingle(links...)
	always := true
	for _, x := range n.of.choices {
		counts := p.counts(n, x)
		always = always && (counts == p.yes || x.release == nil)
		p.Add(append([]Literal{said.Not(), x.Not(), counts.Not()}, links...)...)
		for _, link := range links {
			p.Add(link.Not(), x.Not(), counts)
		}
	}
	if always { // so it counts for a release that does not exist, too
		p.Add(append([]Literal{said.Not(), n.of.imagined.Not()}, links...)...)
	}
	for _, a := range n.alternatives {
		p.Add(a.link.Not(), n.of.present)
		if !always {
			p.Add(a.link.Not(), n.of.imagined.Not())
		}
		p.fit(a, p.byName[a.target])
	}
}

// counts returns the literal for whether a need applies to a release.
func (p *formula) counts(n *needing, x *choice) Literal {
	if x.release == nil {
		return p.yes.Not()
	}
	no := p.yes.Not()
	return recipe.Work(n.need.When, recipe.Facts{Version: x.version, Machine: p.request.Machine}, recipe.Logic[Literal]{
		Known: func(is bool) Literal {
			if is {
				return p.yes
			}
			return no
		},
		Option: func(name, value string) Literal {
			o := n.of.recipe.Option(name)
			if !p.has(x, o) {
				return no
			}
			if s := n.of.setting(name); s != nil {
				return cmp.Or(s.value(value), no)
			}
			if o.DefaultOf(x.release) == value {
				return p.yes // it is by default in all ladders
			}
			return no
		},
		And: p.both,
		Or:  func(a, b Literal) Literal { return p.both(a.Not(), b.Not()).Not() },
		Not: Literal.Not,
	})
}

// both returns a literal that holds if both do.
func (p *formula) both(a, b Literal) Literal {
	switch {
	case a == p.yes || a == b:
		return b
	case b == p.yes:
		return a
	case a == p.yes.Not() || b == p.yes.Not() || a == b.Not():
		return p.yes.Not()
	}
	l := p.Variable()
	p.Add(l.Not(), a)
	p.Add(l.Not(), b)
	p.Add(l, a.Not(), b.Not())
	return l
}

// fit encodes that a package that meets a shared need is on the ladder, with the demanded
// version and options.
func (p *formula) fit(a *alternative, c *candidate) {
	need := a.needing.need
	p.Add(a.shared.Not(), c.present)
	if c == a.needing.of {
		p.Add(a.shared.Not())
	}
	for _, x := range c.choices {
		suits := need.Range.Contains(x.version) && p.hasAll(x, c, need.Options)
		if x.release == nil { // how it was built is unknown
			suits = len(need.Options) == 0 && (need.Range.String() == "any" || suits && !x.version.IsZero())
		}
		if !suits {
			p.Add(a.shared.Not(), x.Not())
		}
	}
	p.fitOptions(a.shared, need, c)
}

// hasAll reports whether a release has all of these options of its package.
func (p *formula) hasAll(x *choice, c *candidate, options []tomlfile.Pair) bool {
	return !slices.ContainsFunc(options, func(want tomlfile.Pair) bool {
		o := c.recipe.Option(want.Name)
		return o != nil && !p.has(x, o)
	})
}

// fitOptions encodes that a package has the options that a need demands, if a literal holds.
func (p *formula) fitOptions(where Literal, need *recipe.Need, c *candidate) {
	for _, want := range need.Options {
		if c.recipe == nil {
			continue
		}
		o := c.recipe.Option(want.Name)
		if o == nil || !o.Accepts(want.Values[0]) {
			said := p.say(&sentence{kind: hasNot, about: c, option: want})
			p.Add(said.Not(), where.Not())
		} else if s := c.setting(want.Name); s != nil {
			p.Add(where.Not(), s.value(want.Values[0]))
		}
	}
}

// addSupport encodes that nothing is on the ladder, and nothing set to another value than the
// default, without a demand.
func (p *formula) addSupport(c *candidate) {
	for _, w := range p.request.Wanted {
		c.asked = c.asked || w.Name == c.name
	}
	support := []Literal{c.present.Not()}
	for _, a := range c.asking {
		support = append(support, a.shared)
	}
	if !c.asked {
		p.Add(support...)
	}
	for _, x := range c.choices {
		if x.release == nil || x.release.Track != recipe.Preview || x.kept ||
			slices.ContainsFunc(p.wanting(c), func(w Wanted) bool { return w.names(x.version) }) {
			continue
		}
		support := []Literal{x.Not()}
		for _, a := range c.asking {
			if exactly(a.needing.need.Range, x.version) {
				support = append(support, a.shared)
			}
		}
		p.Add(support...)
	}
	for _, s := range c.options {
		p.supportOptions(c, s)
	}
}

func (p *formula) supportOptions(c *candidate, s *setting) {
	var said Literal
	for i := s.said; i < len(s.values); i++ {
		// It is the default of some releases, and of one that does not exist.
		var by []Literal
		everywhere := i < s.free
		for _, x := range c.choices {
			has := p.has(x, s.option)
			if has && s.option.DefaultOf(x.release) == s.values[i] || !has && i == 0 {
				by = append(by, x.Literal)
			} else {
				everywhere = false
			}
		}
		if everywhere {
			continue
		}
		if said == 0 {
			said = p.say(&sentence{kind: hasDefault, about: c, setting: s})
		}
		support := append([]Literal{said.Not(), s.is[i].Not()}, by...)
		if i < s.free {
			support = append(support, c.imagined)
		}
		for _, a := range c.asking {
			if demandsOption(a.needing.need, s.option.Name, s.values[i]) {
				support = append(support, a.shared)
			}
		}
		for _, w := range p.request.Wanted {
			if w.Name == c.name && w.demanded != nil && demandsOption(w.demanded.needing.need, s.option.Name, s.values[i]) {
				support = append(support, p.yes)
			}
		}
		p.Add(support...)
	}
}

func demandsOption(need *recipe.Need, option, value string) bool {
	return slices.ContainsFunc(need.Options, func(o tomlfile.Pair) bool {
		return o.Name == option && o.Values[0] == value
	})
}

// addHeld encodes that a package on the ladder is as the settings want it.
func (p *formula) addHeld(i int, h Held) {
	c := p.byName[h.Name]
	said := p.say(&sentence{kind: settingsWant, about: c, set: i})
	for _, x := range c.choices {
		if !h.takes(x) {
			p.Add(said.Not(), x.Not())
		}
	}
}

// takes reports whether a release is acceptable.
func (w Wanted) takes(x *choice) bool {
	switch {
	case x.release == nil:
		return w.Range.String() == "any" && !w.Tip || w.Range.Contains(x.version) && !x.version.IsZero()
	case w.Tip:
		return x.release.Track == recipe.Tip
	case x.release.Track == recipe.Tip && !x.kept:
		return false
	}
	return w.Range.Contains(x.version)
}

// addWanted encodes that what is requested is on the ladder, in an acceptable version.
func (p *formula) addWanted(i int, w Wanted) {
	c := p.byName[w.Name]
	said := p.say(&sentence{kind: youAsked, about: c, set: i, demanded: w.demanded})
	p.Add(said.Not(), c.present)
	wants := w.Range
	if w.demanded != nil {
		wants = w.demanded.needing.need.Range
		p.fitOptions(said, w.demanded.needing.need, c)
	}
	for _, x := range c.choices {
		suits := wants.Contains(x.version)
		if w.demanded != nil && x.release != nil {
			suits = suits && p.hasAll(x, c, w.demanded.needing.need.Options)
		}
		switch {
		case x.release == nil:
			suits = len(w.demanded.needing.need.Options) == 0 && (wants.String() == "any" || suits && !x.version.IsZero())
		case w.Tip:
			suits = x.release.Track == recipe.Tip
		case x.release.Track == recipe.Tip && !x.kept:
			suits = false
		}
		if !suits {
			p.Add(said.Not(), x.Not())
		}
	}
}
