// Package picture draws ladders, runs of builds and comparisons, as SVG, as PNG, and as pages of
// HTML with a table that says the same.
//
// A picture is a list of marks, the later above the earlier. The same values give the same bytes.
// What a mark means is told by its form and by words, never by its colour alone. It reads and
// writes no files.
package picture

import (
	"strings"
	"unicode"
)

// A Picture is what is drawn. Lengths are pixels of CSS.
type Picture struct {
	Title string
	About string // what it shows, in a sentence or two, for readers who do not see it
	W, H  float64
	marks []mark
}

// A mark is one thing on a picture: a text, or a path that is filled, drawn as a line, or both.
type mark struct {
	class  string // of looks
	tip    string // shown for it where that is possible, or ""
	path   []point
	round  float64 // radius of the corners of a rectangle, whose path has two corners
	closed bool
	curved bool // the path is a chain of cubic curves: begin, and three points each
	text   string
	size   float64 // of the text
	bold   bool
	anchor float64 // the part of the text that is left of its point: 0, 0.5 or 1
	tight  bool    // the text just fits, and must not get wider
}

type point struct{ x, y float64 }

// rect draws a rectangle.
func (p *Picture) rect(class string, x, y, w, h, round float64, tip string) {
	p.marks = append(p.marks, mark{class: class, path: []point{{x, y}, {x + w, y + h}}, round: min(round, w/2, h/2),
		closed: true, tip: tip})
}

// line draws a line through points.
func (p *Picture) line(class string, points ...point) {
	p.marks = append(p.marks, mark{class: class, path: points})
}

// heading writes the title, and what the picture shows.
func (p *Picture) heading(shows string) {
	p.words("ink", margin, 30, 19, p.W-2*margin, 0, true, p.Title)
	p.words("soft", margin, 51, 13, p.W-2*margin, 0, false, shows)
}

// shape fills a polygon.
func (p *Picture) shape(class string, points ...point) {
	p.marks = append(p.marks, mark{class: class, path: points, closed: true})
}

// curve draws a line that leaves and enters its points vertically.
func (p *Picture) curve(class string, points ...point) {
	path := points[:1:1]
	for i, to := range points[1:] {
		from := points[i]
		middle := (from.y + to.y) / 2
		path = append(path, point{from.x, middle}, point{to.x, middle}, to)
	}
	p.marks = append(p.marks, mark{class: class, path: path, curved: true})
}

// words writes a text in one line, at most so wide that it fits.
func (p *Picture) words(class string, x, y, size, most, anchor float64, bold bool, text string) {
	text = printable(text)
	fits := clip(text, size, most, bold)
	const nearly = 0.9
	p.marks = append(p.marks, mark{class: class, path: []point{{x, y}}, text: fits, size: size, bold: bold, anchor: anchor,
		tight: width(fits, size, bold) > nearly*most})
}

// printable replaces what is not printed, which neither XML nor a reader can use.
func printable(text string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsPrint(r) {
			return r
		}
		return ' '
	}, text)
}

// A look is how marks of a class look. Colours are six hexadecimal digits; "": none.
type look struct {
	fill, stroke, darkFill, darkStroke string
	line                               float64
	dash                               []float64
}

// looks are those of all classes. Texts are filled.
var looks = map[string]look{
	"ground": {fill: "ffffff", darkFill: "131a16"},
	"ink":    {fill: "1c2a23", darkFill: "e8efeb"},
	"soft":   {fill: "56655d", darkFill: "a9b8b0"},
	"rung":   {fill: "f5f7f5", darkFill: "1a231e"},
	"grid":   {stroke: "d8dfda", darkStroke: "324039", line: 1},
	"built":  {fill: "e3efe5", stroke: "4a7855", darkFill: "20352a", darkStroke: "7fb58d", line: 1.2},
	"build":  {fill: "fff4d9", stroke: "8a6100", darkFill: "3a3013", darkStroke: "e0b04a", line: 1.2},
	"take":   {fill: "deedf8", stroke: "29658e", darkFill: "16303f", darkStroke: "79b8e0", line: 1.2},
	"host": {fill: "ffffff", stroke: "6a5585", darkFill: "131a16", darkStroke: "b9a3d6", line: 1.2,
		dash: []float64{5, 3}},
	"missing": {fill: "fdecea", stroke: "a3160f", darkFill: "3d1613", darkStroke: "ff8a80", line: 1.6,
		dash: []float64{5, 3}},
	"unneeded": {fill: "ffffff", stroke: "7d8a83", darkFill: "131a16", darkStroke: "6f7d75", line: 1,
		dash: []float64{2, 3}},
	"folded":    {fill: "ffffff", stroke: "7d8a83", darkFill: "131a16", darkStroke: "6f7d75", line: 1},
	"sign":      {stroke: "1c2a23", darkStroke: "e8efeb", line: 1.8},
	"solid":     {fill: "1c2a23", darkFill: "e8efeb"},
	"library":   {stroke: "7d8a83", darkStroke: "7d8c84", line: 1.3},
	"tool":      {stroke: "7d8a83", darkStroke: "7d8c84", line: 1.3, dash: []float64{6, 4}},
	"runtime":   {stroke: "7d8a83", darkStroke: "7d8c84", line: 1.6, dash: []float64{1.5, 3.5}},
	"path":      {stroke: "1c2a23", darkStroke: "e8efeb", line: 3},
	"slot":      {stroke: "8c1d40", darkStroke: "f08aa8", line: 1.8, dash: []float64{2, 3}},
	"busy":      {fill: "bcd6c3", darkFill: "33523f"},
	"used":      {stroke: "29658e", darkStroke: "79b8e0", line: 1.6},
	"limit":     {stroke: "56655d", darkStroke: "a9b8b0", line: 1, dash: []float64{4, 4}},
	"compile":   {fill: "4a7855", darkFill: "7fb58d"},
	"configure": {fill: "e9c46a", stroke: "8a6100", darkFill: "6b5413", darkStroke: "e0b04a", line: 1},
	"stage":     {fill: "a9b8b0", darkFill: "66756d"},
	"fetch":     {stroke: "29658e", darkStroke: "79b8e0", line: 1.6, dash: []float64{3, 2}},
	"bad":       {stroke: "a3160f", darkStroke: "ff8a80", line: 2.2},
	"badtext":   {fill: "a3160f", darkFill: "ff8a80"},
	"a":         {fill: "8fb8d6", stroke: "29658e", darkFill: "2d5f80", darkStroke: "79b8e0", line: 1},
	"b":         {fill: "f2d48a", stroke: "8a6100", darkFill: "7a5c12", darkStroke: "e0b04a", line: 1},
}
