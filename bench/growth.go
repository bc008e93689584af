package main

import (
	"fmt"
	"maps"
	"math"
	"os"
	"os/exec"
	"slices"
	"strings"
	"time"

	"fernladder/core/store"
)

// growth runs commands on ladders and trees of growing sizes, and prints the times and the
// exponent between the two largest: 0 does not depend on the size, 1 is proportional to it.
func (w *work) growth(only string) {
	if !strings.Contains("growth", only) {
		return
	}
	packages, files := []int{10, 100, 1_000, 10_000}, []int{1_000, 10_000, 100_000, 1_000_000}
	w.grow("packages on the shelf:", packages, func(n int) string {
		name := fmt.Sprintf("grown%d", n)
		w.shelf(name, n)
		return name
	}, map[string]func(n int) []string{
		"plan the last":   func(n int) []string { return []string{"plan", fmt.Sprintf("p%05d", n-1)} },
		"show one":        func(n int) []string { return []string{"show", "p00001"} },
		"check all":       func(int) []string { return []string{"check"} },
		"a name mistyped": func(int) []string { return []string{"plan", "q00001"} },
	})
	w.grow("packages installed:", packages, func(n int) string { return w.grove(n, 5) }, map[string]func(n int) []string{
		"list":            func(int) []string { return []string{"list"} },
		"owner of a file": func(int) []string { return []string{"owner", "root/landing/bin/plant00003-000"} },
		"why one":         func(int) []string { return []string{"why", "plant00003"} },
		"mend":            func(int) []string { return []string{"mend"} },
	})
	w.grow("files of one package:", files, func(n int) string { return w.grove(1, n) }, map[string]func(n int) []string{
		"files":           func(int) []string { return []string{"files", "plant00000"} },
		"owner of a file": func(int) []string { return []string{"owner", "root/landing/bin/plant00000-000"} },
		"mend":            func(int) []string { return []string{"mend"} },
	})
}

// grow measures commands in directories of growing sizes.
func (w *work) grow(of string, sizes []int, prepare func(n int) string, commands map[string]func(n int) []string) {
	fmt.Printf("\n%-34s", "growth, "+of)
	dirs := make([]string, len(sizes))
	for i, n := range sizes {
		dirs[i] = w.path(prepare(n))
		fmt.Printf(" %9d", n)
	}
	fmt.Println("  exponent")
	for _, name := range slices.Sorted(maps.Keys(commands)) {
		fmt.Printf("%-34s", name)
		var last, before time.Duration
		for i, n := range sizes {
			const tries = 3
			best := time.Duration(math.MaxInt64)
			for range tries {
				best = min(best, anyStatus(dirs[i], w.program, commands[name](n)...))
			}
			before, last = last, best
			fmt.Printf(" %9s", short(best))
		}
		step := math.Log(float64(sizes[len(sizes)-1]) / float64(sizes[len(sizes)-2]))
		fmt.Printf("  %.2f\n", math.Log(float64(last)/float64(before))/step)
	}
	for _, dir := range dirs {
		must(os.RemoveAll(dir))
	}
}

// anyStatus is how long a command takes, whatever its exit status is.
func anyStatus(dir, name string, args ...string) time.Duration {
	c := exec.Command(name, args...)
	c.Dir = dir
	began := time.Now()
	c.Run()
	return time.Since(began)
}

// grove is a root with packages that were not built, and are on the landing.
func (w *work) grove(packages, files int) string {
	name := fmt.Sprintf("grove%d-%d", packages, files)
	s := &store.Store{Root: w.path(name, "root")}
	must(s.Prepare())
	w.write(name+"/fernladder.toml", "root = \"root\"\nshelves = [\"recipes\"]\n")
	must(os.MkdirAll(w.path(name, "recipes"), 0o755))
	o := &orchard{w: w, s: s}
	for i := range packages {
		o.plant(store.Ref{Name: fmt.Sprintf("plant%05d", i), Version: "1.0", ID: fmt.Sprintf("%012x", i+1)}, files, 1)
	}
	o.change("", o.refs)
	return name
}
