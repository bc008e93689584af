package clean_test

import (
	"fmt"
	"os"

	"fernladder/core/clean"
	"fernladder/core/machine"
	"fernladder/core/settings"
)

func ExampleFind() {
	dir, _ := os.MkdirTemp("", "root")
	defer os.RemoveAll(dir)
	place := settings.Place{Working: dir, Getenv: func(string) string { return "" }}
	m, err := machine.Open(machine.Config{Settings: settings.Settings{Root: dir}, Place: place})
	if err != nil {
		fmt.Println(err)
		return
	}
	found, err := clean.Find(m, clean.What{Trees: true, Archives: true})
	fmt.Println(found.Empty(), found.Bytes(), err)
	// Output: true 0 <nil>
}
