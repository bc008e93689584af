package advice_test

import (
	"fmt"
	"os"

	"fernladder/core/advice"
	"fernladder/core/diagnose"
	"fernladder/core/draft"
	"fernladder/core/host"
	"fernladder/core/recipe"
	"fernladder/core/store"
)

func ExampleFor() {
	dir, _ := os.MkdirTemp("", "shelf")
	defer os.RemoveAll(dir)
	os.MkdirAll(dir+"/sporegen", 0o755)
	os.WriteFile(dir+"/sporegen/"+recipe.FileName, nil, 0o644)
	evidence := advice.Evidence{Family: "debian", Files: host.Files{Dir: dir + "/none"},
		Known: func() (*draft.Known, error) {
			return draft.Survey(recipe.NewShelves([]recipe.Shelf{{Dir: dir}}), &store.Store{Root: dir + "/root"})
		}}
	cause := diagnose.Own().Log("/bin/sh: 1: sporegen: not found\nmake: *** [palette.h] Error 127\n")
	m := advice.For(nil, &cause, evidence)
	fmt.Println(m.Sure)
	fmt.Println(m.Need().Text())
	fmt.Println(m.HostNeed().Text())

	// A need that exists is not added.
	m = advice.For(&recipe.Recipe{Name: "mistplan", Needs: []*recipe.Need{{Recipe: "sporegen"}}}, &cause, evidence)
	fmt.Println(m.Needed, m.Recipe == "", m.Host.Kind == "")
	// Output:
	// false
	// [[need]]
	// recipe = "sporegen"
	// role   = "tool"
	// [[host]]
	// program = "sporegen"
	// sporegen true true
}
