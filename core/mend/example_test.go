package mend_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"

	"fernladder/core/machine"
	"fernladder/core/mend"
	"fernladder/core/settings"
	"fernladder/core/store"
)

func ExampleLook() {
	dir, _ := os.MkdirTemp("", "root")
	defer os.RemoveAll(dir)
	m, err := machine.Open(machine.Config{Settings: settings.Settings{Root: dir},
		Place: settings.Place{Working: dir, Getenv: func(string) string { return "" }}})
	if err != nil {
		fmt.Println(err)
		return
	}
	// A build with one file, which is edited by hand.
	m.Store.Prepare()
	fern := store.Ref{Name: "fern", Version: "1.0", ID: "0123456789ab"}
	os.MkdirAll(filepath.Join(dir, "stage", "share"), 0o755)
	os.WriteFile(filepath.Join(dir, "stage", "share", "leaf"), []byte("green\n"), 0o644)
	m.Store.Place(filepath.Join(dir, "stage"), fern, nil)
	m.Store.Commit(&store.Receipt{Ref: fern})
	os.WriteFile(filepath.Join(m.Store.Tree(fern), "share", "leaf"), []byte("brown\n"), 0o644)

	report, err := mend.Look(context.Background(), m, mend.Ask{})
	for _, f := range report.Findings {
		fmt.Println(f.Kind, f.Build.Name, filepath.Base(f.Path), "–", f.What)
	}
	builds, damaged := report.ToRebuild()
	fmt.Println(builds[0].Name, damaged[fern], err)
	// Output:
	// changed fern leaf – its contents changed
	// fern true <nil>
}
