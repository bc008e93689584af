package resolve

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"

	"fernladder/core/recipe"
)

// Solve finds the ladder for a request. Its error is a *NoLadder, or what is
// wrong with a recipe that is needed.
//
// Packages are decided one after another, dependants before what they need, so
// that everything demanded of a package is known when its turn comes; the
// newest release that fits is tried first. When nothing fits, the search goes
// back to the latest decision that had a part in it (conflict-directed
// backjumping: Prosser, "Hybrid algorithms for the constraint satisfaction
// problem", 1993), so it finds an answer where there is one, and does not try
// again what cannot matter.
func Solve(ctx context.Context, shelves *recipe.Shelves, request Request) (*Ladder, error) {
	s := &search{
		ctx: ctx, shelves: shelves, request: request,
		seen: map[string]bool{}, decided: map[string]*Package{}, demands: map[string][]Demand{},
	}
	for _, w := range request.Wanted {
		s.visit(w.Name)
		s.demands[w.Name] = append(s.demands[w.Name], Demand{Range: w.Range, Tip: w.Tip})
	}
	slices.Reverse(s.order)
	if err := s.checkSettings(); err != nil {
		return nil, err
	}
	culprits := s.decide(0)
	switch {
	case s.stop != nil:
		return nil, s.stop
	case culprits != nil:
		return nil, &NoLadder{Reasons: s.reasons}
	}
	return s.ladder(), nil
}

type search struct {
	ctx     context.Context
	shelves *recipe.Shelves
	request Request
	order   []string // all packages that could be needed, dependants first
	seen    map[string]bool
	decided map[string]*Package
	demands map[string][]Demand // by packages decided so far
	reasons []Reason            // why branches of the search ended
	stop    error               // what ends the search at once
}

// names is a set of packages that had a part in a conflict. A conflict that no
// decision had a part in is the empty set; no conflict is nil.
type names map[string]bool

// visit appends to the order what name could need, then name. It follows all
// needs of a recipe, whatever their conditions.
func (s *search) visit(name string) {
	if s.seen[name] {
		return
	}
	s.seen[name] = true
	if r, err := s.shelves.Find(name); err == nil {
		for _, need := range r.Needs {
			for _, n := range need.Names() {
				s.visit(n)
			}
		}
	}
	s.order = append(s.order, name)
}

// decide decides the packages from place i of the order on. It returns nil
// when all are decided, and otherwise who had a part in the conflict.
func (s *search) decide(i int) names {
	if s.stop = cmp.Or(s.stop, s.ctx.Err()); s.stop != nil {
		return names{}
	}
	for i < len(s.order) && len(s.demands[s.order[i]]) == 0 {
		i++
	}
	if i == len(s.order) {
		return nil
	}
	name := s.order[i]
	demands := s.demands[name]
	culprits := names{}
	for _, d := range demands {
		if d.By != nil {
			culprits[d.By.Name()] = true
		}
	}
	r, err := s.shelves.Find(name)
	var missing *recipe.NotFound
	if errors.As(err, &missing) {
		s.fail(missingReason(missing, demands))
		return culprits
	}
	if err != nil {
		s.stop = err
		return culprits
	}
	options, reason := s.options(r, demands)
	if reason != nil {
		s.fail(reason)
		return culprits
	}
	fitting := s.fittingReleases(r, demands)
	if len(fitting) == 0 {
		s.fail(noReleaseReason(r, demands))
		return culprits
	}
	for _, release := range fitting {
		p := &Package{Recipe: r, Release: release, Options: options}
		s.decided[name] = p
		conflict := s.need(p, 0, i)
		if conflict == nil {
			return nil
		}
		delete(s.decided, name)
		if !conflict[name] || s.stop != nil {
			return conflict
		}
		delete(conflict, name)
		for n := range conflict {
			culprits[n] = true
		}
	}
	return culprits
}

// need meets the needs of p from its j-th on, then decides what comes after
// place i of the order.
func (s *search) need(p *Package, j, i int) names {
	if j == len(p.Recipe.Needs) {
		return s.decide(i + 1)
	}
	need := p.Recipe.Needs[j]
	if !need.When.Holds(p.Facts(s.request.Machine)) {
		return s.need(p, j+1, i)
	}
	culprits := names{p.Name(): true}
	for _, name := range need.Names() {
		conflict := s.demand(p, need, name, j, i)
		if conflict == nil {
			return nil
		}
		if !conflict[p.Name()] || s.stop != nil {
			return conflict
		}
		for n := range conflict {
			culprits[n] = true
		}
	}
	return culprits
}

// demand tries to meet a need of p with the package of that name.
func (s *search) demand(p *Package, need *recipe.Need, name string, j, i int) names {
	d := Demand{By: p, Range: need.Range, Options: need.Options, At: need.Position}
	if other := s.decided[name]; other != nil {
		// Only packages that could need each other are decided in this order.
		if path := other.pathTo(p.Name(), s.decided); path != nil {
			s.fail(cycleReason(append([]Link{{other, need.Role, need}}, path...), p))
			return names{p.Name(): true, name: true}
		}
		options, reason := s.options(other.Recipe, append(slices.Clone(s.demands[name]), d))
		if reason == nil && !sameOptions(options, other.Options) || !need.Range.Contains(other.Release.Version) {
			reason = noReleaseReason(other.Recipe, append(slices.Clone(s.demands[name]), d))
		}
		if reason != nil {
			s.fail(reason)
			return names{p.Name(): true, name: true}
		}
	}
	s.demands[name] = append(s.demands[name], d)
	p.Needs = append(p.Needs, Link{Role: need.Role, Need: need, Package: &Package{Recipe: &recipe.Recipe{Name: name}}})
	conflict := s.need(p, j+1, i)
	if conflict != nil {
		s.demands[name] = s.demands[name][:len(s.demands[name])-1]
		p.Needs = p.Needs[:len(p.Needs)-1]
	}
	return conflict
}

// pathTo returns the needs that lead from p to the package called name, or nil.
func (p *Package) pathTo(name string, decided map[string]*Package) []Link {
	for _, link := range p.Needs {
		if link.Package.Name() == name {
			return []Link{link}
		}
		if next := decided[link.Package.Name()]; next != nil && next != p {
			if path := next.pathTo(name, decided); path != nil {
				return append([]Link{link}, path...)
			}
		}
	}
	return nil
}

// options works out what a package's options are: the defaults, changed by
// what is demanded.
func (s *search) options(r *recipe.Recipe, demands []Demand) (map[string]string, *Reason) {
	options := map[string]string{}
	for _, o := range r.Options {
		options[o.Name] = o.Default
	}
	by := map[string]Demand{} // who has set an option
	for _, set := range s.request.Options {
		if set.Package == r.Name {
			options[set.Option], by[set.Option] = set.Value, Demand{}
		}
	}
	for _, d := range demands {
		for _, want := range d.Options {
			value, o := want.Values[0], r.Option(want.Name)
			if o == nil || !o.Accepts(value) {
				return nil, badOptionReason(r, d, want)
			}
			if earlier, set := by[o.Name]; set && options[o.Name] != value {
				return nil, optionClashReason(r, o, options[o.Name], earlier, value, d)
			}
			options[o.Name], by[o.Name] = value, d
		}
	}
	return options, nil
}

func sameOptions(a, b map[string]string) bool {
	for name := range a {
		if a[name] != b[name] {
			return false
		}
	}
	return true
}

// checkSettings refuses options set on the command line that cannot matter.
func (s *search) checkSettings() error {
	for _, set := range s.request.Options {
		r, err := s.shelves.Find(set.Package)
		if err != nil {
			return err
		}
		if !slices.Contains(s.order, set.Package) {
			return &BadSetting{set, fmt.Sprintf("%s is not on this ladder", set.Package)}
		}
		o := r.Option(set.Option)
		if o == nil {
			return &BadSetting{set, fmt.Sprintf("%s has no option %q; it has: %s", r.Name, set.Option, optionNames(r))}
		}
		if !o.Accepts(set.Value) {
			return &BadSetting{set, fmt.Sprintf("%s of %s cannot be %q; it can be: %s", o.Name, r.Name, set.Value, commas(o.Choices()))}
		}
	}
	return nil
}

// fittingReleases returns the releases that every demand accepts, the newest
// first. Previews only fit where one is asked for by its exact version, and the
// tip where it is asked for, as it is pinned.
func (s *search) fittingReleases(r *recipe.Recipe, demands []Demand) []*recipe.Release {
	wantTip := slices.ContainsFunc(demands, func(d Demand) bool { return d.Tip })
	var fitting []*recipe.Release
	for _, x := range r.Releases {
		asked := x.Track == recipe.Stable && !wantTip
		if x.Track == recipe.Tip {
			pin, pinned := s.request.Pins[r.Name]
			if !pinned {
				continue
			}
			x, asked = x.Pinned(pin), wantTip
		}
		fits := true
		for _, d := range demands {
			fits = fits && d.Range.Contains(x.Version)
			asked = asked || d.Range.Exact() && x.Track == recipe.Preview
		}
		if fits && asked {
			fitting = append(fitting, x)
		}
	}
	slices.SortStableFunc(fitting, func(a, b *recipe.Release) int { return b.Version.Compare(a.Version) })
	return fitting
}

// fail notes why a branch of the search ended. A few are enough to act on, and
// the same between other releases of the same packages says nothing new.
func (s *search) fail(r *Reason) {
	const enough = 3
	same := func(other Reason) bool { return other.about == r.about }
	if len(s.reasons) < enough && !slices.ContainsFunc(s.reasons, same) {
		s.reasons = append(s.reasons, *r)
	}
}

// ladder turns what was decided into a ladder.
func (s *search) ladder() *Ladder {
	l := &Ladder{}
	// Dependants are decided first, so going backwards meets needs first,
	// except among packages that could need each other.
	var raise func(p *Package) int
	raise = func(p *Package) int {
		if p.Rung > 0 {
			return p.Rung
		}
		top := 0
		for i := range p.Needs {
			p.Needs[i].Package = s.decided[p.Needs[i].Package.Name()]
			top = max(top, raise(p.Needs[i].Package))
		}
		p.Rung = top + 1
		p.Why = s.demands[p.Name()]
		p.Asked = slices.ContainsFunc(p.Why, func(d Demand) bool { return d.By == nil })
		l.Packages = append(l.Packages, p)
		return p.Rung
	}
	for _, name := range s.order {
		if p := s.decided[name]; p != nil {
			raise(p)
		}
	}
	slices.SortFunc(l.Packages, func(a, b *Package) int {
		return cmp.Or(a.Rung-b.Rung, cmp.Compare(a.Name(), b.Name()))
	})
	return l
}
