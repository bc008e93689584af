package picture

import (
	"bytes"
	_ "embed"
	"fmt"
	"html"
	"strings"
)

// A Page is a page of HTML that needs no other file, and no script. Its parts are in the order in
// which they were added.
type Page struct {
	title string
	body  bytes.Buffer
	toc   bytes.Buffer
	used  map[string]bool // classes of pictures
	ids   int
}

// NewPage is an empty page.
func NewPage(title string) *Page { return &Page{title: title, used: map[string]bool{"ground": true}} }

// Text escapes a text for a page.
func Text(text string) string { return html.EscapeString(printable(text)) }

// Heading begins a section, which the page links to at its top.
func (p *Page) Heading(text string) {
	p.ids++
	id := fmt.Sprintf("s%d", p.ids)
	fmt.Fprintf(&p.toc, `<a href="#%s">%s</a> `, id, Text(text))
	fmt.Fprintf(&p.body, `<h2 id="%s">%s</h2>`+"\n", id, Text(text))
}

// Raw adds HTML.
func (p *Page) Raw(text string) { p.body.WriteString(text) }

// Paragraph adds a text.
func (p *Page) Paragraph(text string) { fmt.Fprintf(&p.body, "<p>%s</p>\n", Text(text)) }

// Draw adds a picture.
func (p *Page) Draw(x *Picture) {
	p.body.WriteString(`<figure tabindex="0">`)
	x.inline(&p.body)
	p.body.WriteString("</figure>\n")
	p.use(x)
}

// Inline is a picture as HTML, for a cell of a table.
func (p *Page) Inline(x *Picture) string {
	var b bytes.Buffer
	x.inline(&b)
	p.use(x)
	return b.String()
}

func (p *Page) use(x *Picture) {
	for class := range x.classes() {
		p.used[class] = true
	}
}

// Table adds a table. Cells are HTML. On narrow screens, each row becomes a block.
func (p *Page) Table(caption string, head []string, rows [][]string) {
	fmt.Fprintf(&p.body, "<table><caption>%s</caption>\n<thead><tr>", Text(caption))
	for _, h := range head {
		fmt.Fprintf(&p.body, `<th scope="col">%s</th>`, Text(h))
	}
	p.body.WriteString("</tr></thead>\n<tbody>\n")
	for _, row := range rows {
		p.body.WriteString("<tr>")
		for i, cell := range row {
			label := Text(head[i])
			if i == 0 {
				fmt.Fprintf(&p.body, `<th scope="row" data-label="%s">%s</th>`, label, cell)
			} else {
				fmt.Fprintf(&p.body, `<td data-label="%s">%s</td>`, label, cell)
			}
		}
		p.body.WriteString("</tr>\n")
	}
	p.body.WriteString("</tbody></table>\n")
}

// TextTable adds a table whose cells are texts.
func (p *Page) TextTable(caption string, head []string, rows [][]string) {
	var cells [][]string
	for _, row := range rows {
		var escaped []string
		for _, text := range row {
			escaped = append(escaped, Text(text))
		}
		cells = append(cells, escaped)
	}
	p.Table(caption, head, cells)
}

// HTML is the page.
func (p *Page) HTML() []byte {
	var b bytes.Buffer
	fmt.Fprintf(&b, `<!DOCTYPE html>
<html lang="en">
<head>
<meta charset="utf-8">
<meta name="viewport" content="width=device-width, initial-scale=1">
<meta http-equiv="Content-Security-Policy" content="default-src 'none'; style-src 'unsafe-inline'; img-src data:">
<link rel="icon" href="data:,">
<title>%s</title>
<style>
%s%s</style>
</head>
<body>
<header><h1>%[1]s</h1></header>
`, Text(p.title), pageStyle, styles(p.used))
	if p.ids > 1 {
		fmt.Fprintf(&b, "<nav aria-label=\"Sections\">%s</nav>\n", strings.TrimSpace(p.toc.String()))
	}
	fmt.Fprintf(&b, "<main>\n%s</main>\n</body>\n</html>\n", p.body.String())
	return b.Bytes()
}

// pageStyle is the style sheet of pages.
//
//go:embed page.css
var pageStyle string

// A Drawing is a picture, and a table that says the same.
type Drawing struct {
	*Picture
	Caption string
	Head    []string
	Rows    [][]string
}

// Formats are those that a drawing can have, by the endings of file names.
var Formats = []string{".svg", ".png", ".html"}

// Encode writes the drawing in one of the formats. Only a page has the table.
func (d Drawing) Encode(format string) ([]byte, error) {
	switch format {
	case ".svg":
		return d.svg(), nil
	case ".png":
		return d.png()
	}
	page := NewPage(d.Title)
	page.Draw(d.Picture)
	page.TextTable(d.Caption, d.Head, d.Rows)
	return page.HTML(), nil
}
