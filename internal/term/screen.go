// Package term shows things: tables, progress, colours, JSON. Commands decide what to show.
//
// Results go to Out, everything else to Err. Colour and redrawing are only used on a terminal
// with a person.
package term

import (
	"encoding/json"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	xterm "golang.org/x/term"

	"fernladder/core/quantity"
)

// A Screen is where a command shows what it has to say.
type Screen struct {
	Out, Err  io.Writer
	JSON      bool // results and progress are JSON
	colourOut bool
	colourErr bool
	live      bool // Err is a terminal that may be redrawn
	width     int  // of Err, or 80
	columns   int  // of Out; 0 where it is no terminal
	plain     bool
	term      string // the terminal's name
	mark      string
	out, err  io.Writer // behind the filters of Out and Err
	errs      io.Writer // Err, for code that has settled what is drawn
	progress  *Progress // that is drawn; or nil
}

// settled is a writer for everything but progress: it removes the drawn lines first.
type settled struct {
	s *Screen
	w io.Writer
}

func (w settled) Write(p []byte) (int, error) {
	w.s.Settle()
	return w.w.Write(p)
}

// Settle shows all progress that was not shown yet, and draws nothing more until there is more.
func (s *Screen) Settle() {
	if s.progress != nil {
		s.progress.Settle()
	}
}

// New returns a screen on two files. Plain output has neither colour nor
// redrawing even on a terminal.
func New(out, err io.Writer, plain, asJSON bool, getenv func(string) string) *Screen {
	mark := newMark()
	errs := &filter{w: err, mark: mark}
	s := &Screen{JSON: asJSON, plain: plain, term: getenv("TERM"), width: 80, mark: mark, out: out, err: err, errs: errs}
	s.Out, s.Err = settled{s, &filter{w: out, mark: mark}}, settled{s, errs}
	colour := !plain && !asJSON && getenv("NO_COLOR") == "" && getenv("TERM") != "dumb"
	s.colourOut = colour && isTerminal(out)
	s.colourErr = colour && isTerminal(err)
	s.live = s.colourErr
	if f, ok := err.(*os.File); ok && s.live {
		if width, _, err := xterm.GetSize(int(f.Fd())); err == nil && width > 0 {
			s.width = width
		}
	}
	if f, ok := out.(*os.File); ok && isTerminal(out) {
		s.columns, _, _ = xterm.GetSize(int(f.Fd()))
	}
	return s
}

func isTerminal(w io.Writer) bool {
	f, ok := w.(*os.File)
	return ok && xterm.IsTerminal(int(f.Fd()))
}

// Interactive reports whether a person sees stderr and can answer on in.
func (s *Screen) Interactive(in *os.File) bool { return !s.JSON && isTerminal(s.err) && isTerminal(in) }

// Drawable reports whether a whole screen can be drawn, and is wanted: results go to a terminal
// that a person answers on, and plain output was not requested.
func (s *Screen) Drawable(in *os.File) bool {
	return !s.JSON && !s.plain && s.term != "dumb" && s.term != "" && isTerminal(s.out) && isTerminal(in)
}

// Print writes a line of a result.
func (s *Screen) Print(format string, args ...any) { fmt.Fprintf(s.Out, format+"\n", args...) }

// Note writes a line that is not part of the result. With JSON there are none.
func (s *Screen) Note(format string, args ...any) {
	if !s.JSON {
		fmt.Fprintf(s.Err, format+"\n", args...)
	}
}

// PrintJSON writes a result as indented JSON.
func (s *Screen) PrintJSON(v any) error {
	encoder := json.NewEncoder(s.Out)
	encoder.SetIndent("", "  ")
	encoder.SetEscapeHTML(false)
	return encoder.Encode(v)
}

// Table writes rows below headings, with columns as wide as necessary. It leaves out empty
// columns.
func (s *Screen) Table(headings []string, rows [][]string) {
	for i := len(headings) - 1; i >= 0; i-- {
		if !slices.ContainsFunc(rows, func(row []string) bool { return row[i] != "" }) {
			headings = slices.Delete(slices.Clone(headings), i, i+1)
			for j := range rows {
				rows[j] = slices.Delete(rows[j], i, i+1)
			}
		}
	}
	t := table.NewWriter()
	t.SetStyle(table.StyleLight)
	t.Style().Options = table.OptionsNoBordersAndSeparators
	t.Style().Box.PaddingLeft, t.Style().Box.PaddingRight = "", "   "
	t.Style().Format.Header = text.FormatDefault
	heading := make(table.Row, len(headings))
	for i, h := range headings {
		heading[i] = s.Faint(h)
	}
	t.AppendHeader(heading)
	for _, r := range rows {
		row := make(table.Row, len(r))
		for i, cell := range r {
			row[i] = cell
		}
		t.AppendRow(row)
	}
	t.SetColumnConfigs(fit(headings, rows, s.columns))
	for line := range strings.SplitSeq(t.Render(), "\n") {
		fmt.Fprintln(s.Out, strings.TrimRight(line, " "))
	}
}

// fit narrows the widest columns of a table until it fits the terminal; their contents then take
// several lines. Without a terminal everything stays on one.
func fit(headings []string, rows [][]string, columns int) []table.ColumnConfig {
	const between, narrowest = 3, 12
	widths := make([]int, len(headings))
	total := 0
	for i, h := range headings {
		widths[i] = text.RuneWidthWithoutEscSequences(h)
		for _, row := range rows {
			widths[i] = max(widths[i], text.LongestLineLen(row[i]))
		}
		total += widths[i] + between
	}
	narrowed := map[int]bool{}
	for columns > 0 && total > columns {
		widest := slices.Index(widths, slices.Max(widths))
		if widths[widest] <= narrowest {
			break // then the terminal does it
		}
		widths[widest]--
		total--
		narrowed[widest] = true
	}
	var configs []table.ColumnConfig
	for i := range headings {
		if narrowed[i] {
			configs = append(configs, table.ColumnConfig{Number: i + 1, WidthMax: widths[i], WidthMaxEnforcer: text.WrapSoft})
		}
	}
	return configs
}

// Paragraph writes a list of words after a heading, in lines that fit the terminal, with later
// lines indented by the heading's length.
func (s *Screen) Paragraph(heading string, words []string) {
	list := slices.Clone(words)
	for i := range len(list) - 1 {
		list[i] += ","
	}
	fmt.Fprintln(s.Out, paragraph(heading, list, s.width-1))
}

// paragraph puts words after a heading, in lines of a width. It breaks no words: a path or an
// address that is longer than a line can still be copied.
func paragraph(heading string, words []string, width int) string {
	var lines []string
	indent := strings.Repeat(" ", text.RuneWidthWithoutEscSequences(heading))
	line, begun := heading, false
	for _, word := range words {
		if begun && text.RuneWidthWithoutEscSequences(line)+1+text.RuneWidthWithoutEscSequences(word) > width {
			lines = append(lines, line)
			line, begun = indent, false
		}
		if begun {
			line += " "
		}
		line, begun = line+word, true
	}
	return strings.Join(append(lines, line), "\n")
}

// Faint is for what is less important, Strong for what matters, Good and Bad
// for how things went. They are for results; without colour, they are text.
func (s *Screen) Faint(t string) string  { return s.paint(s.colourOut, t, text.FgHiBlack) }
func (s *Screen) Strong(t string) string { return s.paint(s.colourOut, t, text.Bold) }
func (s *Screen) Good(t string) string   { return s.paint(s.colourOut, t, text.FgGreen) }
func (s *Screen) Bad(t string) string    { return s.paint(s.colourOut, t, text.FgRed) }

func (s *Screen) paint(colour bool, t string, with ...text.Color) string {
	if !colour || t == "" {
		return t
	}
	codes := make([]string, len(with))
	for i, c := range with {
		codes[i] = fmt.Sprint(int(c))
	}
	return "\x1b[" + strings.Join(codes, ";") + ";" + s.mark + "m" + t + "\x1b[0;" + s.mark + "m"
}

// Fail shows an error: its first line highlighted, the rest as it is.
func (s *Screen) Fail(message string) {
	first, rest, more := strings.Cut(message, "\n")
	fmt.Fprintln(s.Err, s.paint(s.colourErr, "fernladder: ", text.Bold, text.FgRed)+s.paint(s.colourErr, first, text.Bold))
	if more {
		fmt.Fprintln(s.Err, rest)
	}
}

// Duration shows a time span as all of the program does.
func Duration(d time.Duration) string { return quantity.Duration(d) }

// Bytes shows a size as all of the program does.
func Bytes(n int64) string { return quantity.Bytes(n) }

// Count says how many there are of something: 1 package, 2 packages.
func Count(n int, one string) string { return quantity.Count(n, one) }
