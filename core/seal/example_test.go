package seal_test

import (
	"fmt"

	"fernladder/core/seal"
)

func ExampleLevel_AtLeast() {
	fmt.Println(seal.Sealed.AtLeast(seal.Fenced), seal.Open.AtLeast(seal.Fenced))
	// Output: true false
}

func ExampleParseUsers() {
	users, err := seal.ParseUsers("1900000000-1900000255")
	fmt.Println(users, users.Number, err)
	// Output: 1900000000-1900000255 256 <nil>
}
