package traces_test

import (
	"context"
	"fmt"

	"fernladder/core/traces"
)

// Without lists of packages, programs and libraries count.
func ExampleSystem_Beyond() {
	s := &traces.System{}
	files := traces.Files{"/usr/bin/bison": traces.Ran, "/usr/bin/sed": traces.Ran, "/usr/lib/libleaf.so": traces.Linked}
	uses, _, err := s.Beyond(context.Background(), files, traces.Declaration{})
	for _, u := range uses {
		fmt.Println(u.How, u.Question)
	}
	fmt.Println(err)
	// Output:
	// linked library leaf
	// ran program bison
	// <nil>
}
