package settings_test

import (
	"fmt"

	"fernladder/core/settings"
)

func ExampleRead() {
	place := settings.Place{Working: "/home/fern", Getenv: func(name string) string {
		return map[string]string{"HOME": "/home/fern"}[name]
	}}
	s, err := settings.Read("", place) // what holds where there is no file
	fmt.Println(s.Root, s.Downloads, err)
	// Output: /home/fern/.local/share/fernladder 12 <nil>
}
