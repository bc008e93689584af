package picture

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"fernladder/core/quantity"
)

// The sizes of a folded ladder's parts.
const (
	chipW, chipH = 148.0, 28.0
	chipGap      = 8.0
	chipsInRow   = 7
	mostChips    = 56 // of a rung
)

// A chip is a small box: a package, or a number of them.
type chip struct {
	node int // -1: several; -2: none
	text string
	tip  string
}

// folded draws a ladder with many packages: small boxes in the bands of their rungs, without
// lines but those of the longest path; what is built already, and what a rung has beyond some
// number, is one box.
func (l Ladder) folded(p *Picture, path []int) {
	rungs := make([][]chip, l.rungs()+1)
	for rung := range rungs {
		rungs[rung] = l.chips(rung, path)
		onPath := slices.ContainsFunc(path, func(i int) bool { return l.Nodes[i].Rung == rung })
		if n := len(path); n > 0 && !onPath && rung < l.Nodes[path[0]].Rung && rung > l.Nodes[path[n-1]].Rung {
			rungs[rung] = append([]chip{{node: -2}}, rungs[rung]...) // room for its line
		}
	}
	const pad = 10.0
	height := func(chips []chip) float64 {
		rows := (len(chips) + chipsInRow - 1) / chipsInRow
		return 2*pad + float64(rows)*(chipH+chipGap) - chipGap
	}
	p.W = margin + rungLabel + chipsInRow*(chipW+chipGap) + margin
	p.H = titleH + legend
	for _, chips := range rungs {
		if len(chips) > 0 {
			p.H += height(chips) + pad
		}
	}
	p.heading(p.About)
	at := map[int]point{}
	y := titleH + pad
	for rung, chips := range slices.Backward(rungs) {
		if len(chips) == 0 {
			continue
		}
		p.rect("rung", margin/2, y, p.W-margin, height(chips), 10, "")
		p.words("soft", margin, y+pad+19, 13, rungLabel-10, 0, true, rungName(rung))
		for i, c := range chips {
			x := margin + rungLabel + float64(i%chipsInRow)*(chipW+chipGap)
			top := y + pad + float64(i/chipsInRow)*(chipH+chipGap)
			at[c.node] = point{x, top}
			if c.node != -2 {
				l.chip(p, c, x, top)
			}
		}
		y += height(chips) + pad
	}
	for k, i := range path {
		a := at[i]
		if k > 0 {
			above := at[path[k-1]]
			p.curve("path", point{above.x + chipW/2, above.y + chipH}, point{a.x + chipW/2, a.y})
		}
		p.rect("path", a.x-1.5, a.y-1.5, chipW+3, chipH+3, 7, "")
	}
	l.legend(p, path)
}

func (l Ladder) chip(p *Picture, c chip, x, y float64) {
	if c.node < 0 {
		p.rect("folded", x, y, chipW, chipH, 6, c.tip)
		p.words("ink", x+chipW/2, y+19, 12, chipW-14, 0.5, false, c.text)
		return
	}
	n := l.Nodes[c.node]
	p.rect(n.class(), x, y, chipW, chipH, 6, n.tip())
	p.sign(n, x+6, y+6)
	p.words("ink", x+28, y+19, 12.5, chipW-34, 0, n.Requested, n.Name)
}

// chips are the boxes of a rung: those on the path, the requested ones and the longest first.
func (l Ladder) chips(rung int, path []int) (chips []chip) {
	var built, rest, shown []int
	for i, n := range l.Nodes {
		switch {
		case n.Rung != rung:
		case n.State == StateBuilt || n.State == StateUnneeded:
			built = append(built, i)
		default:
			shown = append(shown, i)
		}
	}
	important := func(i int) float64 {
		n := l.Nodes[i]
		return float64(2*truth(slices.Contains(path, i))+truth(n.Requested))*1e9 + n.Seconds
	}
	slices.SortStableFunc(shown, func(a, b int) int { return cmp.Compare(important(b), important(a)) })
	if len(shown) > mostChips {
		shown, rest = shown[:mostChips-1], shown[mostChips-1:]
	}
	if len(built) == 1 {
		shown, built = append(shown, built[0]), nil
	}
	for _, i := range shown {
		chips = append(chips, chip{node: i})
	}
	for _, several := range []struct {
		nodes []int
		text  string
	}{{rest, "%d more"}, {built, "%d already built"}} {
		if len(several.nodes) > 0 {
			text := fmt.Sprintf(several.text, len(several.nodes))
			chips = append(chips, chip{-1, text, l.names(several.nodes)})
		}
	}
	return chips
}

// names lists packages, up to a number.
func (l Ladder) names(nodes []int) string {
	const most = 100
	var names []string
	for _, i := range nodes[:min(len(nodes), most)] {
		names = append(names, l.Nodes[i].Name)
	}
	if more := len(nodes) - most; more > 0 {
		names = append(names, quantity.Count(more, "other"))
	}
	return strings.Join(names, ", ")
}
