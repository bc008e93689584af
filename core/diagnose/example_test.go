package diagnose_test

import (
	"fmt"

	"fernladder/core/diagnose"
)

func ExampleTable_Log() {
	c := diagnose.Own().Log("cc -c frond.c\nfrond.c:3:10: fatal error: leaf.h: No such file or directory\ncompilation " +
		"terminated.\nmake: *** [frond.o] Error 1\n")
	fmt.Println(c, "at", c.Place)
	fmt.Println(c.Questions()[0])
	// Output:
	// the header leaf.h is missing at frond.c:3
	// header leaf.h
}
