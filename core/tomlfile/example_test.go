package tomlfile_test

import (
	"fmt"

	"fernladder/core/tomlfile"
)

func ExampleRead() {
	var pot struct {
		Plant string
		Size  int
	}
	problems := tomlfile.Read("pot.toml", []byte("plant = \"fern\"\nsiz = 3\n"), []tomlfile.Key{
		tomlfile.Text("plant", &pot.Plant, "What grows in it.").Must(),
		tomlfile.Number("size", &pot.Size, 1, 100, "How wide it is."),
	})
	fmt.Println(pot.Plant)
	fmt.Println(problems)
	// Output:
	// fern
	// pot.toml:2:1: "siz" is not a key of the file
	//     2 | siz = 3
	//       | ^ did you mean "size"?
}
