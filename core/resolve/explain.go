package resolve

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"fernladder/core/recipe"
)

// explain makes a reason from sentences that contradict each other.
func (p *formula) explain(core []*sentence) (Reason, error) {
	core, err := p.shortest(core)
	if err != nil {
		return Reason{}, err
	}
	slices.SortStableFunc(core, func(a, b *sentence) int { return cmp.Or(a.rank()-b.rank(), a.line()-b.line()) })
	reason := Reason{}
	for _, s := range core {
		reason.Chain = append(reason.Chain, p.text(s))
	}
	if circle := circleOf(core); circle != nil {
		reason.Claim = fmt.Sprintf("These packages need each other in a circle: %s.", strings.Join(circle, " → "))
		reason.WaysOut = []string{"Break the circle: remove one of these needs, or make it depend on an option that is " +
			"off (when = …)."}
		return reason, nil
	}
	reason.Claim = p.claim(core)
	reason.WaysOut, err = p.waysOut(core)
	return reason, err
}

// rank orders the sentences of a reason: the request, then package by package its needs,
// releases and demands, packages that need others first.
func (s *sentence) rank() int {
	within := map[kind]int{youAsked: 0, settingsWant: 0, youSet: 1, hasReleases: 2, hasNot: 3, hasDefault: 4,
		needs: 5}[s.kind]
	if s.kind == youAsked {
		return within
	}
	return 10*(1+s.about.place) + within
}

// line is the line of a need, to list those of one package in order.
func (s *sentence) line() int {
	if s.needing == nil {
		return 0
	}
	return s.needing.need.Line
}

// shortest returns sentences of the core none of which can be left out. The result depends on
// the order of attempts: it tries both directions and takes the shorter result.
func (p *formula) shortest(core []*sentence) ([]*sentence, error) {
	slices.SortFunc(core, func(a, b *sentence) int { return int(a.Literal - b.Literal) })
	forward, err := p.reduce(core)
	if err != nil {
		return nil, err
	}
	backward := slices.Clone(core)
	slices.Reverse(backward)
	if backward, err = p.reduce(backward); err != nil {
		return nil, err
	}
	if len(backward) < len(forward) {
		return backward, nil
	}
	return forward, nil
}

// reduce leaves out sentences, in order, as long as the others contradict each other.
func (p *formula) reduce(core []*sentence) ([]*sentence, error) {
	core = slices.Clone(core)
	for i := 0; i < len(core); {
		without := slices.Delete(slices.Clone(core), i, i+1)
		smaller, found, err := p.solve(without)
		if err != nil {
			return nil, err
		}
		if found {
			i++
			continue
		}
		// Sentences that the search did not use are dropped too; the order stays.
		core = slices.DeleteFunc(without, func(s *sentence) bool { return !slices.Contains(smaller, s) })
	}
	return core, nil
}

// circleOf returns the packages of a circle that the needs among the sentences form, the first
// one again at the end, or nil if they form none or if something else matters too.
func circleOf(core []*sentence) []string {
	next := map[string][]string{}
	for _, s := range core {
		switch s.kind {
		case needs:
			next[s.about.name] = append(next[s.about.name], s.needing.need.Names()...)
		case hasReleases, hasNot:
			return nil
		}
	}
	var found []string
	var follow func(path []string)
	follow = func(path []string) {
		last := path[len(path)-1]
		for _, name := range next[last] {
			if i := slices.Index(path, name); i >= 0 {
				if circle := append(slices.Clone(path[i:]), name); found == nil || len(circle) < len(found) {
					found = circle
				}
			} else if len(path) <= len(next) {
				follow(append(slices.Clone(path), name))
			}
		}
	}
	for _, s := range core {
		if s.kind == youAsked {
			follow([]string{s.about.name})
		}
	}
	return found
}

// claim says in one sentence what is impossible.
func (p *formula) claim(core []*sentence) string {
	for _, s := range core {
		if s.kind == hasReleases && s.about.recipe == nil {
			if len(s.about.missing.Shelves) == 0 {
				return fmt.Sprintf("There is no recipe %q, because no shelf is set.", s.about.name)
			}
			return fmt.Sprintf("No shelf has a recipe %q.", s.about.name)
		}
		if s.kind == hasNot {
			if s.about.recipe.Option(s.option.Name) == nil {
				return fmt.Sprintf("%s has no option %q.", s.about.name, s.option.Name)
			}
			return fmt.Sprintf("The option %s of %s cannot be %q.", s.option.Name, s.about.name, s.option.Values[0])
		}
	}
	if option, values := p.clash(core); option != "" {
		return fmt.Sprintf("%s cannot be both %s.", option, strings.Join(values, " and "))
	}
	for _, s := range slices.Backward(core) {
		if s.kind == hasReleases {
			return p.releasesClaim(s.about, core)
		}
	}
	return "The requested packages do not fit together."
}

// releasesClaim says that no release of a package is acceptable.
func (p *formula) releasesClaim(c *candidate, core []*sentence) string {
	var demands []string
	fits := func(x *choice) bool { return true }
	for _, s := range core {
		if s.kind == youAsked && s.about == c {
			w := p.request.Wanted[s.set]
			if w.Tip && c.recipe.Tip() == nil {
				return c.name + " has no tip."
			}
			demands = append(demands, w.Range.String())
			fits = func(x *choice) bool { return w.Range.Contains(x.version) }
		}
		if s.kind == settingsWant && s.about == c {
			held := p.request.Held[s.set]
			demands = append(demands, held.Range.String())
			fits = held.takes
		}
		if s.kind == needs && slices.Contains(s.needing.need.Names(), c.name) {
			demands = append(demands, s.needing.need.Range.String())
			fits = func(x *choice) bool { return s.needing.need.Range.Contains(x.version) }
		}
	}
	if len(demands) == 1 && demands[0] == "any" {
		return c.name + " has no stable release."
	}
	if len(demands) == 1 && !slices.ContainsFunc(c.choices, fits) {
		return fmt.Sprintf("%s has no release that is %s.", c.name, demands[0])
	}
	return fmt.Sprintf("No release of %s satisfies all needs.", c.name)
}

// clash returns an option for which sentences want different values, as PACKAGE.OPTION, with the
// values.
func (p *formula) clash(core []*sentence) (option string, values []string) {
	wants := map[string][]string{}
	var order []string
	want := func(name, value string) {
		if wants[name] == nil {
			order = append(order, name)
		}
		if !slices.Contains(wants[name], value) {
			wants[name] = append(wants[name], value)
		}
	}
	for _, s := range core {
		switch s.kind {
		case youSet:
			want(p.request.Options[s.set].Package+"."+p.request.Options[s.set].Option, p.request.Options[s.set].Value)
		case hasDefault:
			for _, value := range s.setting.values[:s.setting.free] {
				want(s.about.name+"."+s.setting.option.Name, value)
			}
		case needs:
			for _, o := range s.needing.need.Options {
				want(s.needing.need.Names()[0]+"."+o.Name, o.Values[0])
			}
		}
	}
	for _, name := range order {
		if len(wants[name]) > 1 {
			return name, wants[name]
		}
	}
	return "", nil
}

// most is the limit of suggested ways out.
const most = 2

// waysOut says what a person can do. Each suggestion was tried: with it there is a ladder.
func (p *formula) waysOut(core []*sentence) ([]string, error) {
	var ways []string
	for _, s := range core {
		if s.kind == hasReleases && s.about.recipe == nil {
			return []string{missingWay(s.about.missing)}, nil
		}
	}
	for _, try := range []func([]*sentence) ([]string, error){p.previewWays, p.askedWays, p.heldWays, p.setWays,
		p.needWays} {
		more, err := try(core)
		if err != nil {
			return nil, err
		}
		for _, way := range more {
			if len(ways) < most && !slices.Contains(ways, way) {
				ways = append(ways, way)
			}
		}
	}
	if len(ways) == 0 {
		ways = append(ways, p.lastWay(core))
	}
	return ways, nil
}

func missingWay(e *recipe.NotFound) string {
	switch {
	case len(e.Shelves) == 0:
		return noShelf
	case e.Near != "":
		return fmt.Sprintf("Did you mean %q?", e.Near)
	}
	return fmt.Sprintf("Write %s/%s/%s, or remove the need.", e.Shelves[0], e.Name, recipe.FileName)
}

// with reports whether there is a ladder without one sentence, and which release of a package it
// has.
func (p *formula) with(without *sentence, c *candidate) (*choice, error) {
	_, found, err := p.solve(p.without(map[key]bool{without.key(): true}))
	if err != nil || !found {
		return nil, err
	}
	if x := p.chosen(c); x != nil && x.release != nil {
		return x, nil
	}
	return nil, nil
}

// askedWays names an acceptable version of what was requested.
func (p *formula) askedWays(core []*sentence) (ways []string, err error) {
	for _, s := range core {
		if s.kind != youAsked || !(p.request.Wanted[s.set].Range.String() != "any" || p.request.Wanted[s.set].Tip) {
			continue
		}
		request := p.request
		request.Wanted = slices.Clone(request.Wanted)
		request.Wanted[s.set] = Wanted{Name: s.about.name}
		request.Kept = nil
		other := pose(p.ctx, p.scopes, request)
		_, found, err := other.solve(other.sentences)
		if err != nil {
			return nil, err
		}
		if x := other.chosen(other.byName[s.about.name]); found && x != nil {
			ways = append(ways, fmt.Sprintf("%s %s is the newest that everything else allows: ask for %s:%s.", s.about.name,
				x.version, s.about.name, x.version))
		}
	}
	return ways, nil
}

// heldWays says what to change in the settings.
func (p *formula) heldWays(core []*sentence) (ways []string, err error) {
	for _, s := range core {
		if s.kind != settingsWant {
			continue
		}
		_, found, err := p.solve(p.without(map[key]bool{s.key(): true}))
		if err != nil {
			return nil, err
		}
		if h := p.request.Held[s.set]; found {
			ways = append(ways, fmt.Sprintf("Change what the settings want of %s (%s), or ask for a version of it as well.",
				h.Name, h.At))
		}
	}
	return ways, nil
}

// setWays says which option not to set.
func (p *formula) setWays(core []*sentence) (ways []string, err error) {
	for _, s := range core {
		if s.kind != youSet {
			continue
		}
		_, found, err := p.solve(p.without(map[key]bool{s.key(): true}))
		if err != nil {
			return nil, err
		}
		if set := p.request.Options[s.set]; found {
			if set.At.Line > 0 {
				ways = append(ways, fmt.Sprintf("Leave %s of %s as it is: without it in the settings (%s) there is a ladder.",
					set.Option, set.Package, set.At))
				continue
			}
			ways = append(ways, fmt.Sprintf("Leave %s.%s as it is: without %s.%s=%s there is a ladder.", set.Package, set.Option,
				set.Package, set.Option, set.Value))
		}
	}
	return ways, nil
}

// previewWays names acceptable previews.
func (p *formula) previewWays(core []*sentence) (ways []string, err error) {
	for _, s := range core {
		if s.kind != hasReleases {
			continue
		}
		for _, x := range s.about.recipe.Releases {
			if x.Track != recipe.Preview ||
				slices.ContainsFunc(s.about.choices, func(c *choice) bool { return c.release == x }) {
				continue
			}
			request := p.request
			request.Wanted = slices.Clone(request.Wanted)
			only := Wanted{Name: s.about.name}
			if err := only.Narrow("== " + x.Version.String()); err != nil {
				return nil, err
			}
			accepted := true
			for _, w := range request.Wanted {
				accepted = accepted && (w.Name != s.about.name || !w.Tip && w.Range.Contains(x.Version))
			}
			request.Wanted = append(request.Wanted, only)
			other := pose(p.ctx, p.scopes, request)
			_, found, err := other.solve(other.sentences)
			if err != nil {
				return nil, err
			}
			if found && accepted {
				ways = append(ways, fmt.Sprintf("The preview %s would do: ask for %s:%s.", x.Version, s.about.name, x.Version))
			}
		}
	}
	return ways, nil
}

// needWays names a need that could be widened, and what it would have to accept.
func (p *formula) needWays(core []*sentence) (ways []string, err error) {
	for _, s := range slices.Backward(core) {
		if s.kind != needs || s.needing.need.Recipe == "" {
			continue
		}
		target := p.byName[s.needing.need.Recipe]
		x, err := p.with(s, target)
		if err != nil {
			return nil, err
		}
		if x == nil {
			continue
		}
		if !s.needing.need.Range.Contains(x.version) {
			ways = append(ways, fmt.Sprintf("If %s works with %s %s, change its need in %s.", s.about.name, target.name,
				x.version, s.needing.need.Position))
		} else if len(s.needing.need.Options) > 0 {
			ways = append(ways, fmt.Sprintf("If %s works without %s, remove that from %s.", s.about.name,
				settingsText(s.needing.need.Options), s.needing.need.Position))
		}
	}
	return ways, nil
}

// lastWay is the advice if no single change helps.
func (p *formula) lastWay(core []*sentence) string {
	for _, s := range slices.Backward(core) {
		switch s.kind {
		case hasReleases:
			if w := slices.IndexFunc(p.request.Wanted, func(w Wanted) bool { return w.Name == s.about.name && w.Tip }); w >= 0 &&
				s.about.recipe.Tip() == nil {
				return fmt.Sprintf("Add a release with track = \"tip\", git and branch to %s, or ask for a version.",
					s.about.recipe.File)
			}
			return fmt.Sprintf("Add a release that fits to %s.", s.about.recipe.File)
		case hasNot:
			return fmt.Sprintf("Add it to %s, or remove it from the need.", s.about.recipe.File)
		}
	}
	return "Change one of these needs."
}
