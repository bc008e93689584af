package draft_test

import (
	"fmt"
	"testing/fstest"

	"fernladder/core/draft"
)

func ExampleRead() {
	found := draft.Read(fstest.MapFS{
		"meson.build": {Data: []byte("project('fern', 'c', version: '1.4', license: 'MIT')\ndependency('dewcalc')\n")},
	}, "fern-1.4.tar.xz")
	fmt.Println(found.Name.Value, found.Version.Value, found.Method.Value, found.Lookups[0].Name())
	// Output: fern 1.4 meson dewcalc
}
