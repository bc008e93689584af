package picture

import "fmt"

// Bars compares amounts of two things, A and B, in groups.
type Bars struct {
	Title  string
	About  string
	A, B   string // what they are
	Groups []Group
}

// A Group is amounts of one kind, on one scale.
type Group struct {
	Title string
	Show  func(float64) string
	Bars  []Bar
}

// A Bar is an amount of each.
type Bar struct {
	Name string
	A, B float64
}

// Draw draws the bars.
func (b Bars) Draw() *Picture {
	const wide, label, row, end = 1000.0, 190.0, 40.0, 190.0
	p := &Picture{Title: b.Title, About: b.About, W: wide}
	p.heading(b.About)
	p.rect("a", margin, 68, 22, 12, 2, "")
	p.words("ink", margin+30, 79, 13, wide-2*margin-30, 0, false, "A  "+b.A)
	p.rect("b", margin, 90, 22, 12, 2, "")
	p.words("ink", margin+30, 101, 13, wide-2*margin-30, 0, false, "B  "+b.B)
	y := 122.0
	for _, g := range b.Groups {
		if len(g.Bars) == 0 {
			continue
		}
		most := 0.0
		for _, bar := range g.Bars {
			most = max(most, bar.A, bar.B)
		}
		y += 26
		p.words("ink", margin, y, 15, wide-2*margin, 0, true, g.Title)
		y += 12
		for _, bar := range g.Bars {
			p.words("ink", margin, y+23, 13, label-12, 0, false, bar.Name)
			for i, n := range []float64{bar.A, bar.B} {
				length := (wide - 2*margin - label - end) * n / max(most, 1e-9)
				top := y + 3 + float64(i)*16
				p.rect([]string{"a", "b"}[i], margin+label, top, max(1, length), 13, 2, "")
				text := g.Show(n)
				if i == 1 && bar.A > 0 && bar.A != n {
					text += fmt.Sprintf(" (%+.0f %%)", 100*(n-bar.A)/bar.A)
				}
				p.words("soft", margin+label+max(1, length)+8, top+11, 11.5, end-10, 0, false, text)
			}
			y += row
		}
		y += 6
	}
	p.H = y + 20
	return p
}

// Trend draws how an amount changed from one build to the next: a small line, the last one marked.
func Trend(title string, values []float64) *Picture {
	const wide, high, pad = 150.0, 30.0, 4.0
	p := &Picture{Title: title, W: wide, H: high}
	most := 0.0
	for _, v := range values {
		most = max(most, v)
	}
	var points []point
	for i, v := range values {
		x := wide / 2
		if len(values) > 1 {
			x = pad + (wide-2*pad)*float64(i)/float64(len(values)-1)
		}
		points = append(points, point{x, high - pad - (high-2*pad)*v/max(most, 1e-9)})
	}
	if len(points) > 1 {
		p.line("used", points...)
	}
	if n := len(points); n > 0 {
		p.rect("solid", points[n-1].x-2.5, points[n-1].y-2.5, 5, 5, 2.5, "")
	}
	return p
}
