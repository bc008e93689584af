package build_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"

	"fernladder/core/build"
	"fernladder/core/recipe"
	"fernladder/core/resolve"
	"fernladder/core/store"
)

func ExamplePlan() {
	dir, _ := os.MkdirTemp("", "shelf")
	defer os.RemoveAll(dir)
	os.Mkdir(filepath.Join(dir, "fern"), 0o755)
	os.WriteFile(filepath.Join(dir, "fern", recipe.FileName),
		[]byte("format = 1\n[package]\nname = \"fern\"\nsummary = \"Grows\"\n[[release]]\nversion = \"1.0\"\narchive = "+
			"\"https://vale-glasshouse.example/fern.tar\"\nsha256 = "+
			"\"0000000000000000000000000000000000000000000000000000000000000000\"\n[build]\nmethod = \"make\"\n"), 0o644)
	shelves := recipe.NewShelves([]recipe.Shelf{{Dir: dir, Shown: "recipes"}})
	ladder, err := resolve.Solve(context.Background(), shelves, resolve.Request{Wanted: []resolve.Wanted{{Name: "fern"}}})
	if err != nil {
		fmt.Println(err)
		return
	}
	jobs, err := build.Plan(ladder, build.Target{Store: &store.Store{Root: "/srv/fernladder"}, Jobs: 4})
	for _, stage := range jobs[0].Stages {
		fmt.Println(stage.Name, len(stage.Commands))
	}
	fmt.Println(err)
	// Output:
	// unpack 0
	// compile 1
	// place 3
	// <nil>
}
