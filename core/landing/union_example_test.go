package landing_test

import (
	"fmt"
	"os"
	"path/filepath"

	"fernladder/core/landing"
	"fernladder/core/store"
)

// Two trees as one directory; and two that conflict.
func Example() {
	root, err := os.MkdirTemp("", "together")
	if err != nil {
		fmt.Println(err)
	}
	defer os.RemoveAll(root)
	s := &store.Store{Root: root}
	plant := func(name, id string, files ...string) store.Ref {
		r := store.Ref{Name: name, Version: "1.0", ID: id}
		filled := filepath.Join(root, name)
		for _, file := range files {
			os.MkdirAll(filepath.Dir(filepath.Join(filled, file)), 0o755)
			os.WriteFile(filepath.Join(filled, file), []byte(name), 0o644)
		}
		s.Prepare()
		if _, _, err := s.Place(filled, r, nil); err != nil {
			fmt.Println(err)
		}
		if err := s.Commit(&store.Receipt{Ref: r}); err != nil {
			fmt.Println(err)
		}
		return r
	}
	fern := plant("fern", "0123456789ab", "bin/fern", "share/info/dir")
	moss := plant("moss", "ba9876543210", "bin/moss", "share/info/dir")
	both, err := landing.UnionOf(s, []store.Ref{fern, moss})
	for _, e := range both {
		fmt.Println(e.Path, e.Build.Name)
	}
	fmt.Println(both.Link(filepath.Join(root, "seen")), err)
	weed := plant("weed", "0123456789cd", "bin/moss")
	_, err = landing.UnionOf(s, []store.Ref{moss, weed})
	fmt.Println(err)
	// Output:
	// bin fern
	// bin/fern fern
	// bin/moss moss
	// share fern
	// share/info fern
	// <nil> <nil>
	// moss 1.0 (ba9876543210) and weed 1.0 (0123456789cd) both have bin/moss
}
