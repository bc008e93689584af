package main

import (
	"context"
	"fmt"
	"os"
	"time"

	"fernladder/core/picture"
	"fernladder/core/store"
)

// pictures draws a ladder of 300 packages, and writes a report of 200 packages with 2,000 builds.
func (w *work) pictures() []row {
	ladder := func() picture.Ladder {
		l := picture.Ladder{Title: "300 packages", Slots: 8, Takes: 3600}
		for i := range 300 {
			n := picture.Node{Name: fmt.Sprintf("plant%05d", i), Version: "1.0", Rung: 1 + i/25, State: picture.StateBuild,
				Seconds: float64(i % 60)}
			for _, to := range []int{i - 25, i - 31} {
				if to >= 0 {
					n.Needs = append(n.Needs, picture.Need{To: to, Role: "library"})
				}
			}
			l.Nodes = append(l.Nodes, n)
		}
		return l
	}
	draw := func(format string) side {
		return func() cost {
			began := time.Now()
			data, err := picture.Drawing{Picture: ladder().Draw()}.Encode(format)
			took := time.Since(began)
			must(err)
			must(os.WriteFile(w.path("ladder"+format), data, 0o644))
			return cost{wall: took}
		}
	}
	const builds = 10 // of each package
	prepared := ""
	dir := func() string {
		if prepared == "" {
			prepared = w.path(w.grove(200, 20))
			s := &store.Store{Root: prepared + "/root"}
			receipts, err := s.Receipts()
			must(err)
			for k := range builds - 1 {
				for _, r := range receipts {
					record := store.RecordOf(r)
					record.Began = record.Began.Add(-time.Duration(k+1) * time.Hour)
					record.Seconds = float64(k)
					must(s.History().Add(context.Background(), record))
				}
			}
		}
		return prepared
	}
	sh := func(script string) side { return func() cost { return timed(dir(), "sh", "-c", script) } }
	return []row{
		{name: "a ladder of 300 packages as SVG", anchor: "the same as PNG", aim: "0.3 s at most", ours: draw(".svg"),
			theirs: draw(".png")},
		{name: "report of 200 packages, 2,000 builds", anchor: "cat of their receipts", aim: "1 s, 2 MB at most",
			ours:   func() cost { return watched(dir(), w.program, "report", "--to", "page") },
			theirs: sh("cat root/trees/*/*/share/fernladder/receipt.json root/history >/dev/null"),
			show: func(cost, cost) string {
				info, err := os.Stat(dir() + "/page/index.html")
				must(err)
				return fmt.Sprintf("%d kB", info.Size()/1000)
			}},
	}
}
