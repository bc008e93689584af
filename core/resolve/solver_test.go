package resolve

import (
	"context"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// inOrder tries literals in their order. Forbidden clauses are only found when all their
// literals fail.
type inOrder struct {
	*Solver
	order     []Literal
	forbidden [][]Literal
}

func (g inOrder) Back(int) {}

func (g inOrder) Next() Literal {
	for _, l := range g.order {
		if !g.Holds(l) && !g.Fails(l) {
			return l
		}
	}
	return 0
}

func (g inOrder) Check() []Literal {
	for _, c := range g.forbidden {
		if !slices.ContainsFunc(c, func(l Literal) bool { return !g.Fails(l) }) {
			return c
		}
	}
	return nil
}

// first returns the first values, in order, of an exhaustive search, those with the literals of
// order true first.
func first(order []Literal, holds func(map[Literal]bool) bool) map[Literal]bool {
	for n := range 1 << len(order) {
		values := map[Literal]bool{}
		for i, l := range order {
			is := n>>(len(order)-1-i)&1 == 0
			values[l], values[l.Not()] = is, !is
		}
		if holds(values) {
			return values
		}
	}
	return nil
}

// The values found are the first in the order of preference, and there are none only if an
// exhaustive search finds none; then the named assumptions contradict each other.
func TestSolveAgainstAllCombinations(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s := New()
		var order, assumptions []Literal
		for range rapid.IntRange(1, 8).Draw(t, "variables") {
			l := s.Variable()
			if rapid.Bool().Draw(t, "prefer false") {
				l = l.Not()
			}
			order = append(order, l)
		}
		literal := func(name string) Literal {
			l := rapid.SampledFrom(order).Draw(t, name)
			if rapid.Bool().Draw(t, "not") {
				return l.Not()
			}
			return l
		}
		g := inOrder{Solver: s, order: order}
		var clauses, single [][]Literal
		for range rapid.IntRange(0, 24).Draw(t, "clauses") {
			c := make([]Literal, rapid.IntRange(1, 4).Draw(t, "length"))
			for i := range c {
				c[i] = literal("literal")
			}
			switch rapid.IntRange(0, 4).Draw(t, "kind") {
			case 0:
				c = slices.Compact(slices.Sorted(slices.Values(c)))
				single = append(single, c)
				s.addSingle(c...)
			case 1:
				g.forbidden = append(g.forbidden, c)
			default:
				clauses = append(clauses, c)
				s.Add(c...)
			}
		}
		for _, l := range order {
			if rapid.IntRange(0, 3).Draw(t, "assumed") == 0 {
				assumptions = append(assumptions, l.Not())
			}
		}
		holds := func(assumed []Literal) func(map[Literal]bool) bool {
			return func(values map[Literal]bool) bool {
				count := func(c []Literal) (n int) {
					for _, l := range c {
						if values[l] {
							n++
						}
					}
					return n
				}
				return count(assumed) == len(assumed) &&
					!slices.ContainsFunc(slices.Concat(clauses, g.forbidden), func(c []Literal) bool { return count(c) == 0 }) &&
					!slices.ContainsFunc(single, func(c []Literal) bool { return count(c) > 1 })
			}
		}
		for range 2 { // what was learnt the first time must not change the answer
			core, found, err := s.Solve(context.Background(), assumptions, g)
			require.NoError(t, err)
			want := first(order, holds(assumptions))
			require.Equal(t, want != nil, found)
			if !found {
				assert.Subset(t, assumptions, core)
				assert.Nil(t, first(order, holds(core)), "these assumptions can hold together: %v", core)
			}
			for _, l := range order {
				if found {
					assert.Equal(t, want[l], s.Holds(l), "literal %d", l)
				}
			}
		}
	})
}

// Seven pigeons do not fit in six holes, in any order of trying.
func TestPigeonsAreRefuted(t *testing.T) {
	s := New()
	const pigeons, holes = 7, 6
	in := make([][]Literal, holes)
	g := inOrder{Solver: s}
	for range pigeons {
		var somewhere []Literal
		for h := range holes {
			l := s.Variable()
			in[h] = append(in[h], l)
			somewhere = append(somewhere, l)
			g.order = append(g.order, l)
		}
		s.Add(somewhere...)
	}
	for _, hole := range in {
		s.addSingle(hole...)
	}
	_, found, err := s.Solve(context.Background(), nil, g)
	require.NoError(t, err)
	assert.False(t, found)
	assert.Less(t, s.Conflicts(), 100_000)
}

func TestSolveEndsWithItsContext(t *testing.T) {
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	s := New()
	l := s.Variable()
	_, _, err := s.Solve(ctx, nil, inOrder{Solver: s, order: []Literal{l}})
	assert.ErrorIs(t, err, context.Canceled)
}
