package resolve_test

import (
	"context"
	"fmt"

	"fernladder/core/resolve"
)

// undecided prefers false for everything that need not be true.
type undecided struct{}

func (undecided) Next() resolve.Literal    { return 0 }
func (undecided) Back(int)                 {}
func (undecided) Check() []resolve.Literal { return nil }

func ExampleSolver() {
	s := resolve.New()
	fern, moss := s.Variable(), s.Variable()
	s.Add(fern, moss)             // one of them, at least
	s.Add(fern.Not(), moss.Not()) // and not both
	_, found, _ := s.Solve(context.Background(), []resolve.Literal{fern}, undecided{})
	fmt.Println(found, s.Holds(fern), s.Fails(moss))
	core, found, _ := s.Solve(context.Background(), []resolve.Literal{fern, moss}, undecided{})
	fmt.Println(found, len(core))
	// Output:
	// true true true
	// false 2
}
