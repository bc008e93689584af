package resolve

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"

	"fernladder/core/problem"
	"fernladder/core/recipe"
	"fernladder/core/tomlfile"
)

// Solve finds the ladder for a request. Its error is a *NoLadder, a problem of the settings,
// or what is wrong with a recipe that is needed.
//
// Where several ladders would do, it is the first by these rules. Packages are
// looked at one after another, those that need others before those, beginning
// with what is asked for; of each package that is needed:
//
//  1. its release: one that is kept (locked, then installed); the host's own
//     copy, where that may stand in; then the newest.
//  2. whether packages that need it as a tool share it with all others. A tool
//     that has to be another for one package is resolved apart.
//  3. its options: as they were kept, then as they are by default. What a person
//     demands comes before both.
//  4. of each need that another of several packages can fill: the one that was
//     kept, then the first that is named.
//
// The first answer for which there is a ladder is taken, and nothing is on the
// ladder that nothing needs. A tool apart has a ladder of its own, found in the
// same way, which keeps what is on this one already.
func Solve(ctx context.Context, shelves *recipe.Shelves, request Request) (*Ladder, error) {
	p := pose(ctx, newScopes(shelves), request)
	if err := p.checkSettings(); err != nil {
		return nil, err
	}
	core, found, err := p.solve(p.sentences)
	if err != nil {
		return nil, err
	}
	if !found {
		reason, err := p.explain(core)
		if err != nil {
			return nil, err
		}
		return nil, &NoLadder{Reasons: []Reason{reason}}
	}
	if err := p.checkReleases(); err != nil {
		return nil, err
	}
	a := &assembly{ctx: ctx, byKey: map[string]*Package{}, tools: map[string]madeTool{}}
	if err := a.add(p, false); err != nil {
		return nil, err
	}
	slices.SortFunc(a.packages, func(a, b *Package) int {
		if c := cmp.Or(a.Rung-b.Rung, cmp.Compare(a.Name(), b.Name())); c != 0 {
			return c
		}
		return cmp.Or(b.Release.Version.Compare(a.Release.Version), cmp.Compare(a.key(), b.key()))
	})
	return &Ladder{Packages: a.packages}, nil
}

// checkSettings refuses options set by a person that cannot matter.
func (p *formula) checkSettings() error {
	for _, set := range p.request.Options {
		r, err := p.scopes.shelves.Find(set.Package)
		if err != nil {
			return err
		}
		if p.byName[set.Package] == nil {
			return badSetting(set, fmt.Sprintf("%s is not on this ladder", set.Package))
		}
		o := r.Option(set.Option)
		if o == nil {
			return badSetting(set, fmt.Sprintf("%s has no option %q; it has: %s", r.Name, set.Option, optionNames(r)))
		}
		if err := o.CheckValue(set.Value); err != nil {
			return badSetting(set, fmt.Sprintf("%s of %s cannot be %q; %v", o.Name, r.Name, set.Value, err))
		}
	}
	return nil
}

// checkReleases refuses options set by a person that the found release does not have. If an
// older release has them, the person has to choose that.
func (p *formula) checkReleases() error {
	for _, set := range p.request.Options {
		c := p.byName[set.Package]
		x := p.chosen(c)
		if o := c.recipe.Option(set.Option); x != nil && x.release != nil && !p.has(x, o) {
			return badSetting(set, fmt.Sprintf("%s %s has no option %s; releases have it when %s", c.name, x.version,
				o.Name, o.When))
		}
	}
	return nil
}

// without returns all sentences except for those with these keys.
func (p *formula) without(keys map[key]bool) []*sentence {
	if len(keys) == 0 {
		return p.sentences
	}
	return slices.DeleteFunc(slices.Clone(p.sentences), func(s *sentence) bool { return keys[s.key()] })
}

// solve looks for a ladder under these sentences. If there is none, it returns sentences that
// contradict each other.
func (p *formula) solve(sentences []*sentence) (core []*sentence, found bool, err error) {
	said := make([]Literal, len(sentences))
	for i, s := range sentences {
		said[i] = s.Literal
	}
	clear(p.possible)
	w := &walk{formula: p}
	literals, found, err := p.Solve(p.ctx, said, w)
	if err = cmp.Or(w.stop, err); err != nil {
		return nil, false, err
	}
	for _, l := range literals {
		core = append(core, p.saying[l])
	}
	return core, found, nil
}

// scopes finds ladders of tools that are resolved apart.
type scopes struct {
	shelves *recipe.Shelves
	running map[string]bool
	refused int               // how often a tool was needed to build itself
	known   map[string]answer // when all sentences count
}

// answer reports whether a tool can be resolved apart, and if not, why.
type answer struct {
	found bool
	uses  []string // keys of the tools apart that it is built with, directly or not
	core  []*sentence
}

func newScopes(shelves *recipe.Shelves) *scopes {
	return &scopes{shelves: shelves, running: map[string]bool{}, known: map[string]answer{}}
}

// possible reports whether a tool can be resolved apart for one need, and if not, which
// sentences contradict each other.
func (s *scopes) possible(ctx context.Context, request Request, d *demanded, without map[key]bool) (answer, error) {
	key := d.key()
	known, is := s.known[key]
	running := func(key string) bool { return s.running[key] }
	if is && len(without) == 0 && !running(key) && !slices.ContainsFunc(known.uses, running) {
		return known, nil
	}
	before := s.refused
	p, core, found, err := s.alone(ctx, request, d, without)
	got := answer{found: found, core: core}
	if found {
		got.uses = p.toolsApart()
	}
	// A tool that was refused while this one is tried may be possible elsewhere.
	if err == nil && len(without) == 0 && (found || s.refused == before) {
		s.known[key] = got
	}
	return got, err
}

// toolsApart returns the keys of the tools that a solved problem has apart, and of those that
// they are built with.
func (p *formula) toolsApart() []string {
	var keys []string
	for l, a := range p.apart {
		if p.Holds(l) {
			keys = append(append(keys, a.key()), p.scopes.known[a.key()].uses...)
		}
	}
	return keys
}

func (d *demanded) key() string {
	return fmt.Sprintf("%s %s %v", d.target, d.needing.need.Range, d.needing.need.Options)
}

// alone finds the ladder of a tool for one need. A tool that would be needed to build itself is
// impossible.
func (s *scopes) alone(ctx context.Context, request Request, d *demanded, without map[key]bool) (p *formula,
	core []*sentence, found bool, err error) {
	key := d.key()
	if s.running[key] {
		s.refused++
		return nil, nil, false, nil
	}
	s.running[key] = true
	defer delete(s.running, key)
	request.Wanted, request.Held = []Wanted{{Name: d.target, demanded: d}}, nil
	request.Options = slices.DeleteFunc(slices.Clone(request.Options), func(s Setting) bool { return s.At.Line > 0 })
	p = pose(ctx, s, request)
	core, found, err = p.solve(p.without(without))
	return p, core, found, err
}

// assembly makes packages from decisions, each build once.
type assembly struct {
	ctx      context.Context
	packages []*Package
	byKey    map[string]*Package
	tools    map[string]madeTool // by the scope that needs them and its requirements
}

// madeTool is a tool apart: a package, or the operating system's own copy.
type madeTool struct {
	*Package
	byHost *choice
}

// add adds the ladder of a solved problem.
func (a *assembly) add(p *formula, apart bool) error {
	_, err := a.scope(p, apart)
	return err
}

// scope adds the ladder of a solved problem, and returns its packages by name.
func (a *assembly) scope(p *formula, apart bool) (map[string]*Package, error) {
	made := map[string]*Package{}
	var raise func(c *candidate) (*Package, error)
	raise = func(c *candidate) (*Package, error) {
		if made[c.name] != nil {
			return made[c.name], nil
		}
		x := p.chosen(c)
		made[c.name] = &Package{Recipe: c.recipe, Release: x.release, Options: p.settings(c), Kept: x.kept, Apart: apart,
			Missed: p.missed(c, x)}
		for _, n := range c.needs {
			if err := a.link(p, made[c.name], n, raise); err != nil {
				return nil, err
			}
		}
		made[c.name] = a.once(made[c.name])
		return made[c.name], nil
	}
	for _, w := range p.request.Wanted {
		c := p.byName[w.Name]
		if x := p.chosen(c); x.release == nil {
			continue
		}
		top, err := raise(c)
		if err != nil {
			return nil, err
		}
		if w.demanded == nil {
			top.Asked = true
			top.Why = append(top.Why, Demand{Range: w.Range, Tip: w.Tip})
		}
	}
	return made, nil
}

// link links a package to what meets one of its needs.
func (a *assembly) link(p *formula, of *Package, n *needing, raise func(*candidate) (*Package, error)) (err error) {
	for _, alternative := range n.alternatives {
		var to *Package
		switch target := p.byName[alternative.target]; {
		case p.Holds(alternative.shared):
			x := p.chosen(target)
			if x.release == nil {
				of.ByHost = append(of.ByHost, HostLink{HostCopy{target.name, x.version}, n.need, target.recipe.HostCopy})
				return nil
			}
			to, err = raise(target)
		case alternative.alone != 0 && p.Holds(alternative.alone):
			var tool madeTool
			tool, err = a.tool(p, alternative.demanded)
			if tool.byHost != nil {
				of.ByHost = append(of.ByHost, HostLink{HostCopy{target.name, tool.byHost.version}, n.need, target.recipe.HostCopy})
				return nil
			}
			to = tool.Package
		default:
			continue
		}
		if err != nil {
			return err
		}
		of.Needs = append(of.Needs, Link{Package: to, Role: n.need.Role, Need: n.need})
	}
	return nil
}

// tool adds the ladder of a tool apart, using as much as possible of the existing ladder.
func (a *assembly) tool(p *formula, d *demanded) (made madeTool, err error) {
	key := fmt.Sprintf("%p %s", p, d.key())
	if made, done := a.tools[key]; done {
		return made, nil
	}
	request := p.request
	request.Kept = maps.Clone(request.Kept)
	if request.Kept == nil {
		request.Kept = map[string][]Kept{}
	}
	for _, c := range p.candidates {
		if x := p.chosen(c); x != nil && x.release != nil {
			request.Kept[c.name] = append([]Kept{{Version: x.version, Options: p.settings(c)}}, request.Kept[c.name]...)
		}
	}
	tool, _, found, err := p.scopes.alone(a.ctx, request, d, nil)
	if err != nil {
		return made, err
	}
	if !found { // which would be a mistake in this package
		return made, fmt.Errorf("the tool %s could be built separately, and then could not", d.target)
	}
	if x := tool.chosen(tool.byName[d.target]); x.release == nil {
		made.byHost = x
	} else {
		p.scopes.running[d.key()] = true // as it was when this was decided
		defer delete(p.scopes.running, d.key())
		scope, err := a.scope(tool, true)
		if err != nil {
			return made, err
		}
		made.Package = scope[d.target]
	}
	a.tools[key] = made
	return made, nil
}

// settings are the decided options of a candidate.
func (p *formula) settings(c *candidate) map[string]string {
	options := map[string]string{}
	x := p.chosen(c)
	for _, o := range c.recipe.Options {
		if !p.has(x, o) {
			continue
		}
		options[o.Name] = o.DefaultOf(x.release)
		if s := c.setting(o.Name); s != nil {
			options[o.Name] = s.values[slices.IndexFunc(s.is, p.Holds)]
		}
	}
	return options
}

// missed are the options that differ from the default in the first of the kept builds, and that
// the release of a candidate does not have, or not with that value.
func (p *formula) missed(c *candidate, x *choice) []tomlfile.Pair {
	if len(p.request.Kept[c.name]) == 0 {
		return nil
	}
	var all []tomlfile.Pair
	kept := p.request.Kept[c.name][0]
	for _, name := range slices.Sorted(maps.Keys(kept.Changed)) {
		o := c.recipe.Option(name)
		if o == nil || !p.has(x, o) || !o.Accepts(kept.Changed[name]) {
			all = append(all, tomlfile.Pair{Name: name, Values: []string{kept.Changed[name]}})
		}
	}
	return all
}

// once returns the package that is the same build as this one and was added before, or adds this
// one.
func (a *assembly) once(p *Package) *Package {
	for _, link := range p.Needs {
		p.Rung = max(p.Rung, link.Package.Rung)
	}
	p.Rung++
	same := a.byKey[p.key()]
	if same == nil {
		same = p
		a.byKey[p.key()] = p
		a.packages = append(a.packages, p)
		for _, link := range p.Needs {
			d := demandOf(p, link.Need, link.Role)
			d.Or = slices.DeleteFunc(slices.Clone(link.Need.Either), func(name string) bool {
				return name == link.Package.Name()
			})
			link.Package.Why = append(link.Package.Why, d)
		}
	}
	same.Apart = same.Apart && p.Apart
	return same
}

func demandOf(p *Package, n *recipe.Need, role recipe.Role) Demand {
	return Demand{By: p, Range: n.Range, Role: role, Options: append([]tomlfile.Pair{}, n.Options...), At: n.Position}
}

// badSetting is the problem of an option that cannot be set as requested.
func badSetting(set Setting, reason string) error {
	p := problem.New(problem.Usage, set.Package, "%s", reason)
	if set.At.Line > 0 {
		p.Message += fmt.Sprintf(" (%s)", set.At)
		p.Place = problem.Place{File: set.At.File, Line: set.At.Line, Column: set.At.Column}
	}
	return p
}
