package safefs_test

import (
	"fmt"
	"os"
	"path/filepath"

	"fernladder/core/safefs"
)

func ExampleDir_ReadFile() {
	dir, _ := os.MkdirTemp("", "ground")
	defer os.RemoveAll(dir)
	os.WriteFile(filepath.Join(dir, "leaf"), []byte("green"), 0o644)
	os.Symlink("/etc/passwd", filepath.Join(dir, "trap"))
	d, err := safefs.OpenDir(dir)
	if err != nil {
		fmt.Println(err)
		return
	}
	defer d.Close()
	data, err := d.ReadFile("leaf", 100)
	fmt.Println(string(data), err)
	_, err = d.ReadFile("trap", 100)
	fmt.Println(err != nil)
	// Output:
	// green <nil>
	// true
}
