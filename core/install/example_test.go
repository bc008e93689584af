package install_test

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"os"
	"path/filepath"

	"fernladder/core/install"
	"fernladder/core/machine"
	"fernladder/core/plan"
	"fernladder/core/recipe"
	"fernladder/core/settings"
)

func ExampleRun() {
	dir, _ := os.MkdirTemp("", "garden")
	defer os.RemoveAll(dir)
	os.Chmod(dir, 0o755)
	source := filepath.Join(dir, "fern.txt") // a single file, rather than an archive
	os.WriteFile(source, []byte("leaves\n"), 0o644)
	sum := sha256.Sum256([]byte("leaves\n"))
	os.MkdirAll(filepath.Join(dir, "recipes", "fern"), 0o755)
	os.WriteFile(filepath.Join(dir, "recipes", "fern", recipe.FileName),
		[]byte("format = 1\n[package]\nname = \"fern\"\nsummary = \"Grows\"\n[[release]]\nversion = \"1.0\"\narchive = "+
			"\"file://"+source+"\"\nsha256 = \""+hex.EncodeToString(sum[:])+
			"\"\n[build]\nmethod = \"script\"\n[steps]\nplace = 'mkdir -p $DESTDIR$FL_PREFIX/share; cp fern.txt "+
			"$DESTDIR$FL_PREFIX/share'\n"), 0o644)
	place := settings.Place{Working: dir, Getenv: func(string) string { return "" }, Super: os.Geteuid() == 0}
	s, _ := settings.Read("", place)
	s.Root, s.Shelves = filepath.Join(dir, "root"), []recipe.Shelf{{Dir: filepath.Join(dir, "recipes"), Shown: "recipes"}}
	m, err := machine.Open(machine.Config{Settings: s, Place: place})
	if err != nil {
		fmt.Println(err)
		return
	}
	ctx := context.Background()
	p, err := plan.For(ctx, m, plan.Ask{Names: []string{"fern"}})
	if err != nil {
		fmt.Println(err)
		return
	}
	report, err := install.Run(ctx, m, p)
	fmt.Println(len(report.Records), err)
	landed, err := install.Land(ctx, m, p)
	fmt.Println(landed.After.Number, landed.After.Members[0].Name, err)
	data, err := os.ReadFile(filepath.Join(dir, "root", "landing", "share", "fern.txt"))
	fmt.Print(string(data), err)
	// Output:
	// 1 <nil>
	// 1 fern <nil>
	// leaves
	// <nil>
}
