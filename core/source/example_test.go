package source_test

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"os"
	"path/filepath"

	"fernladder/core/recipe"
	"fernladder/core/source"
)

func ExampleArchives_Fetch() {
	dir, _ := os.MkdirTemp("", "archives")
	defer os.RemoveAll(dir)
	file := filepath.Join(dir, "fern.tar")
	os.WriteFile(file, []byte("leaves"), 0o644)
	sum := sha256.Sum256([]byte("leaves"))
	archives := &source.Archives{Dir: filepath.Join(dir, "store"),
		Network: source.NewNetwork(func(string) string { return "" })}
	wanted := source.Wanted{Package: "fern", Version: "1.0", URLs: []string{"file://" + file},
		Digest: recipe.Digest{Algorithm: "sha256", Hex: hex.EncodeToString(sum[:])}}
	got, err := archives.Fetch(context.Background(), wanted)
	fmt.Println(got.Size, archives.Has(wanted.Digest), err)
	// Output: 6 true <nil>
}
