package recipe_test

import (
	"fmt"
	"os"
	"path/filepath"

	"fernladder/core/recipe"
)

func ExampleShelves_Find() {
	dir, _ := os.MkdirTemp("", "shelf")
	defer os.RemoveAll(dir)
	os.Mkdir(filepath.Join(dir, "fern"), 0o755)
	os.WriteFile(filepath.Join(dir, "fern", recipe.FileName), []byte(`
format = 1
[package]
name    = "fern"
summary = "Grows"
[source]
archive = "https://vale-glasshouse.example/fern-$FL_VERSION.tar.gz"
[[release]]
version = "1.0"
sha256  = "0000000000000000000000000000000000000000000000000000000000000000"
[build]
method = "meson"
`), 0o644)
	shelves := recipe.NewShelves([]recipe.Shelf{{Dir: dir, Shown: "recipes"}})
	r, err := shelves.Find("fern")
	fmt.Println(r.Summary, r.Sources(r.Releases[0]), err)
	_, err = shelves.Find("ferm")
	fmt.Println(err)
	// Output:
	// Grows [https://vale-glasshouse.example/fern-1.0.tar.gz] <nil>
	// no shelf has a recipe "ferm" (searched: recipes); did you mean "fern"?
}
