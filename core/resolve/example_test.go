package resolve_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"

	"fernladder/core/recipe"
	"fernladder/core/resolve"
)

// shelf is a shelf with two packages, of which the first needs the second.
func shelf(dir string) *recipe.Shelves {
	for name, need := range map[string]string{"mistplan": "[[need]]\nrecipe = \"dewcalc\"\nversion = \">= 1.4\"\nrole " +
		"= \"library\"\n", "dewcalc": ""} {
		os.Mkdir(filepath.Join(dir, name), 0o755)
		os.WriteFile(filepath.Join(dir, name, recipe.FileName),
			[]byte("format = 1\n[package]\nname = \""+name+
				"\"\nsummary = \"Grows\"\n[[release]]\nversion = \"1.5\"\narchive = "+
				"\"https://vale-glasshouse.example/x.tar\"\nsha256 = "+
				"\"0000000000000000000000000000000000000000000000000000000000000000\"\n"+need+"[build]\nmethod = \"make\"\n"),
			0o644)
	}
	return recipe.NewShelves([]recipe.Shelf{{Dir: dir, Shown: "recipes"}})
}

func ExampleSolve() {
	dir, _ := os.MkdirTemp("", "shelf")
	defer os.RemoveAll(dir)
	shelves := shelf(dir)
	ladder, err := resolve.Solve(context.Background(), shelves,
		resolve.Request{Wanted: []resolve.Wanted{{Name: "mistplan"}}})
	for _, p := range ladder.Packages {
		fmt.Println(p.Rung, p.Name(), p.Release.Version)
	}
	fmt.Println(err)
	old, _ := resolve.ParseWanted("dewcalc:<1.4")
	_, err = resolve.Solve(context.Background(), shelves,
		resolve.Request{Wanted: []resolve.Wanted{{Name: "mistplan"}, old}})
	fmt.Println(err != nil)
	// Output:
	// 1 dewcalc 1.5
	// 2 mistplan 1.5
	// <nil>
	// true
}
