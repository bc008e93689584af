package durable_test

import (
	"fmt"
	"os"
	"path/filepath"

	"fernladder/core/durable"
)

func ExampleWriteFile() {
	dir, _ := os.MkdirTemp("", "durable")
	defer os.RemoveAll(dir)
	file := filepath.Join(dir, "state")
	fmt.Println(durable.WriteFile(file, []byte("one"), 0o644), durable.WriteFile(file, []byte("two"), 0o600))
	data, _ := os.ReadFile(file)
	info, _ := os.Stat(file)
	fmt.Println(string(data), info.Mode())
	// Output:
	// <nil> <nil>
	// two -rw-------
}

// A renewed file keeps its owner and mode.
func ExampleRenew() {
	dir, _ := os.MkdirTemp("", "durable")
	defer os.RemoveAll(dir)
	file := filepath.Join(dir, "conf")
	os.WriteFile(file, []byte("one"), 0o600)
	os.Chmod(file, 0o640)
	fmt.Println(durable.Renew(file, []byte("two")))
	info, _ := os.Stat(file)
	fmt.Println(info.Mode())
	// Output:
	// <nil>
	// -rw-r-----
}

func ExampleSyncAll() {
	dir, _ := os.MkdirTemp("", "durable")
	defer os.RemoveAll(dir)
	os.WriteFile(filepath.Join(dir, "leaf"), []byte("x"), 0o400)
	os.Symlink("nowhere", filepath.Join(dir, "link"))
	fmt.Println(durable.SyncAll(dir))
	// Output: <nil>
}
