package pattern_test

import (
	"fmt"

	"fernladder/core/pattern"
)

var leaf = pattern.New(`leaf-(\d+)`) // nothing is compiled yet

func ExampleNew() {
	fmt.Println(leaf.FindStringSubmatch("a leaf-12 falls"))
	// Output: [leaf-12 12]
}
