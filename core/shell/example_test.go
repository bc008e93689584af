package shell_test

import (
	"fmt"

	"fernladder/core/shell"
)

func ExampleTyped() {
	argv := []string{"dew", "--name=it's", "a b"}
	fmt.Println(shell.Typed(argv))
	fmt.Println(shell.Command(argv))
	// Output:
	// dew '--name=it'\''s' 'a b'
	// 'dew' '--name=it'\''s' 'a b'
}
