package landing_test

import (
	"fmt"

	"fernladder/core/landing"
	"fernladder/core/store"
)

func ExampleCompare() {
	member := func(name, version string) landing.Member {
		return landing.Member{Ref: store.Ref{Name: name, Version: version}}
	}
	d := landing.Compare([]landing.Member{member("dewcalc", "1.3"), member("loamdb", "0.9")},
		[]landing.Member{member("dewcalc", "1.4"), member("mistplan", "2.1")})
	fmt.Println(d.Came[0].Name, d.Went[0].Name, d.Moved[0].From.Version, d.Moved[0].To.Version)
	// Output: mistplan loamdb 1.3 1.4
}
