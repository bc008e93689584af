package store_test

import (
	"fmt"
	"os"

	"fernladder/core/store"
)

func ExampleStore() {
	root, _ := os.MkdirTemp("", "root")
	defer os.RemoveAll(root)
	s := &store.Store{Root: root}
	fmt.Println(s.Prepare())
	fern := store.Ref{Name: "fern", Version: "1.0", ID: "0123456789ab"}
	fmt.Println(s.Tree(fern)[len(root):], s.Installed(fern))
	trees, err := s.Trees()
	fmt.Println(len(trees), err)
	// Output:
	// <nil>
	// /trees/fern/1.0-0123456789ab false
	// 0 <nil>
}
