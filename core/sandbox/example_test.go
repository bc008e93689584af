package sandbox_test

import (
	"fmt"

	"fernladder/core/sandbox"
)

func ExampleLevel_AtLeast() {
	fmt.Println(sandbox.Sealed.AtLeast(sandbox.Fenced), sandbox.Open.AtLeast(sandbox.Fenced))
	// Output: true false
}

func ExampleParseUsers() {
	users, err := sandbox.ParseUsers("1900000000-1900000255")
	fmt.Println(users, users.Number, err)
	// Output: 1900000000-1900000255 256 <nil>
}
