package inspect_test

import (
	"fmt"
	"os"
	"path/filepath"

	"fernladder/core/inspect"
)

func ExampleCompare() {
	a, _ := os.MkdirTemp("", "a")
	b, _ := os.MkdirTemp("", "b")
	defer os.RemoveAll(a)
	defer os.RemoveAll(b)
	os.WriteFile(filepath.Join(a, "leaf"), []byte("green"), 0o644)
	os.WriteFile(filepath.Join(b, "leaf"), []byte("green"), 0o600)
	differences, err := inspect.Compare(a, b)
	fmt.Println(len(differences), differences[0].File, err)
	// Output: 1 leaf <nil>
}
