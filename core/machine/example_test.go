package machine_test

import (
	"fmt"

	"fernladder/core/machine"
	"fernladder/core/settings"
)

func ExampleOpen() {
	place := settings.Place{Working: "/", Getenv: func(string) string { return "" }}
	m, err := machine.Open(machine.Config{Settings: settings.Settings{Root: "/srv/fernladder"}, Place: place, Jobs: 4})
	fmt.Println(m.Store.Root, m.Slots.Number(), err)
	_, err = m.With(func(c *machine.Config) { c.Settings.Root = "/srv/two words" })
	fmt.Println(err)
	// Output:
	// /srv/fernladder 4 <nil>
	// the root "/srv/two words" contains ' ', which compilers and shells cannot handle in the path of a tree; choose another
}
