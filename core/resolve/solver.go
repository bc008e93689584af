package resolve

// This file is a SAT solver: it finds truth values under which all clauses of a set hold,
// or the assumptions that contradict each other.
//
// The search learns a clause from every conflict and jumps back to where that clause
// first forces a value (GRASP: Marques-Silva and Sakallah, 1996; watched literals and first
// unique implication points as in Chaff: Moskewicz and others, 2001; assumptions as in
// MiniSat: Eén and Sörensson, 2003). The caller chooses the next question and the answer to
// try first; the answer that is tried is the one found, unless it contradicts earlier
// answers.

import (
	"context"
	"slices"
)

// A Literal is a variable or its negation. The zero Literal is not a literal.
type Literal int32

// Not returns the negation.
func (l Literal) Not() Literal { return l ^ 1 }

func (l Literal) variable() int { return int(l >> 1) }

// A Guide steers the search.
type Guide interface {
	// Next returns the literal to try next, which must have no value yet, or 0 if everything that
	// matters is decided. Everything left open then must be able to be false.
	Next() Literal
	// Back says that the values of the levels above this one are gone.
	Back(level int)
	// Check returns a clause that must hold and whose literals have all become false, or nil. It is
	// called before each Next.
	Check() []Literal
}

// A Solver holds clauses. It is for one goroutine.
type Solver struct {
	clauses [][]Literal // each is watched at its first two literals
	watched [][]watch   // by literal: the clauses to look at when it fails
	single  [][]Literal // groups of which at most one literal holds
	groups  [][]int32   // by literal: the groups it is in

	values []int8    // by literal: 1 when it holds, -1 when it fails, 0 when open
	levels []int32   // by variable
	causes []cause   // by variable
	marked []bool    // by variable; all false between conflicts
	trail  []Literal // the true literals, in the order in which they became true
	starts []int     // where on the trail each level begins
	next   int       // where on the trail propagation goes on

	impossible bool // whatever is assumed
	conflicts  int
}

// watch is a clause with one of its literals: if that holds, so does the clause.
type watch struct {
	clause int32
	other  Literal
}

// cause is why a literal holds: a clause in which all others fail, counted from 1, or another
// literal of a group. The zero cause is a decision.
type cause struct {
	clause int32
	by     Literal
}

// New returns a Solver without clauses.
func New() *Solver {
	return &Solver{
		watched: make([][]watch, 2), groups: make([][]int32, 2), values: make([]int8, 2),
		levels: make([]int32, 1), causes: make([]cause, 1), marked: make([]bool, 1),
	}
}

// Variable adds a variable and returns the literal that says it is true.
func (s *Solver) Variable() Literal {
	l := Literal(len(s.values))
	s.values = append(s.values, 0, 0)
	s.watched = append(s.watched, nil, nil)
	s.groups = append(s.groups, nil, nil)
	s.levels = append(s.levels, 0)
	s.causes = append(s.causes, cause{})
	s.marked = append(s.marked, false)
	return l
}

// Holds reports whether a literal holds.
func (s *Solver) Holds(l Literal) bool { return s.values[l] > 0 }

// Fails reports whether its negation holds.
func (s *Solver) Fails(l Literal) bool { return s.values[l] < 0 }

// level is the level of the last decision: assumptions are level 1, and each decision makes one
// more.
func (s *Solver) level() int { return len(s.starts) }

// Trail returns what holds, in the order in which it was decided. The caller must not change it.
func (s *Solver) Trail() []Literal { return s.trail }

// Conflicts returns the number of conflicts in the search.
func (s *Solver) Conflicts() int { return s.conflicts }

// Add adds a clause: at least one of its literals holds. It must not be called
// while Solve runs.
func (s *Solver) Add(literals ...Literal) {
	s.back(0)
	kept := make([]Literal, 0, len(literals))
	for _, l := range literals {
		if s.Holds(l) || slices.Contains(kept, l.Not()) {
			return
		}
		if !s.Fails(l) && !slices.Contains(kept, l) {
			kept = append(kept, l)
		}
	}
	switch len(kept) {
	case 0:
		s.impossible = true
	case 1:
		s.hold(kept[0], cause{})
		s.impossible = s.impossible || s.propagate() != nil
	default:
		s.keep(kept)
	}
}

// addSingle adds a group of which at most one literal holds.
func (s *Solver) addSingle(literals ...Literal) {
	s.back(0)
	g := int32(len(s.single))
	s.single = append(s.single, slices.Clone(literals))
	for _, l := range literals {
		s.groups[l] = append(s.groups[l], g)
		if s.Holds(l) { // its exclusions are found again
			s.next = 0
		}
	}
}

// keep stores a clause of at least two literals, to be watched at the first two.
func (s *Solver) keep(literals []Literal) int32 {
	s.clauses = append(s.clauses, literals)
	c := int32(len(s.clauses))
	s.watched[literals[0]] = append(s.watched[literals[0]], watch{c, literals[1]})
	s.watched[literals[1]] = append(s.watched[literals[1]], watch{c, literals[0]})
	return c
}

// hold gives an open literal the value true.
func (s *Solver) hold(l Literal, why cause) {
	s.values[l], s.values[l.Not()] = 1, -1
	s.levels[l.variable()] = int32(len(s.starts))
	s.causes[l.variable()] = why
	s.trail = append(s.trail, l)
}

// back takes back the values of the levels above this one.
func (s *Solver) back(level int) {
	if len(s.starts) <= level {
		return
	}
	for _, l := range s.trail[s.starts[level]:] {
		s.values[l], s.values[l.Not()] = 0, 0
	}
	s.trail = s.trail[:s.starts[level]]
	s.starts = s.starts[:level]
	s.next = min(s.next, len(s.trail))
}

// propagate draws the consequences of the values so far. It returns a clause whose literals all
// fail, or nil.
func (s *Solver) propagate() []Literal {
	for ; s.next < len(s.trail); s.next++ {
		l := s.trail[s.next]
		for _, g := range s.groups[l] {
			for _, other := range s.single[g] {
				switch {
				case other == l || s.Fails(other):
				case s.Holds(other):
					return []Literal{l.Not(), other.Not()}
				default:
					s.hold(other.Not(), cause{by: l})
				}
			}
		}
		if broken := s.visit(l.Not()); broken != nil {
			return broken
		}
	}
	return nil
}

// visit looks at the clauses that are watched at a literal that has become false: each gets
// another watch, has one literal left, or is broken.
func (s *Solver) visit(failed Literal) (broken []Literal) {
	watches := s.watched[failed]
	kept := watches[:0]
	for i, w := range watches {
		if s.Holds(w.other) {
			kept = append(kept, w)
			continue
		}
		c := s.clauses[w.clause-1]
		if c[0] == failed {
			c[0], c[1] = c[1], c[0]
		}
		moved := false
		if !s.Holds(c[0]) {
			for k := 2; k < len(c); k++ {
				if !s.Fails(c[k]) {
					c[1], c[k] = c[k], c[1]
					s.watched[c[1]] = append(s.watched[c[1]], watch{w.clause, c[0]})
					moved = true
					break
				}
			}
		}
		if moved {
			continue
		}
		kept = append(kept, watch{w.clause, c[0]})
		if s.Fails(c[0]) {
			s.watched[failed] = append(kept, watches[i+1:]...)
			return c
		}
		if !s.Holds(c[0]) {
			s.hold(c[0], cause{clause: w.clause})
		}
	}
	s.watched[failed] = kept
	return nil
}

// Solve looks for values under which all clauses and assumptions hold. If there are some, they
// can be read until the next call of a method that adds or solves; if there are none, it returns
// assumptions that cannot hold together. Its error is that of ctx.
func (s *Solver) Solve(ctx context.Context, assumptions []Literal, guide Guide) (core []Literal, found bool,
	err error) {
	s.back(0)
	guide.Back(0)
	if s.impossible {
		return nil, false, nil
	}
	s.starts = append(s.starts, len(s.trail))
	for _, a := range assumptions {
		if s.Fails(a) {
			return []Literal{a}, false, nil // unless it contradicts another, which no caller's does
		}
		if !s.Holds(a) {
			s.hold(a, cause{})
		}
	}
	for {
		if err := ctx.Err(); err != nil {
			return nil, false, err
		}
		broken := s.propagate()
		if broken == nil {
			if broken = guide.Check(); broken != nil {
				s.learn(slices.Clone(broken))
			}
		}
		if broken != nil {
			s.conflicts++
			level := 0
			for _, l := range broken {
				level = max(level, int(s.levels[l.variable()]))
			}
			if level <= 1 {
				return s.assumed(broken), false, nil
			}
			s.back(level)
			learnt, level := s.analyse(broken)
			s.back(level)
			guide.Back(level)
			s.hold(learnt[0], cause{clause: s.learn(learnt)})
			continue
		}
		l := guide.Next()
		if l == 0 {
			return nil, true, nil
		}
		s.starts = append(s.starts, len(s.trail))
		s.hold(l, cause{})
	}
}

// learn keeps a clause whose literals have values, watched at those that are taken back last. A
// clause of one literal needs no watch.
func (s *Solver) learn(literals []Literal) int32 {
	for place := range min(2, len(literals)) {
		for i := place + 1; i < len(literals); i++ {
			if s.levelOf(literals[i]) > s.levelOf(literals[place]) {
				literals[place], literals[i] = literals[i], literals[place]
			}
		}
	}
	if len(literals) == 1 {
		s.clauses = append(s.clauses, literals)
		return int32(len(s.clauses))
	}
	return s.keep(literals)
}

// levelOf is the level at which a literal got its value; open ones come before everything.
func (s *Solver) levelOf(l Literal) int32 {
	if s.values[l] == 0 {
		return int32(len(s.starts)) + 1
	}
	return s.levels[l.variable()]
}

// analyse returns a clause that follows from a broken one and has one literal of the current
// level, its first; and the level at which it implies that literal.
func (s *Solver) analyse(broken []Literal) (learnt []Literal, level int) {
	present := int32(len(s.starts))
	learnt = []Literal{0}
	var seen []Literal
	level = 1
	left := 0 // marked literals of the present level
	place := len(s.trail) - 1
	for {
		for _, l := range broken {
			v := l.variable()
			if s.marked[v] || s.levels[v] == 0 {
				continue
			}
			s.marked[v] = true
			seen = append(seen, l)
			if s.levels[v] == present {
				left++
				continue
			}
			learnt = append(learnt, l)
			level = max(level, int(s.levels[v]))
		}
		for !s.marked[s.trail[place].variable()] {
			place--
		}
		l := s.trail[place]
		place--
		if left--; left == 0 {
			learnt[0] = l.Not()
			break
		}
		broken = s.because(l)
	}
	for _, l := range seen {
		s.marked[l.variable()] = false
	}
	return learnt, level
}

// because returns the literals whose failing implied l.
func (s *Solver) because(l Literal) []Literal {
	why := s.causes[l.variable()]
	if why.clause == 0 {
		if why.by == 0 {
			return nil
		}
		return []Literal{why.by.Not()}
	}
	return slices.DeleteFunc(slices.Clone(s.clauses[why.clause-1]), func(other Literal) bool { return other == l })
}

// assumed returns the assumptions that break a clause.
func (s *Solver) assumed(broken []Literal) (core []Literal) {
	var seen []int
	mark := func(literals []Literal) {
		for _, l := range literals {
			if v := l.variable(); !s.marked[v] && s.levels[v] > 0 {
				s.marked[v] = true
				seen = append(seen, v)
			}
		}
	}
	mark(broken)
	for i := len(s.trail) - 1; i >= 0; i-- {
		l := s.trail[i]
		if !s.marked[l.variable()] {
			continue
		}
		if s.causes[l.variable()] == (cause{}) {
			core = append(core, l)
		}
		mark(s.because(l))
	}
	for _, v := range seen {
		s.marked[v] = false
	}
	slices.Sort(core)
	return core
}
