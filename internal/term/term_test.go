package term

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fernladder/core/event"
)

func screen(asJSON bool) (*Screen, *bytes.Buffer, *bytes.Buffer) {
	var out, err bytes.Buffer
	return New(&out, &err, false, asJSON, func(string) string { return "" }), &out, &err
}

func TestTableLeavesOutEmptyColumns(t *testing.T) {
	s, out, _ := screen(false)
	s.Table([]string{"a", "nothing", "b"}, [][]string{{"long word", "", "x"}, {"é", "", ""}})
	assert.Equal(t, "a           b\nlong word   x\né\n", out.String(), "and has neither colour nor blanks at line ends")
}

// On a terminal, a table fits: its widest columns are narrowed, by whole words.
func TestTablesFitTheTerminal(t *testing.T) {
	s, out, _ := screen(false)
	s.columns = 40
	s.Table([]string{"package", "why"},
		[][]string{{"mistplan", "library of glasshouse, tool for frondplot and for sporegen"}, {"fern", "requested"}})
	assert.Equal(t,
		"package    why\nmistplan   library of glasshouse,\n           tool for frondplot and for\n           "+
			"sporegen\nfern       requested\n", out.String())
}

// story reports the events of a small build to a Progress.
func story(s *Screen) {
	now := time.Date(2026, 3, 20, 12, 0, 0, 0, time.UTC)
	p := s.Progress(func() time.Time { now = now.Add(time.Second); return now })
	p.Expect(Expected{Packages: 2})
	at := func(e event.Event) { e.Package, e.Version = "fern", "1.0"; p.Event(e) }
	at(event.Event{Kind: event.FetchBegan, Text: "https://a.example/fern"})
	at(event.Event{Kind: event.MirrorFailed, Text: "https://a.example/fern", Err: errors.New("the server says 404")})
	at(event.Event{Kind: event.FetchEnded, Text: "https://b.example/fern", Done: 2_400_000})
	at(event.Event{Kind: event.StageBegan, Stage: "compile"})
	at(event.Event{Kind: event.StageEnded, Stage: "compile", Elapsed: time.Second})
	at(event.Event{Kind: event.PackageDone, Elapsed: 90 * time.Second})
	p.Event(event.Event{Kind: event.PackageSkipped, Package: "moss", Text: "stone"})
	p.Settle()
}

func TestProgressInLines(t *testing.T) {
	s, out, err := screen(false)
	story(s)
	assert.Empty(t, out.String())
	var lines []string
	for line := range strings.Lines(err.String()) {
		_, rest, _ := strings.Cut(line, "s  ") // the time
		lines = append(lines, strings.Join(strings.Fields(rest), " "))
	}
	assert.Equal(t, []string{
		"fern 1.0 not from https://a.example/fern: the server says 404",
		"fern 1.0 fetched from https://b.example/fern (2.4 MB), digest good",
		"fern 1.0 built in 90 s",
		"moss not built: it depends on stone",
	}, lines)
}

func TestProgressInJSON(t *testing.T) {
	s, _, err := screen(true)
	story(s)
	var kinds []string
	for line := range strings.Lines(err.String()) {
		var e struct{ Event, Package, Error string }
		require.NoError(t, json.Unmarshal([]byte(line), &e))
		kinds = append(kinds, e.Event+" "+e.Error)
	}
	assert.Equal(t, []string{"fetch_began ", "mirror_failed the server says 404", "fetch_ended ", "stage_began ",
		"stage_ended ", "package_done ", "package_skipped "}, kinds)
}

func TestWords(t *testing.T) {
	for d, want := range map[time.Duration]string{0: "0.0 s", 9940 * time.Millisecond: "9.9 s",
		59600 * time.Millisecond: "60 s", 5 * time.Minute: "5 min", 130 * time.Minute: "2 h 10 min"} {
		assert.Equal(t, want, Duration(d))
	}
	for n, want := range map[int64]string{0: "0 B", 999: "999 B", 1000: "1.0 kB", 9960: "10 kB", 999_600: "1.0 MB",
		12_345_678_901: "12 GB", 5_000_000_000_000: "5000 GB"} {
		assert.Equal(t, want, Bytes(n))
	}
	assert.Equal(t, []string{"0 packages", "1 package"}, []string{Count(0, "package"), Count(1, "package")})
}

func TestDownloadsTogether(t *testing.T) {
	now := time.Date(2026, 3, 20, 12, 0, 0, 0, time.UTC)
	p := (&Screen{}).Progress(func() time.Time { return now })
	p.Expect(Expected{})
	follow := func(e event.Event) { p.follow(note{e, now}) }
	for _, name := range []string{"fern", "moss"} {
		follow(event.Event{Kind: event.FetchBegan, Package: name})
	}
	now = now.Add(2 * time.Second)
	follow(event.Event{Kind: event.FetchProgress, Package: "fern", Done: 1_000_000, Total: 4_000_000})
	assert.Equal(t, "25%, 500 kB/s, 6.0 s left", p.active[0].part)
	assert.Empty(t, p.together(), "one alone says it all")
	follow(event.Event{Kind: event.FetchProgress, Package: "moss", Done: 50_000_000, Total: 51_000_000})
	now = now.Add(2 * time.Second)
	follow(event.Event{Kind: event.FetchProgress, Package: "moss", Done: 50_400_000, Total: 51_000_000})
	assert.Equal(t, "98%, 100 kB/s, 6.0 s left", p.active[1].part, "what an earlier run has fetched was not fetched fast")
	assert.Equal(t, "2 downloads 93%, 350 kB/s, 10 s left   ", p.together())
	assert.Equal(t, "3.0 MB, 1.5 MB/s", transferred(3_000_000, 0, 1_500_000))
}

// Current work fits on the terminal, however narrow it is and however many packages there are.
func TestTheLiveView(t *testing.T) {
	now := time.Date(2026, 3, 20, 12, 0, 0, 0, time.UTC)
	log := filepath.Join(t.TempDir(), "compile.log")
	require.NoError(t,
		os.WriteFile(log, []byte("[  9%] a\n[ 42%] Building C object moss.c.o\n\x1b[1mcc\x1b[0m -c moss.c\t-o"), 0o644))
	p := (&Screen{}).Progress(func() time.Time { return now })
	p.Expect(Expected{Packages: 200, Times: map[Build]time.Duration{{Name: "moss"}: 20 * time.Second}, Output: true,
		Left: func(map[Build]bool, map[Build]time.Duration) (time.Duration, []string, time.Duration) {
			return time.Minute, []string{"moss", "leaf"}, 40 * time.Second
		},
		Slots: func() (used, all int) { return 2, 4 }})
	p.settled[Build{Name: "fern"}] = true
	follow := func(e event.Event) { p.follow(note{e, now}) }
	follow(event.Event{Kind: event.StageBegan, Package: "moss", Stage: "compile", Log: log})
	now = now.Add(5 * time.Second)
	assert.Equal(t, []string{
		"    5.0s  1 of 200 done   2 of 4 slots in use   about 60 s left",
		"          longest path, about 40 s: moss, then leaf",
		"          moss               compile     5.0 s  ■■■■······  42%  about 15 s left",
		"            cc -c moss.c -o",
	}, p.block(80, 20))
	assert.Equal(t, "          moss               compile     5.0 s  42%  about 15 s left", p.block(70, 20)[2],
		"where there is no room for the bar")
	for i := range 150 {
		follow(event.Event{Kind: event.StageBegan, Package: fmt.Sprintf("leaf%d", i), Stage: "configure"})
	}
	for _, size := range [][2]int{{100, 10}, {30, 5}, {12, 3}, {200, 60}} {
		lines := p.block(size[0], size[1])
		assert.LessOrEqual(t, len(lines), size[1], "%v", size)
		for _, line := range lines {
			assert.LessOrEqual(t, len([]rune(line)), size[0], "%v", size)
		}
	}
	assert.Contains(t, strings.Join(p.block(100, 60), "\n"), "and 140 more")
	assert.Equal(t,
		"    1.0s  fern  it names a place that\n                /has/no/end/at/all/that/a/line/holds\n                and "+
			"goes on",
		paragraph("    1.0s  fern  ",
			strings.Split("it names a place that /has/no/end/at/all/that/a/line/holds and goes on", " "), 40))
	part, whole, last := howFar("[1/345] cc a\n[17/340] cc b\r\n")
	assert.Equal(t, []string{"17 of 340", "[17/340] cc b"}, []string{part, last})
	assert.InDelta(t, 0.05, whole, 1e-9)
}

// Without a terminal, long work is reported from time to time. Two builds of one release are
// told apart.
func TestLongWorkIsToldInLines(t *testing.T) {
	s, _, err := screen(false)
	now := time.Date(2026, 3, 20, 12, 0, 0, 0, time.UTC)
	p := s.Progress(func() time.Time { return now })
	p.Expect(Expected{Packages: 2})
	for _, id := range []string{"aaaaaaaaaaaa", "bbbbbbbbbbbb"} {
		p.follow(note{event.Event{Kind: event.StageBegan, Package: "fern", Version: "1.0", ID: id, Stage: "compile",
			Log: "none"}, now})
	}
	p.reportLong(now)
	for range 11 {
		now = now.Add(30 * time.Second)
		p.reportLong(now)
	}
	p.report(note{event.Event{Kind: event.StageEnded, Package: "fern", Version: "1.0", ID: "aaaaaaaaaaaa",
		Stage: "compile", Elapsed: 6 * time.Minute}, now})
	var lines []string
	for line := range strings.Lines(err.String()) {
		lines = append(lines, strings.Join(strings.Fields(line), " "))
	}
	assert.Equal(t, []string{
		"30.0s fern 1.0 compile: 30 s so far", "30.0s fern 1.0 bbbbbb compile: 30 s so far",
		"210.0s fern 1.0 compile: 4 min so far", "210.0s fern 1.0 bbbbbb compile: 4 min so far",
		"330.0s fern 1.0 compile took 6 min",
	}, lines)
}
