package used_test

import (
	"context"
	"fmt"

	"fernladder/core/used"
)

// Where nothing is known of packages, programs and libraries count.
func ExampleSystem_Beyond() {
	s := &used.System{}
	files := used.Files{"/usr/bin/bison": used.Ran, "/usr/bin/sed": used.Ran, "/usr/lib/libleaf.so": used.Linked}
	uses, _, err := s.Beyond(context.Background(), files, used.Declaration{})
	for _, u := range uses {
		fmt.Println(u.How, u.Question)
	}
	fmt.Println(err)
	// Output:
	// linked library leaf
	// ran program bison
	// <nil>
}
