package main

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"fernladder/core/landing"
	"fernladder/core/recipe"
	"fernladder/core/store"
)

const (
	plants = 200 // packages
	leaves = 250 // files of each, none of which can be in a link of a whole folder
)

// orchard is a root with many packages, each with many files, that were not built: only later
// work with them is measured.
type orchard struct {
	w     *work
	s     *store.Store
	refs  []store.Ref
	links [][2]string // of all files, with where they lead
}

func (w *work) orchard() *orchard {
	o := &orchard{w: w, s: &store.Store{Root: w.path("orchard/root")}}
	must(o.s.Prepare())
	w.write("orchard/fernladder.toml", "root = \"root\"\nshelves = [\"recipes\"]\n")
	var sums strings.Builder
	for i := range plants {
		r := store.Ref{Name: fmt.Sprintf("plant%03d", i), Version: "1.0", ID: fmt.Sprintf("%012x", i+1)}
		o.plant(r, leaves, 40)
		files, err := o.s.Files(r)
		must(err)
		for _, f := range files {
			if !f.Mode.IsDir() {
				o.links = append(o.links, [2]string{f.Path, filepath.Join(o.s.Tree(r), f.Path)})
				fmt.Fprintf(&sums, "%s  %s\n", f.SHA256, filepath.Join(o.s.Tree(r), f.Path))
			}
		}
	}
	w.write("orchard/sums", sums.String())
	o.change("", o.refs)
	return o
}

// plant adds a package with a number of files, of a number of lines each.
func (o *orchard) plant(r store.Ref, files, lines int) {
	stage := filepath.Join(filepath.Dir(o.s.Root), "stage")
	for i := range files {
		name := filepath.Join(stage, directories[i%len(directories)], fmt.Sprintf("%s-%03d", r.Name, i))
		must(os.MkdirAll(filepath.Dir(name), 0o755))
		must(os.WriteFile(name, []byte(strings.Repeat(name+"\n", lines)), 0o755))
	}
	_, _, err := o.s.Place(stage, r, nil)
	must(err)
	must(o.s.Commit(&store.Receipt{Ref: r, Options: map[string]string{}, Needs: []store.Link{},
		KnownAs: recipe.KnownAs{Purl: "pkg:generic/" + r.Name}}))
	o.refs = append(o.refs, r)
}

var directories = []string{"bin", "lib", "include", "share/man/man1", "share/man/man3"}

// change changes the landing to some builds, and measures that.
func (o *orchard) change(shared string, asked []store.Ref) cost {
	began := time.Now()
	_, err := landing.Update{Rules: landing.Rules{Shared: shared, Number: 1}, Now: began,
		Choose: func(landing.State) ([]landing.Asked, error) {
			return landing.Plain(asked...), nil
		}}.Do(context.Background(), o.s)
	must(err)
	return cost{wall: time.Since(began)}
}

// bare creates a number of links, and nothing else.
func (o *orchard) bare() cost {
	dir := o.w.path("orchard/bare")
	must(os.RemoveAll(dir))
	for _, sub := range directories {
		must(os.MkdirAll(filepath.Join(dir, sub), 0o755))
	}
	began := time.Now()
	for _, l := range o.links {
		must(os.Symlink(l[1], filepath.Join(dir, l[0])))
	}
	return cost{wall: time.Since(began)}
}

// landings measures work with a landing of many packages: both kinds of change, queries, and a
// check of the root.
func (w *work) landings() []row {
	get := sync.OnceValue(w.orchard)
	run := func(args ...string) side {
		return func() cost {
			get()
			return timed(w.path("orchard"), args[0], args[1:]...)
		}
	}
	millis := func(ours, _ cost) string { return fmt.Sprintf("%.0f ms", float64(ours.wall.Microseconds())/1000) }
	const file, name = "root/landing/bin/plant017-000", "plant017-002"
	return []row{
		{name: "landing, 200 packages, 50,000 files", anchor: "that many symlink calls", aim: "near 1",
			ours: func() cost {
				o := get()
				o.change("", o.refs[:1])
				return o.change("", o.refs)
			},
			theirs: func() cost { return get().bare() }},
		{name: "landing, also linked in another directory", anchor: "twice as many symlink calls", aim: "near 1",
			ours: func() cost {
				o := get()
				o.change(w.path("orchard/local"), o.refs[:1])
				return o.change(w.path("orchard/local"), o.refs)
			},
			theirs: func() cost { return cost{wall: get().bare().wall + get().bare().wall} }},
		{name: "landing, owner of a file", anchor: "readlink -f", aim: "20 ms", show: millis,
			ours: run(w.program, "owner", file), theirs: run("readlink", "-f", file)},
		{name: "landing, owner by a name in any tree", anchor: "find root/trees -name", aim: "20 ms", show: millis,
			ours: run(w.program, "owner", name), theirs: run("find", "root/trees", "-name", name)},
		{name: "landing, files of a package", anchor: "find TREE", aim: "20 ms", show: millis,
			ours: run(w.program, "files", "plant017"), theirs: run("find", "root/trees/plant017")},
		{name: "landing, mend where nothing is wrong", anchor: "sha256sum -c over the same files", aim: "at most 1",
			ours: run(w.program, "mend"), theirs: run("sha256sum", "--quiet", "-c", "sums")},
	}
}
