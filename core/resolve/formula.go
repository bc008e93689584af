package resolve

import (
	"context"
	"errors"
	"slices"

	"fernladder/core/recipe"
	"fernladder/core/version"
)

// A formula is a request as clauses: which release of each package is on the ladder, the values
// of its options, and what meets its needs.
//
// Clauses from something that a person wrote carry a sentence, as a literal that is assumed:
// without it they say nothing. If there is no ladder, the assumptions that cannot hold together
// are the explanation.
type formula struct {
	*Solver
	scopes     *scopes
	ctx        context.Context
	request    Request
	candidates []*candidate // dependants before their needs
	byName     map[string]*candidate
	sentences  []*sentence
	saying     map[Literal]*sentence
	byKey      map[key]*sentence
	apart      map[Literal]*alternative
	possible   map[*alternative]bool // to be met apart, with the sentences that count
	yes        Literal               // always holds
}

// candidate is a package that could be on the ladder.
type candidate struct {
	place   int
	name    string
	recipe  *recipe.Recipe // nil if there is none
	err     error          // why, unless no shelf has it
	missing *recipe.NotFound

	present  Literal
	choices  []*choice // preferred ones first
	imagined Literal   // a release that does not exist, and would satisfy all needs
	options  []*setting
	needs    []*needing
	asking   []*alternative // the packages that could need it
	asked    bool           // by a person, or as the tool that is resolved apart
}

// choice is a candidate release, or the operating system's own copy.
type choice struct {
	Literal
	release *recipe.Release // nil: the host's
	version version.Version
	kept    bool
}

// setting is an option that is demanded with another value than its default. Its values are in
// the order of preference.
type setting struct {
	option *recipe.Option
	values []string
	said   int // the number set by a person, or kept
	free   int // so many, with those, need no demand: they are defaults
	is     []Literal
}

// needing is a need of a candidate.
type needing struct {
	of           *candidate
	need         *recipe.Need
	said         Literal        // that it counts
	alternatives []*alternative // preferred ones first
}

// alternative is a way to meet a need: by a package that the whole ladder shares or, for a tool,
// by a separate one.
type alternative struct {
	*demanded
	link, shared, alone Literal // link is shared or alone
}

// demanded is what a need demands of a package.
type demanded struct {
	needing *needing
	target  string
}

// pose encodes a request as clauses.
func pose(ctx context.Context, scopes *scopes, request Request) *formula {
	p := &formula{
		Solver: New(), scopes: scopes, ctx: ctx, request: request, byName: map[string]*candidate{},
		saying: map[Literal]*sentence{}, byKey: map[key]*sentence{},
		apart: map[Literal]*alternative{}, possible: map[*alternative]bool{},
	}
	p.yes = p.Variable()
	p.Add(p.yes)
	for _, w := range request.Wanted {
		p.collect(w.Name)
	}
	slices.Reverse(p.candidates)
	for i, c := range p.candidates {
		c.place = i
	}
	asking := p.demands()
	for _, c := range p.candidates {
		c.asking = asking[c.name]
		p.addReleases(c)
		p.addOptions(c)
	}
	for _, c := range p.candidates {
		for _, n := range c.needs {
			p.addNeed(n)
		}
	}
	for _, c := range p.candidates {
		p.addSupport(c)
	}
	for i, w := range request.Wanted {
		p.addWanted(i, w)
	}
	for i, h := range request.Held {
		if c := p.byName[h.Name]; c != nil && c.recipe != nil {
			p.addHeld(i, h)
		}
	}
	return p
}

// collect adds everything that name could need, then name. It follows all needs of a recipe,
// whatever their conditions.
func (p *formula) collect(name string) {
	if p.byName[name] != nil {
		return
	}
	c := &candidate{name: name}
	p.byName[name] = c
	if c.recipe, c.err = p.scopes.shelves.Find(name); c.err != nil {
		c.recipe = nil
		if errors.As(c.err, &c.missing) {
			c.err = nil
		}
	} else {
		for _, need := range c.recipe.Needs {
			n := &needing{of: c, need: need}
			c.needs = append(c.needs, n)
			for _, target := range p.preferred(c, need) {
				p.collect(target)
				n.alternatives = append(n.alternatives, &alternative{demanded: &demanded{n, target}})
			}
		}
	}
	p.candidates = append(p.candidates, c)
}

// preferred returns the packages that can meet a need: first what is requested, then the one
// with which a kept build was made, then those that are kept themselves, then the usual one.
func (p *formula) preferred(c *candidate, need *recipe.Need) []string {
	names := need.Names()
	if len(names) == 1 {
		return names
	}
	rank := func(name string) int {
		switch {
		case slices.Contains(p.request.Prefer, name):
			return 0
		case slices.ContainsFunc(p.request.Kept[c.name], func(k Kept) bool { return slices.Contains(k.Needs, name) }):
			return 1
		case slices.ContainsFunc(p.request.Kept[name], func(k Kept) bool { return !k.Version.IsZero() }):
			return 2
		case slices.Contains(p.request.Usual, name):
			return 3
		}
		return 4
	}
	names = slices.Clone(names)
	slices.SortStableFunc(names, func(a, b string) int { return rank(a) - rank(b) })
	return names
}

// demands returns the alternatives by the package that they would use.
func (p *formula) demands() map[string][]*alternative {
	by := map[string][]*alternative{}
	for _, c := range p.candidates {
		for _, n := range c.needs {
			for _, a := range n.alternatives {
				by[a.target] = append(by[a.target], a)
			}
		}
	}
	return by
}

// Reach lists the recipes that could come onto a ladder of what is wanted, whatever the
// conditions of needs. It leaves out missing and invalid recipes: Solve reports them if they
// matter.
func Reach(shelves *recipe.Shelves, wanted []Wanted) []*recipe.Recipe {
	var reached []*recipe.Recipe
	seen := map[string]bool{}
	var queue []string
	for _, w := range wanted {
		queue = append(queue, w.Name)
	}
	for ; len(queue) > 0; queue = queue[1:] {
		if seen[queue[0]] {
			continue
		}
		seen[queue[0]] = true
		r, err := shelves.Find(queue[0])
		if err != nil {
			continue
		}
		reached = append(reached, r)
		for _, n := range r.Needs {
			queue = append(queue, n.Names()...)
		}
	}
	return reached
}
