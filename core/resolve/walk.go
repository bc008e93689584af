package resolve

import (
	"container/heap"
	"slices"
)

// walk asks the questions of a problem in the order that Solve documents: from what is requested
// to its needs. Of the packages that are known to be needed, the first among the candidates is
// next.
type walk struct {
	*formula
	visits []visit
	needed places // not visited yet
	known  []bool // by place: visited, or among needed
	stop   error  // the mistake in a recipe that is needed
}

// visit is a package whose turn came at a level of the search.
type visit struct {
	*candidate
	level int
}

// places are positions of candidates, as a heap with the first on top.
type places []int

func (p places) Len() int           { return len(p) }
func (p places) Less(i, j int) bool { return p[i] < p[j] }
func (p places) Swap(i, j int)      { p[i], p[j] = p[j], p[i] }
func (p *places) Push(x any)        { *p = append(*p, x.(int)) }
func (p *places) Pop() any {
	last := (*p)[len(*p)-1]
	*p = (*p)[:len(*p)-1]
	return last
}

// Back forgets the visits made above a level.
func (w *walk) Back(level int) {
	n := len(w.visits)
	for n > 0 && (w.visits[n-1].level > level || level == 0) {
		n--
	}
	if n > 0 && n == len(w.visits) {
		return
	}
	w.visits, w.needed = w.visits[:n], w.needed[:0]
	w.known = make([]bool, len(w.candidates))
	for _, v := range w.visits {
		w.known[v.place] = true
	}
	for _, c := range w.candidates {
		if c.asked {
			w.need(c)
		}
	}
	for i := range n - 1 { // the last may have questions left
		w.needTargets(w.visits[i].candidate)
	}
}

func (w *walk) need(c *candidate) {
	if !w.known[c.place] {
		w.known[c.place] = true
		heap.Push(&w.needed, c.place)
	}
}

func (w *walk) needTargets(c *candidate) {
	for _, n := range c.needs {
		for _, a := range n.alternatives {
			if w.Holds(a.link) {
				w.need(w.byName[a.target])
			}
		}
	}
}

// Check continues with the next package when the last one has no open question. It refuses tools
// that cannot be resolved apart, and circles.
func (w *walk) Check() []Literal {
	for w.stop == nil {
		if n := len(w.visits); n > 0 {
			last := w.visits[n-1].candidate
			if w.ask(last) != 0 {
				return nil
			}
			if circle := w.circle(last); circle != nil {
				return circle
			}
			w.needTargets(last)
		}
		if len(w.needed) == 0 {
			if phantom := w.phantom(); phantom != nil {
				return phantom
			}
			return w.refuseTools()
		}
		c := w.candidates[heap.Pop(&w.needed).(int)]
		w.visits = append(w.visits, visit{c, w.level()})
		w.stop = c.err
	}
	return nil
}

// Next returns the preferred answer to the next question.
func (w *walk) Next() Literal {
	if len(w.visits) == 0 || w.stop != nil {
		return 0
	}
	if l := w.ask(w.visits[len(w.visits)-1].candidate); l != 0 {
		return l
	}
	return w.absent()
}

// absent answers for a package that nothing leads to: it is not on the ladder. Until that is
// decided for all of them, something could be demanded only by them.
func (w *walk) absent() Literal {
	for _, c := range w.candidates {
		if !w.known[c.place] && w.open(c.present) {
			return c.present.Not()
		}
	}
	return 0
}

// ask returns the preferred answer to the first open question about a package, or 0 if there is
// none.
func (w *walk) ask(c *candidate) Literal {
	x := w.chosen(c)
	switch {
	case w.Fails(c.present):
		return 0
	case x == nil && !w.Holds(c.imagined):
		for _, x := range c.choices {
			if !w.Fails(x.Literal) {
				return x.Literal
			}
		}
		if !w.Fails(c.imagined) {
			return c.imagined
		}
		return c.present.Not()
	}
	for _, a := range c.asking {
		if w.Holds(a.link) && w.open(a.shared) && w.turnCame(a.needing.of) {
			return a.shared
		}
	}
	for _, s := range c.options {
		if l := w.askOption(s, x); l != 0 {
			return l
		}
	}
	if x != nil && x.release == nil {
		return 0
	}
	for _, n := range c.needs {
		if l := w.askNeed(n); l != 0 {
			return l
		}
	}
	return 0
}

// askOption returns the preferred value of an option that has none yet, or 0: a requested or
// kept one, the release's default, or any other.
func (w *walk) askOption(s *setting, x *choice) Literal {
	if slices.ContainsFunc(s.is, w.Holds) {
		return 0
	}
	if i := slices.IndexFunc(s.is[:s.said], w.open); i >= 0 {
		return s.is[i]
	}
	if x != nil && x.release != nil {
		if l := s.value(s.option.DefaultOf(x.release)); l != 0 && w.open(l) {
			return l
		}
	}
	if i := slices.IndexFunc(s.is, w.open); i >= 0 {
		return s.is[i]
	}
	return 0
}

func (w *walk) open(l Literal) bool { return !w.Holds(l) && !w.Fails(l) }

// chosen returns the release of a package on the ladder, or nil.
func (p *formula) chosen(c *candidate) *choice {
	for _, x := range c.choices {
		if p.Holds(x.Literal) {
			return x
		}
	}
	return nil
}

func (w *walk) askNeed(n *needing) Literal {
	for _, a := range n.alternatives {
		switch {
		case w.open(a.link) && w.Holds(n.said):
			return a.link
		case w.open(a.link):
			return a.link.Not() // nothing says that it counts
		case w.Holds(a.link) && w.open(a.shared) && w.turnCame(w.byName[a.target]):
			return a.shared
		}
	}
	return 0
}

// turnCame reports whether a package was visited.
func (w *walk) turnCame(c *candidate) bool {
	return w.known[c.place] && !slices.Contains(w.needed, c.place)
}

// circle returns a clause against the shortest circle of needs through a package, or nil. Tools
// apart are in no circle.
func (w *walk) circle(c *candidate) []Literal {
	from := map[*candidate]*alternative{} // by which each was first reached
	queue := []*candidate{c}
	for len(queue) > 0 {
		at := queue[0]
		queue = queue[1:]
		for _, n := range at.needs {
			for _, a := range n.alternatives {
				if !w.Holds(a.shared) {
					continue
				}
				to := w.byName[a.target]
				if to == c {
					broken := []Literal{a.shared.Not()}
					for at != c {
						broken = append(broken, from[at].shared.Not())
						at = from[at].needing.of
					}
					return broken
				}
				if from[to] == nil && w.turnCame(to) {
					from[to] = a
					queue = append(queue, to)
				}
			}
		}
	}
	return nil
}

// phantom returns a clause against packages that are on the ladder only because they need each
// other, and so could demand something although nothing requested leads to them; or nil. It is
// the loop formula of those packages (Lin and Zhao, 2004): for one of them to be on the ladder,
// some other package has to need one of them.
func (w *walk) phantom() []Literal {
	var broken []Literal
	for _, c := range w.candidates {
		if w.known[c.place] {
			continue
		}
		if broken == nil && w.Holds(c.present) {
			broken = []Literal{c.present.Not()}
		}
	}
	if broken == nil {
		return nil
	}
	for _, c := range w.candidates {
		for _, a := range c.asking {
			if !w.known[c.place] && w.known[a.needing.of.place] {
				broken = append(broken, a.shared)
			}
		}
	}
	return broken
}

// refuseTools returns a clause against one of the tools that are apart, or nil if all of them
// are possible. That takes a search for each, so it is done when everything else fits.
func (w *walk) refuseTools() []Literal {
	for _, v := range w.visits {
		for _, n := range v.needs {
			for _, a := range n.alternatives {
				if a.alone == 0 || !w.Holds(a.alone) || w.possible[a] {
					continue
				}
				if broken := w.refuse(a); broken != nil || w.stop != nil {
					return broken
				}
			}
		}
	}
	return nil
}

// refuse returns a clause against meeting a need with a tool apart, or nil if that is possible.
func (w *walk) refuse(a *alternative) []Literal {
	without := map[key]bool{}
	for _, s := range w.sentences {
		if !w.Holds(s.Literal) {
			without[s.key()] = true
		}
	}
	got, err := w.scopes.possible(w.ctx, w.request, a.demanded, without)
	if w.stop = err; err != nil {
		return nil
	}
	if w.possible[a] = got.found; got.found {
		return nil
	}
	broken := []Literal{a.alone.Not()}
	for _, s := range got.core {
		if same := w.byKey[s.key()]; same != nil {
			broken = append(broken, same.Not())
		}
	}
	return broken
}
