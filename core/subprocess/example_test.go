package subprocess_test

import (
	"fmt"

	"fernladder/core/subprocess"
)

func ExampleTyped() {
	argv := []string{"dew", "--name=it's", "a b"}
	fmt.Println(subprocess.Typed(argv))
	fmt.Println(subprocess.CommandLine(argv))
	// Output:
	// dew '--name=it'\''s' 'a b'
	// 'dew' '--name=it'\''s' 'a b'
}
