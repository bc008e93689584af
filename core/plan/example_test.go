package plan_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"

	"fernladder/core/machine"
	"fernladder/core/plan"
	"fernladder/core/recipe"
	"fernladder/core/settings"
)

// garden is a machine with one recipe on its shelf, and nothing built.
func garden() (m *machine.Machine, done func()) {
	dir, _ := os.MkdirTemp("", "garden")
	os.MkdirAll(filepath.Join(dir, "recipes", "fern"), 0o755)
	os.WriteFile(filepath.Join(dir, "recipes", "fern", recipe.FileName),
		[]byte("format = 1\n[package]\nname = \"fern\"\nsummary = \"Grows\"\n[[release]]\nversion = \"1.0\"\narchive = "+
			"\"https://vale-glasshouse.example/fern.tar\"\nsha256 = "+
			"\"0000000000000000000000000000000000000000000000000000000000000000\"\n[option.tall]\nabout = \"Grow "+
			"tall\"\ndefault = false\non = [\"tall\"]\n[build]\nmethod = \"make\"\n"), 0o644)
	s, _ := settings.Read("", settings.Place{Working: dir, Getenv: func(string) string { return "" }})
	s.Root, s.Shelves = filepath.Join(dir, "root"), []recipe.Shelf{{Dir: filepath.Join(dir, "recipes"), Shown: "recipes"}}
	m, err := machine.Open(machine.Config{Settings: s,
		Place: settings.Place{Working: dir, Getenv: func(string) string { return "" }}})
	if err != nil {
		panic(err)
	}
	return m, func() { os.RemoveAll(dir) }
}

func ExampleMake() {
	m, done := garden()
	defer done()
	ctx := context.Background()
	facts, err := plan.Gather(ctx, m, plan.Ask{Names: []string{"fern"}, Options: []string{"tall=yes"}})
	if err != nil {
		fmt.Println(err)
		return
	}
	p, err := plan.Make(ctx, facts)
	for _, j := range p.Jobs {
		fmt.Println(j.Name, j.Version, p.State(j), j.Package.Changed())
	}
	fmt.Println(p.Lands(), p.After[0].Name, err)
	_, err = os.Stat(m.Store.Root)
	fmt.Println(os.IsNotExist(err))
	// Output:
	// fern 1.0 to_build [tall=on]
	// true fern <nil>
	// true
}
