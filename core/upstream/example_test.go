package upstream_test

import (
	"fmt"

	"fernladder/core/recipe"
	"fernladder/core/upstream"
	"fernladder/core/version"
)

func ExampleNewest() {
	r := &recipe.Recipe{Releases: []*recipe.Release{
		{Version: version.MustParse("2.0-rc1"), Track: recipe.Preview},
		{Version: version.MustParse("1.9"), Track: recipe.Stable}, {Version: version.MustParse("1.10"), Track: recipe.Stable},
	}}
	fmt.Println(upstream.Newest(r))
	// Output: 1.10
}
