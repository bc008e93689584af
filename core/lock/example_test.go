package lock_test

import (
	"fmt"

	"fernladder/core/lock"
	"fernladder/core/version"
)

func ExampleFile_Compare() {
	v := version.MustParse("1.4.2")
	f := &lock.File{Shown: "ladder.lock", Builds: []*lock.Build{{Name: "dewcalc", Version: v, Asked: true}}}
	fmt.Println(f.Asked(), f.Compare([]*lock.Build{{Name: "dewcalc", Version: v}}, "x86_64", nil))
	fmt.Println(f.Compare([]*lock.Build{{Name: "loamdb", Version: v}}, "x86_64", nil))
	// Output:
	// [dewcalc] <nil>
	// This ladder differs from ladder.lock:
	//     loamdb 1.4.2 is not locked
	//   Restore the shelves, or lock this ladder.
}
