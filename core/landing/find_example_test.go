package landing_test

import (
	"fmt"

	"fernladder/core/landing"
	"fernladder/core/store"
)

func ExampleParseName() {
	build := store.Ref{Name: "mistplan", Version: "1.9.4", ID: "3f9c0123abcd"}
	for _, text := range []string{"mistplan", "mistplan:>=2", "mistplan@3f9c", "mistplan@3f9d"} {
		name, err := landing.ParseName(text)
		fmt.Println(text, name.Fits(build, false), err)
	}
	// Output:
	// mistplan true <nil>
	// mistplan:>=2 false <nil>
	// mistplan@3f9c true <nil>
	// mistplan@3f9d false <nil>
}
