package tinker_test

import (
	"errors"
	"fmt"
	"os"

	"fernladder/core/store"
	"fernladder/core/tinker"
)

func ExampleRead() {
	root, _ := os.MkdirTemp("", "root")
	defer os.RemoveAll(root)
	_, err := tinker.Read(&store.Store{Root: root}, "fern")
	fmt.Println(err, errors.Is(err, tinker.None))
	// Output: fern is not being tinkered with true
}
