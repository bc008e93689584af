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
	var none *tinker.None
	fmt.Println(err, errors.As(err, &none))
	// Output: nobody tinkers with fern true
}
