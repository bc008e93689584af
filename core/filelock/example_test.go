package filelock_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"

	"fernladder/core/filelock"
)

func ExampleExclusive() {
	dir, _ := os.MkdirTemp("", "lock")
	defer os.RemoveAll(dir)
	file := filepath.Join(dir, "landing")
	unlock, err := filelock.Exclusive(context.Background(), file, func() { fmt.Println("waiting") })
	fmt.Println(err)
	_, err = filelock.Now(file)
	fmt.Println(err)
	unlock()
	_, err = filelock.Now(file)
	fmt.Println(err)
	// Output:
	// <nil>
	// another process holds the lock
	// <nil>
}
