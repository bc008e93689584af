package picture

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"fernladder/core/quantity"
)

// The states of packages on a ladder.
const (
	StateBuilt    = "built"      // its tree is there
	StateBuild    = "to_build"   // here
	StateTake     = "to_take"    // from a depot
	StateHost     = "host"       // the operating system has it
	StateMissing  = "missing"    // the operating system lacks it
	StateUnneeded = "not_needed" // by what is still to be built
)

// A Ladder is the packages of a plan.
type Ladder struct {
	Title string
	Nodes []Node
	Slots int     // job slots
	Takes float64 // seconds that all should take; 0: unknown
}

// A Node is a package of a ladder.
type Node struct {
	Name, Version string
	Rung          int // from 1; 0: the operating system's
	State         string
	Requested     bool
	Fetch         bool    // its sources are still to fetch
	Seconds       float64 // that its build should take; 0: unknown
	Why           string
	Needs         []Need
}

// A Need is a line of a ladder, from a package to one on a lower rung.
type Need struct {
	To   int
	Role string // tool, library or runtime
}

// class is the class of the node's box.
func (n Node) class() string {
	switch n.State {
	case StateBuilt:
		return "built"
	case StateTake:
		return "take"
	case StateHost:
		return "host"
	case StateMissing:
		return "missing"
	case StateUnneeded:
		return "unneeded"
	}
	return "build"
}

// Words say the state of the node.
func (n Node) Words() string {
	text := map[string]string{StateBuilt: "built", StateTake: "from a depot", StateHost: "of the system",
		StateMissing: "missing here", StateUnneeded: "not needed"}[n.State]
	if text == "" {
		text = "to build"
		if n.Fetch {
			text = "fetch, build"
		}
		if n.Seconds > 0 {
			text += ", " + quantity.Seconds(n.Seconds)
		}
	}
	return text
}

func (n Node) tip() string {
	tip := strings.TrimSpace(n.Name+" "+n.Version) + ": " + n.Words()
	if n.Why != "" {
		tip += "; " + n.Why
	}
	return tip
}

// Most packages have a box with lines; larger ladders are folded.
const fullLadder = 40

// Draw draws the ladder, the lowest rung at the bottom.
func (l Ladder) Draw() *Picture {
	p := &Picture{Title: l.Title, About: l.about()}
	path := l.path()
	if len(l.Nodes) <= fullLadder {
		l.full(p, path)
	} else {
		l.folded(p, path)
	}
	return p
}

func (l Ladder) rungs() (n int) {
	for _, x := range l.Nodes {
		n = max(n, x.Rung)
	}
	return n
}

func (l Ladder) about() string {
	states := map[string]int{}
	for _, n := range l.Nodes {
		states[n.State]++
	}
	var counts []string
	for _, c := range []struct{ state, words string }{{StateBuild, "to build"}, {StateTake, "from depots"},
		{StateBuilt, "built"},
		{StateUnneeded, "not needed"}, {StateHost, "of the operating system"}, {StateMissing, "missing on this machine"}} {
		if n := states[c.state]; n > 0 {
			counts = append(counts, fmt.Sprintf("%d %s", n, c.words))
		}
	}
	text := fmt.Sprintf("%s on %s: %s", quantity.Count(len(l.Nodes)-states[StateHost]-states[StateMissing], "package"),
		quantity.Count(l.rungs(), "rung"), strings.Join(counts, ", "))
	if l.Takes > 0 {
		text += fmt.Sprintf("; about %s with %s", quantity.Seconds(l.Takes), quantity.Count(l.Slots, "job slot"))
	}
	return text + "."
}

// path is the chain of builds to do that takes longest, from the top down. A build of unknown
// length counts as the mean of the others.
func (l Ladder) path() []int {
	length, known := 0.0, 0
	for _, n := range l.Nodes {
		if n.Seconds > 0 {
			length, known = length+n.Seconds, known+1
		}
	}
	mean := 1.0
	if known > 0 {
		mean = length / float64(known)
	}
	longest, next := make([]float64, len(l.Nodes)), make([]int, len(l.Nodes))
	order := make([]int, len(l.Nodes))
	for i := range order {
		order[i] = i
	}
	slices.SortStableFunc(order, func(a, b int) int { return cmp.Compare(l.Nodes[a].Rung, l.Nodes[b].Rung) })
	top := -1
	for _, i := range order {
		next[i] = -1
		if l.Nodes[i].State != StateBuild {
			continue
		}
		for _, need := range l.Nodes[i].Needs {
			if longest[need.To] > 0 && (next[i] < 0 || longest[need.To] > longest[next[i]]) {
				next[i] = need.To
			}
		}
		longest[i] = cmp.Or(l.Nodes[i].Seconds, mean)
		if next[i] >= 0 {
			longest[i] += longest[next[i]]
		}
		if top < 0 || longest[i] > longest[top] {
			top = i
		}
	}
	var path []int
	for ; top >= 0; top = next[top] {
		path = append(path, top)
	}
	if len(path) < 2 {
		return nil
	}
	return path
}

// The sizes of a ladder's parts.
const (
	boxW, boxH     = 178.0, 48.0
	boxGap         = 26.0
	rungGap        = 56.0
	margin         = 28.0
	rungLabel      = 96.0
	leastW         = 760.0
	titleH, legend = 62.0, 78.0
)

// full draws a box for each package, and a line for each need.
func (l Ladder) full(p *Picture, path []int) {
	var g layering
	const bend = 14.0 // wide is a line that goes through a rung
	for _, n := range l.Nodes {
		g.place(n.Rung, boxW)
	}
	type way struct {
		nodes []int
		need  Need
		from  int
	}
	var ways []way
	for i, n := range l.Nodes {
		for _, need := range n.Needs {
			w := way{[]int{i}, need, i}
			for rung := n.Rung - 1; rung > l.Nodes[need.To].Rung; rung-- {
				w.nodes = append(w.nodes, g.place(rung, bend))
			}
			w.nodes = append(w.nodes, need.To)
			for k := 1; k < len(w.nodes); k++ {
				g.link(w.nodes[k-1], w.nodes[k])
			}
			ways = append(ways, w)
		}
	}
	g.order()
	wide := g.spread(boxGap)
	p.W = max(leastW, wide+rungLabel+2*margin)
	shift := rungLabel + margin + (p.W-rungLabel-2*margin-wide)/2
	rungs := 0 // that have a box
	y := make([]float64, len(g.layers))
	for i := len(g.layers) - 1; i >= 0; i-- {
		if len(g.layers[i]) == 0 {
			continue
		}
		y[i] = titleH + rungGap/2 + float64(rungs)*(boxH+rungGap)
		rungs++
	}
	p.H = titleH + float64(rungs)*(boxH+rungGap) + legend
	p.heading(p.About)
	for i, layer := range g.layers {
		if len(layer) > 0 {
			p.rect("rung", margin/2, y[i]-12, p.W-margin, boxH+24, 10, "")
			p.words("soft", margin, y[i]+boxH/2+5, 13, rungLabel-10, 0, true, rungName(i))
		}
	}
	onPath := map[[2]int]bool{}
	for k := 1; k < len(path); k++ {
		onPath[[2]int{path[k-1], path[k]}] = true
	}
	rung := make([]int, len(g.wide))
	for i, layer := range g.layers {
		for _, n := range layer {
			rung[n] = i
		}
	}
	slices.SortStableFunc(ways, func(a, b way) int { // the path above the others
		return cmp.Compare(truth(onPath[[2]int{a.from, a.need.To}]), truth(onPath[[2]int{b.from, b.need.To}]))
	})
	for _, w := range ways {
		var points []point
		for k, n := range w.nodes {
			x, top := g.x[n]+shift, y[rung[n]]
			switch k {
			case 0:
				points = append(points, point{x, top + boxH})
			case len(w.nodes) - 1: // each role has its place on the box
				points = append(points, point{x + map[string]float64{"tool": -30, "runtime": 30}[w.need.Role], top})
			default:
				points = append(points, point{x, top}, point{x, top + boxH})
			}
		}
		class := w.need.Role
		if onPath[[2]int{w.from, w.need.To}] {
			class = "path"
		}
		p.curve(class, points...)
		p.end(w.need.Role, points[len(points)-1])
	}
	for i, n := range l.Nodes {
		l.box(p, n, g.x[i]+shift-boxW/2, y[n.Rung], slices.Contains(path, i))
	}
	l.legend(p, path)
}

func truth(is bool) int {
	if is {
		return 1
	}
	return 0
}

func rungName(rung int) string {
	if rung == 0 {
		return "system"
	}
	return fmt.Sprintf("rung %d", rung)
}

// end marks where a line meets what is needed, by role: a wedge, a diamond or a ring.
func (p *Picture) end(role string, at point) {
	switch x, y := at.x, at.y; role {
	case "tool":
		p.shape("solid", point{x, y - 9}, point{x + 4.5, y - 4.5}, point{x, y}, point{x - 4.5, y - 4.5})
	case "runtime":
		p.rect("folded", x-4, y-8, 8, 8, 4, "")
	default:
		p.shape("solid", point{x - 4.5, y - 8}, point{x + 4.5, y - 8}, point{x, y})
	}
}

// box draws a package.
func (l Ladder) box(p *Picture, n Node, x, y float64, onPath bool) {
	p.rect(n.class(), x, y, boxW, boxH, 7, n.tip())
	if onPath {
		p.rect("path", x-2, y-2, boxW+4, boxH+4, 9, "")
	}
	p.sign(n, x+9, y+9)
	const flag, room = "requested", boxW - 42
	state := strings.TrimSpace(n.Version + " " + n.Words())
	flagW := width(flag, 11, false) + 8
	switch p.words("ink", x+33, y+20, 14, room, 0, true, n.Name); {
	case !n.Requested:
	case width(n.Name, 14, true)+flagW <= room:
		p.words("soft", x+boxW-9, y+20, 11, 70, 1, false, flag)
	case width(state, 12, false)+flagW <= room:
		p.words("soft", x+boxW-9, y+38, 11, 70, 1, false, flag)
	}
	p.words("ink", x+33, y+38, 12, room, 0, false, state)
}

// sign draws the sign of a state, 16 pixels wide: a tick, a filled square, an arrow
// into a tray, a screen, a cross, a dash.
func (p *Picture) sign(n Node, x, y float64) {
	switch n.State {
	case StateBuilt:
		p.line("sign", point{x + 1, y + 8}, point{x + 6, y + 13}, point{x + 15, y + 3})
	case StateTake:
		p.line("sign", point{x + 8, y}, point{x + 8, y + 9})
		p.line("sign", point{x + 4, y + 5}, point{x + 8, y + 9}, point{x + 12, y + 5})
		p.line("sign", point{x + 1, y + 9}, point{x + 1, y + 14}, point{x + 15, y + 14}, point{x + 15, y + 9})
	case StateHost:
		p.rect("sign", x+1, y+2, 14, 9, 1, "")
		p.line("sign", point{x + 4, y + 14}, point{x + 12, y + 14})
	case StateMissing:
		p.line("bad", point{x + 3, y + 3}, point{x + 13, y + 13})
		p.line("bad", point{x + 13, y + 3}, point{x + 3, y + 13})
	case StateUnneeded:
		p.line("sign", point{x + 2, y + 8}, point{x + 14, y + 8})
	default:
		p.rect("solid", x+2, y+2, 12, 12, 1, "")
	}
}

// legend explains what is on the picture.
func (l Ladder) legend(p *Picture, path []int) {
	x, y := margin, p.H-legend+20
	states, roles := map[string]bool{}, map[string]bool{}
	for _, n := range l.Nodes {
		states[n.State] = true
		for _, need := range n.Needs {
			roles[need.Role] = true
		}
	}
	for _, s := range []struct{ state, text string }{{StateBuild, "to build"}, {StateTake, "to take from a depot"},
		{StateBuilt, "built"}, {StateHost, "the operating system's"}, {StateMissing, "missing on this machine"},
		{StateUnneeded, "not needed for this"}} {
		if states[s.state] {
			n := Node{State: s.state}
			p.rect(n.class(), x, y-13, 24, 20, 4, "")
			p.sign(n, x+4, y-11)
			p.words("soft", x+31, y+2, 12, 400, 0, false, s.text)
			x += 31 + width(s.text, 12, false) + 24
		}
	}
	x, y = margin, y+32
	label := func(class, role, text string) {
		p.line(class, point{x, y - 4}, point{x + 34, y - 4})
		if role != "" {
			p.end(role, point{x + 34, y})
		}
		p.words("soft", x+45, y, 12, 400, 0, false, text)
		x += 45 + width(text, 12, false) + 24
	}
	for _, r := range []struct{ role, text string }{{"library", "needs the library"}, {"tool", "needs the tool"},
		{"runtime", "needs it to run"}} {
		if roles[r.role] && len(l.Nodes) <= fullLadder {
			label(r.role, r.role, r.text)
		}
	}
	if len(path) == 0 {
		return
	}
	text, sum := "longest path", 0.0
	for _, i := range path {
		sum += l.Nodes[i].Seconds
	}
	if sum > 0 {
		text += ", " + quantity.Seconds(sum)
	}
	label("path", "", text)
}
