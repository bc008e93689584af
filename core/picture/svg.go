package picture

import (
	"bytes"
	"fmt"
	"html"
	"maps"
	"slices"
	"strconv"
	"strings"
)

// number writes a coordinate with one decimal at most.
func number(x float64) string {
	text := strconv.FormatFloat(x, 'f', 1, 64)
	return strings.TrimSuffix(strings.TrimSuffix(text, "0"), ".")
}

// svg is the picture as a file of its own. It is dark where the reader prefers that.
func (p *Picture) svg() []byte {
	var b bytes.Buffer
	fmt.Fprintf(&b, `<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 %s %s" width="%[1]s" height="%[2]s" role="img" `+
		`aria-label="%s">`+"\n", number(p.W), number(p.H), Text(p.Title))
	b.WriteString("<style>\n" + styles(p.classes()) + "</style>\n")
	p.inner(&b)
	b.WriteString("</svg>\n")
	return b.Bytes()
}

// inline is the picture as a part of a page that has the styles.
func (p *Picture) inline(b *bytes.Buffer) {
	fmt.Fprintf(b, `<svg viewBox="0 0 %s %s" style="max-width:%[1]spx" role="img" aria-label="%s">`+"\n", number(p.W),
		number(p.H), Text(p.Title))
	p.inner(b)
	b.WriteString("</svg>\n")
}

func (p *Picture) classes() map[string]bool {
	used := map[string]bool{"ground": true}
	for _, m := range p.marks {
		used[m.class] = true
	}
	return used
}

// styles are the looks of classes, in both colour schemes.
func styles(classes map[string]bool) string {
	var light, dark strings.Builder
	light.WriteString("svg text{font-family:Go,'DejaVu Sans',Verdana,'Liberation Sans',Arial,sans-serif}\n")
	for _, class := range slices.Sorted(maps.Keys(classes)) {
		l := looks[class]
		paint := func(colour string) string {
			if colour == "" {
				return "none"
			}
			return "#" + colour
		}
		fmt.Fprintf(&light, ".%s{fill:%s", class, paint(l.fill))
		if l.stroke != "" {
			fmt.Fprintf(&light, ";stroke:#%s;stroke-width:%s", l.stroke, number(l.line))
		}
		if l.dash != nil {
			var lengths []string
			for _, d := range l.dash {
				lengths = append(lengths, number(d))
			}
			light.WriteString(";stroke-dasharray:" + strings.Join(lengths, " "))
		}
		light.WriteString("}\n")
		fmt.Fprintf(&dark, ".%s{fill:%s", class, paint(l.darkFill))
		if l.darkStroke != "" {
			dark.WriteString(";stroke:#" + l.darkStroke)
		}
		dark.WriteString("}\n")
	}
	return light.String() + "@media screen and (prefers-color-scheme:dark){\n" + dark.String() + "}\n"
}

func (p *Picture) inner(b *bytes.Buffer) {
	fmt.Fprintf(b, "<title>%s</title>\n<desc>%s</desc>\n", Text(p.Title), Text(p.About))
	fmt.Fprintf(b, `<rect class="ground" width="%s" height="%s"/>`+"\n", number(p.W), number(p.H))
	for _, m := range p.marks {
		m.svg(b)
	}
}

func (m mark) svg(b *bytes.Buffer) {
	inner := ""
	if m.tip != "" {
		inner = "<title>" + Text(m.tip) + "</title>"
	}
	switch {
	case m.text != "":
		fmt.Fprintf(b, `<text class="%s" x="%s" y="%s" font-size="%s"`, m.class, number(m.path[0].x), number(m.path[0].y),
			number(m.size))
		if m.bold {
			b.WriteString(` font-weight="bold"`)
		}
		if m.anchor > 0 {
			b.WriteString(` text-anchor="` + map[float64]string{0.5: "middle", 1: "end"}[m.anchor] + `"`)
		}
		if m.tight {
			fmt.Fprintf(b, ` textLength="%s" lengthAdjust="spacingAndGlyphs"`, number(width(m.text, m.size, m.bold)))
		}
		fmt.Fprintf(b, ">%s</text>\n", html.EscapeString(m.text))
	case len(m.path) < 2:
	case m.closed && len(m.path) == 2:
		at, to := m.path[0], m.path[1]
		fmt.Fprintf(b, `<rect class="%s" x="%s" y="%s" width="%s" height="%s"`, m.class, number(at.x), number(at.y),
			number(to.x-at.x), number(to.y-at.y))
		if m.round > 0 {
			fmt.Fprintf(b, ` rx="%s"`, number(m.round))
		}
		if inner == "" {
			b.WriteString("/>\n")
			return
		}
		fmt.Fprintf(b, ">%s</rect>\n", inner)
	default:
		fmt.Fprintf(b, `<path class="%s" d="`, m.class)
		for i, at := range m.path {
			switch {
			case i == 0:
				b.WriteByte('M')
			case m.curved && i%3 == 1:
				b.WriteByte('C')
			case m.curved:
				b.WriteByte(' ')
			default:
				b.WriteByte('L')
			}
			b.WriteString(number(at.x) + " " + number(at.y))
		}
		if m.closed {
			b.WriteByte('Z')
		}
		b.WriteString("\"/>\n")
	}
}
