package picture

import (
	"bytes"
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
func Text(text string) string { return html.EscapeString(text) }

// Heading begins a section, which the page links to at its top. It returns the name to link to.
func (p *Page) Heading(text string) string {
	p.ids++
	id := fmt.Sprintf("s%d", p.ids)
	fmt.Fprintf(&p.toc, `<a href="#%s">%s</a> `, id, Text(text))
	fmt.Fprintf(&p.body, `<h2 id="%s">%s</h2>`+"\n", id, Text(text))
	return id
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

const pageStyle = `:root{color-scheme:light dark;--ink:#1c2a23;--soft:#56655d;--ground:#fff;--band:#f5f7f5;--edge:#d8dfda;--link:#1d5a3a;--bad:#a3160f}
@media screen and (prefers-color-scheme:dark){:root{--ink:#e8efeb;--soft:#a9b8b0;--ground:#131a16;--band:#1a231e;--edge:#324039;--link:#8fd0a8;--bad:#ff8a80}}
*{box-sizing:border-box}
body{margin:0 auto;padding:1rem clamp(.8rem,3vw,2rem) 3rem;max-width:84rem;background:var(--ground);color:var(--ink);font:16px/1.5 system-ui,'DejaVu Sans',sans-serif}
h1{font-size:1.6rem;line-height:1.25;margin:.4rem 0 .2rem}
h2{font-size:1.2rem;margin:2.2rem 0 .6rem;padding-top:.4rem;border-top:1px solid var(--edge)}
a{color:var(--link)}
a:focus-visible,summary:focus-visible,figure:focus-visible{outline:3px solid var(--link);outline-offset:2px}
nav{display:flex;flex-wrap:wrap;gap:.3rem 1.1rem;margin:.6rem 0}
nav a{display:inline-block;padding:.25rem 0}
p,dd,li{max-width:62rem;overflow-wrap:anywhere}
figure{margin:1rem 0;overflow-x:auto;border:1px solid var(--edge);border-radius:8px}
figure svg{display:block;min-width:46rem;width:100%;height:auto}
td svg{width:150px;height:30px;display:block}
table{border-collapse:collapse;width:100%;margin:.6rem 0 1.2rem;font-size:.92rem}
caption{text-align:left;color:var(--soft);padding:.2rem 0}
th,td{text-align:left;vertical-align:top;padding:.35rem .6rem;border-bottom:1px solid var(--edge);overflow-wrap:anywhere}
th{overflow-wrap:break-word}
thead th{color:var(--soft);font-weight:600;white-space:nowrap}
code,.id{font-family:ui-monospace,'DejaVu Sans Mono',monospace;font-size:.88em}
.muted{color:var(--soft)}
.warn{color:var(--bad);font-weight:600}
.facts{display:flex;flex-wrap:wrap;gap:.6rem;margin:.8rem 0;padding:0;list-style:none}
.facts li{background:var(--band);border:1px solid var(--edge);border-radius:8px;padding:.5rem .9rem}
.facts b{display:block;font-size:1.25rem}
details{border:1px solid var(--edge);border-radius:8px;margin:.5rem 0;padding:0 .9rem}
summary{cursor:pointer;padding:.5rem 0;font-weight:600}
dl{display:grid;grid-template-columns:minmax(8rem,max-content) 1fr;gap:.25rem 1rem;margin:.2rem 0 .8rem}
dt{color:var(--soft)}
dd{margin:0;overflow-wrap:anywhere}
@media (max-width:46rem){
thead{position:absolute;left:-9999px}
table,tbody,tr,th,td,caption{display:block;width:100%}
tr{border:1px solid var(--edge);border-radius:8px;margin:.5rem 0;padding:.3rem .2rem}
th,td{border:0;padding:.2rem .6rem}
td[data-label]:not(:empty)::before{content:attr(data-label) ": ";color:var(--soft)}
td:empty{display:none}
dl{grid-template-columns:1fr}
dd{margin-bottom:.4rem}
}
@media print{body{max-width:none;font-size:11pt}figure{overflow:visible;border:0}figure svg{min-width:0}tr,figure{break-inside:avoid}nav{display:none}}
`

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
		return d.SVG(), nil
	case ".png":
		return d.PNG()
	}
	page := NewPage(d.Title)
	page.Draw(d.Picture)
	var rows [][]string
	for _, row := range d.Rows {
		var cells []string
		for _, cell := range row {
			cells = append(cells, Text(cell))
		}
		rows = append(rows, cells)
	}
	page.Table(d.Caption, d.Head, rows)
	return page.HTML(), nil
}
