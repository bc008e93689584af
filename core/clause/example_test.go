package clause_test

import (
	"context"
	"fmt"

	"fernladder/core/clause"
)

// undecided lets everything be false that need not be true.
type undecided struct{}

func (undecided) Next() clause.Literal    { return 0 }
func (undecided) Back(int)                {}
func (undecided) Check() []clause.Literal { return nil }

func ExampleSolver() {
	s := clause.New()
	fern, moss := s.Variable(), s.Variable()
	s.Add(fern, moss)             // one of them, at least
	s.Add(fern.Not(), moss.Not()) // and not both
	_, found, _ := s.Solve(context.Background(), []clause.Literal{fern}, undecided{})
	fmt.Println(found, s.Holds(fern), s.Fails(moss))
	core, found, _ := s.Solve(context.Background(), []clause.Literal{fern, moss}, undecided{})
	fmt.Println(found, len(core))
	// Output:
	// true true true
	// false 2
}
