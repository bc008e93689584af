package version_test

import (
	"fmt"
	"slices"

	"fernladder/core/version"
)

func ExampleVersion_Compare() {
	var all []version.Version
	for _, text := range []string{"1.10", "1.6", "1.6-rc1", "1.6+7.gabc", "1.6b"} {
		all = append(all, version.MustParse(text))
	}
	slices.SortFunc(all, version.Version.Compare)
	fmt.Println(all)
	// Output: [1.6-rc1 1.6 1.6+7.gabc 1.6b 1.10]
}

func ExampleParseRange() {
	r, err := version.ParseRange(">= 1.4, < 2")
	fmt.Println(r.Contains(version.MustParse("1.9.3")), r.Contains(version.MustParse("2.0")), err)
	// Output: true false <nil>
}
