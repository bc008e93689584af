package picture

import (
	"bytes"
	"encoding/xml"
	"fmt"
	"image/png"
	"io"
	"math"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"fernladder/core/timeline"
)

// ladder is a made-up ladder: package i needs some of those before it.
func ladder(n int, name func(i int) string) Ladder {
	l := Ladder{Title: "A ladder", Slots: 4, Takes: 100}
	for i := range n {
		x := Node{Name: name(i), Version: "1.0", Rung: 1, State: []string{StateBuild, StateBuild, StateBuilt, StateTake}[i%4],
			Seconds: float64(i % 17), Requested: i == n-1, Fetch: i%3 == 0}
		for k, role := range []string{"library", "tool", "runtime"} {
			if to := i - 1 - (i*7+k*13)%(2*k+9); to >= 0 && to != i {
				x.Needs = append(x.Needs, Need{to, role})
				x.Rung = max(x.Rung, l.Nodes[to].Rung+1)
			}
		}
		l.Nodes = append(l.Nodes, x)
	}
	return l
}

func plainName(i int) string { return fmt.Sprintf("fern%d", i) }

// wellFormed checks what holds for every picture: it is XML, its marks are on it, and no text is
// wider than its box.
func wellFormed(t require.TestingT, p *Picture) {
	decoder := xml.NewDecoder(bytes.NewReader(p.svg()))
	for {
		_, err := decoder.Token()
		if err == io.EOF {
			break
		}
		require.NoError(t, err)
	}
	for _, m := range p.marks {
		assert.Contains(t, looks, m.class)
		for _, at := range m.path {
			assert.True(t, at.x >= 0 && at.x <= p.W && at.y >= 0 && at.y <= p.H, "%s %q is off the picture: %v of %v x %v", m.class,
				m.text, at, p.W, p.H)
		}
		if m.text != "" {
			wide := width(m.text, m.size, m.bold)
			left := m.path[0].x - m.anchor*wide
			assert.True(t, left >= -0.5 && left+wide <= p.W+0.5, "%q is cut off", m.text)
		}
	}
}

// boxes are the rectangles of packages.
func boxes(p *Picture) (all []mark) {
	for _, m := range p.marks {
		if m.tip != "" {
			all = append(all, m)
		}
	}
	return all
}

func TestPackagesNeverOverlap(t *testing.T) {
	for _, n := range []int{1, 5, 12, fullLadder, 60, 300, 1000} {
		p := ladder(n, plainName).Draw()
		wellFormed(t, p)
		all := boxes(p)
		for i, a := range all {
			for _, b := range all[i+1:] {
				apart := a.path[1].x <= b.path[0].x || b.path[1].x <= a.path[0].x || a.path[1].y <= b.path[0].y ||
					b.path[1].y <= a.path[0].y
				require.True(t, apart, "%d packages: %s and %s overlap", n, a.tip, b.tip)
			}
		}
		assert.Equal(t, string(p.svg()), string(ladder(n, plainName).Draw().svg()), "the same twice")
	}
}

// Names are others' text: markup in them stays text, and long ones are cut to their box.
func TestNamesOfOthers(t *testing.T) {
	hostile := `<script>alert(1)</script>"'&` + "\x1b[2J\x00\xff\u202e" + strings.Repeat("W", 60)
	l := ladder(8, func(int) string { return hostile })
	p := l.Draw()
	wellFormed(t, p)
	for _, format := range Formats {
		data, err := Drawing{Picture: p, Caption: hostile, Head: []string{"package"}, Rows: [][]string{{hostile}}}.Encode(format)
		require.NoError(t, err)
		assert.NotContains(t, string(data), "<script")
		assert.NotContains(t, string(data), `"'&W`)
	}
}

func TestPNGIsThePicture(t *testing.T) {
	p := ladder(12, plainName).Draw()
	data, err := p.png()
	require.NoError(t, err)
	picture, err := png.Decode(bytes.NewReader(data))
	require.NoError(t, err)
	scale := float64(picture.Bounds().Dx()) / p.W
	for _, box := range boxes(p) { // a box is not the colour of its band
		at := box.path[0]
		inside := picture.At(int((at.x+boxW/2)*scale), int((at.y+4)*scale))
		outside := picture.At(int((at.x-12)*scale), int((at.y+4)*scale))
		assert.NotEqual(t, outside, inside, box.tip)
	}
}

// Crossing lines are untangled: two chains that are given crosswise are drawn beside each other.
func TestLayersAreUntangled(t *testing.T) {
	var g layering
	var nodes [2][3]int
	for layer := range 3 {
		for k := range 2 {
			nodes[(k+layer)%2][layer] = g.place(layer, boxW)
		}
	}
	for _, chain := range nodes {
		g.link(chain[1], chain[0])
		g.link(chain[2], chain[1])
	}
	require.Positive(t, g.crossings())
	g.order()
	assert.Zero(t, g.crossings())
}

// The longest path is by time, and only of what is to be built.
func TestLongestPath(t *testing.T) {
	l := Ladder{Nodes: []Node{{Name: "a", Rung: 1, State: StateBuild, Seconds: 5}, {Name: "b", Rung: 1, State: StateBuilt, Seconds: 99},
		{Name: "c", Rung: 1, State: StateBuild, Seconds: 9},
		{Name: "d", Rung: 2, State: StateBuild, Seconds: 1, Needs: []Need{{To: 0}, {To: 1}, {To: 2}}}}}
	assert.Equal(t, []int{3, 2}, l.path())
}

func TestRunsOfAllKinds(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		r := &timeline.Run{Began: time.Unix(1e9, 0), Slots: rapid.IntRange(0, 128).Draw(t, "slots"),
			Seconds: rapid.Float64Range(0, 40_000).Draw(t, "seconds")}
		outcomes := []string{timeline.Built, timeline.Failed, timeline.Skipped, timeline.Taken, timeline.Unfinished, timeline.Stopped}
		for i := range rapid.IntRange(0, 120).Draw(t, "builds") {
			b := timeline.Build{Name: strings.Repeat("n", 1+i%60), Version: "1", Outcome: rapid.SampledFrom(outcomes).Draw(t, "outcome"),
				Because: "x", Node: []string{"", "node1", "node2"}[i%3]}
			if i > 0 {
				b.Needs = []int{rapid.IntRange(0, i-1).Draw(t, "need")}
			}
			at := rapid.Float64Range(0, r.Seconds).Draw(t, "began")
			for _, stage := range []string{"fetch", "configure", "compile", "place"} {
				to := rapid.Float64Range(at, r.Seconds).Draw(t, "to")
				b.Spans = append(b.Spans, timeline.Span{Stage: stage, From: at, To: to, CPU: 3 * (to - at)})
				at = to
			}
			r.Builds = append(r.Builds, b)
		}
		wellFormed(t, Run(r))
	})
}

// Texts can be read in both colour schemes: by the contrast ratio of WCAG 2, on everything that
// they stand on.
func TestContrast(t *testing.T) {
	text := []string{"ink", "soft"}
	for _, on := range []string{"ground", "rung", "built", "build", "take", "host", "missing", "unneeded", "folded"} {
		for _, class := range text {
			assert.GreaterOrEqual(t, contrast(looks[class].fill, looks[on].fill), 4.5, "%s on %s", class, on)
			assert.GreaterOrEqual(t, contrast(looks[class].darkFill, looks[on].darkFill), 4.5, "dark %s on %s", class, on)
		}
	}
	assert.GreaterOrEqual(t, contrast(looks["badtext"].fill, looks["rung"].fill), 4.5)
	assert.GreaterOrEqual(t, contrast(looks["badtext"].darkFill, looks["rung"].darkFill), 4.5)
	for class, l := range looks { // what is drawn stands out from the ground by at least 3 to 1
		if l.stroke != "" && class != "grid" {
			assert.GreaterOrEqual(t, contrast(l.stroke, looks["rung"].fill), 3.0, class)
			assert.GreaterOrEqual(t, contrast(l.darkStroke, looks["rung"].darkFill), 3.0, "dark %s", class)
		}
	}
}

func contrast(a, b string) float64 {
	x, y := luminance(a), luminance(b)
	return (max(x, y) + 0.05) / (min(x, y) + 0.05)
}

func TestWritePictures(t *testing.T) {
	dir := os.Getenv("PICTURES")
	if dir == "" {
		t.Skip("for looking at: PICTURES=DIR")
	}
	for _, n := range []int{1, 12, 40, 300, 1000} {
		began := time.Now()
		data, err := ladder(n, plainName).Draw().png()
		require.NoError(t, err)
		t.Log(n, time.Since(began))
		require.NoError(t, os.WriteFile(fmt.Sprintf("%s/ladder%d.png", dir, n), data, 0o644))
	}
}

// luminance is the relative luminance of WCAG 2.
func luminance(hex string) float64 {
	c := rgb(hex)
	linear := func(v uint8) float64 {
		s := float64(v) / 255
		if s <= 0.04045 {
			return s / 12.92
		}
		return math.Pow((s+0.055)/1.055, 2.4)
	}
	return 0.2126*linear(c.R) + 0.7152*linear(c.G) + 0.0722*linear(c.B)
}

// A state is told by the form of its sign, whatever colours a reader sees.
func TestStatesHaveForms(t *testing.T) {
	forms := map[string]string{}
	for _, state := range []string{StateBuilt, StateBuild, StateTake, StateHost, StateMissing, StateUnneeded} {
		p := &Picture{}
		p.sign(Node{State: state}, 0, 0)
		form := ""
		for _, m := range p.marks {
			form += fmt.Sprint(m.path, m.closed, m.round)
		}
		assert.Empty(t, forms[form], "%s looks like %s", state, forms[form])
		forms[form] = state
	}
	ends := map[string]string{}
	for _, role := range []string{"library", "tool", "runtime"} {
		p := &Picture{}
		p.end(role, point{})
		form := fmt.Sprint(p.marks[0].path, looks[role].dash)
		assert.Empty(t, ends[form], role)
		ends[form] = role
	}
}
