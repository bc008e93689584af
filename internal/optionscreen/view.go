package optionscreen

import (
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/x/ansi"

	"fernladder/core/plan"
	"fernladder/internal/term"
)

// The styles. They use the sixteen colours, and colour never carries information alone.
var (
	strong = lipgloss.NewStyle().Bold(true)
	faint  = lipgloss.NewStyle().Foreground(lipgloss.Color("8"))
	here   = lipgloss.NewStyle().Reverse(true)
	good   = lipgloss.NewStyle().Foreground(lipgloss.Color("2"))
	bad    = lipgloss.NewStyle().Foreground(lipgloss.Color("1")).Bold(true)
	warm   = lipgloss.NewStyle().Foreground(lipgloss.Color("5"))
)

// The smallest usable size, and the width from which the meaning is beside the list rather than
// below it.
const (
	leastWidth, leastHeight = 24, 6
	wide                    = 110
)

// View draws the screen.
func (s *screen) View() tea.View {
	v := tea.View{AltScreen: true}
	if s.width < leastWidth || s.height < leastHeight {
		v.Content = ansi.Truncate("too small", s.width, "")
		return v
	}
	if s.mode == reading {
		v.Content = s.pageView()
		return v
	}
	lines := []string{s.head()}
	rows := s.rows()
	height := s.listHeight()
	switch {
	case s.beside():
		left := s.width * 3 / 5
		shown, panel := s.list(rows, left, height), s.panel(rows, s.width-left-2, height)
		for i := range height {
			lines = append(lines, fit(shown[i], left)+"  "+panel[i])
		}
	default:
		lines = append(lines, s.list(rows, s.width, height)...)
		if n := s.panelHeight(); n > 0 {
			lines = append(lines, faint.Render(strings.Repeat("─", s.width)))
			lines = append(lines, s.panel(rows, s.width, n)...)
		}
	}
	lines = append(lines, s.foot(rows))
	for i, line := range lines {
		lines[i] = ansi.Truncate(line, s.width, "")
	}
	v.Content = strings.Join(lines, "\n")
	if s.mode == editing {
		v.Cursor = s.cursor()
	}
	return v
}

func (s *screen) beside() bool { return s.width >= wide }

// panelHeight is how many lines there are below the list for what it means.
func (s *screen) panelHeight() int {
	least := 0
	if s.mode == leaving { // the whole question is visible, whatever is cut off
		least = min(len(answers)+2, s.height-4)
	}
	switch {
	case s.beside(), s.height < 10:
		return 0
	case s.height < 16:
		return max(3, least)
	}
	return max(min(10, s.height/3), least)
}

// listHeight is how many lines the list has.
func (s *screen) listHeight() int {
	height := s.height - 2
	if n := s.panelHeight(); n > 0 {
		height -= n + 1
	}
	return height
}

// head says what is chosen about, and what of it is seen.
func (s *screen) head() string {
	title := strong.Render(s.choice.Recipe.Name+" "+s.choice.Release.Version.String()) + faint.Render(", "+
		term.Visible(s.choice.Recipe.File))
	var seen []string
	if s.filter != "" {
		seen = append(seen, "with "+strong.Render(s.filter))
	}
	if s.onlyChanged {
		seen = append(seen, "changed from default")
	}
	if n := len(s.choice.Changes()); n > 0 {
		seen = append(seen, warm.Render(fmt.Sprintf("%d changed", n)))
	}
	if s.stale {
		seen = append(seen, bad.Render("the files have changed: ctrl+r"))
	}
	return spread(title, strings.Join(seen, faint.Render(" · ")), s.width)
}

// foot says what keys do now.
func (s *screen) foot(rows []*plan.Row) string {
	if s.note != "" && s.mode == list {
		return warm.Render(ansi.Truncate(term.Visible(s.note), s.width, "…"))
	}
	text := "space changes · letters find · tab what is changed · esc leaves · ? all keys"
	switch {
	case s.mode == editing:
		text = "enter takes it · esc does not"
	case s.mode == leaving:
		text = "enter does it · esc continues choosing"
	case s.panelHeight() == 0 && !s.beside():
		return s.short()
	}
	if r := s.current(rows); s.mode == list && r != nil && r.Takes != "" {
		text = "enter types a value" + strings.TrimPrefix(text, "space changes")
	}
	return faint.Render(ansi.Truncate(text, s.width, "…"))
}

// list draws the options in so many lines.
func (s *screen) list(rows []*plan.Row, width, height int) []string {
	shown := map[string]bool{}
	name, value := 0, 0
	for _, r := range rows {
		shown[r.Name] = true
		name = max(name, len(r.Name))
		value = max(value, ansi.StringWidth(valueOf(r)))
	}
	name, value = min(name, width/2), min(value, max(8, width/5))
	current := s.current(rows)
	type line struct {
		heading string
		row     *plan.Row // nil: it is a heading
	}
	var all []line
	at := 0
	for _, g := range plan.Groups(s.choice.Rows()) {
		headed := g.Name == ""
		for _, r := range g.Rows {
			if !shown[r.Name] {
				continue
			}
			if !headed {
				headed = true
				all = append(all, line{heading: g.Name})
			}
			if r == current {
				at = len(all)
			}
			all = append(all, line{row: r})
		}
	}
	if len(all) == 0 {
		return filled([]string{"", "  No option is like that. esc shows all."}, height)
	}
	// The current line stays visible, and the first heading with the first option.
	first := at
	if at == 1 {
		first = 0
	}
	s.top = max(0, min(s.top, first, len(all)-height), at-height+1)
	var lines []string
	for _, l := range all[s.top:min(len(all), s.top+height)] {
		if l.row == nil {
			lines = append(lines, strong.Render(ansi.Truncate(term.Visible(l.heading), width, "…")))
		} else {
			lines = append(lines, s.line(l.row, l.row == current, name, value, width))
		}
	}
	return filled(lines, height)
}

// filled are so many lines, empty ones at the end.
func filled(lines []string, height int) []string {
	for len(lines) < height {
		lines = append(lines, "")
	}
	return lines[:height]
}

func valueOf(r *plan.Row) string {
	if r.Value == "" {
		return "–"
	}
	return term.Visible(r.Value)
}

// line draws an option.
func (s *screen) line(r *plan.Row, current bool, name, value, width int) string {
	mark := " "
	switch {
	case r.Touched():
		mark = "~"
	case r.Changed():
		mark = "*"
	}
	pointer := " "
	if current {
		pointer = ">"
	}
	is := fit(ansi.Truncate(valueOf(r), value, "…"), value)
	label := fit(ansi.Truncate(r.Name, name, "…"), name)
	rest := width - name - value - 8
	about := ""
	if rest > 4 {
		about = ansi.Truncate(term.Visible(r.About), rest, "…")
	}
	if current {
		return here.Render(fit(fmt.Sprintf("%s%s %s  %s  %s", pointer, mark, label, is, about), width-1))
	}
	switch {
	case r.Touched():
		is = warm.Render(is)
	case r.Value == "on":
		is = good.Render(is)
	case r.Value == "off", r.Value == "":
		is = faint.Render(is)
	}
	return fmt.Sprintf("%s%s %s  %s  %s", pointer, warm.Render(mark), label, is, faint.Render(about))
}

// fit makes a text as wide as it is to be.
func fit(text string, width int) string {
	text = ansi.Truncate(text, width, "…")
	return text + strings.Repeat(" ", max(0, width-ansi.StringWidth(text)))
}

// spread puts two texts at both ends of a line.
func spread(left, right string, width int) string {
	room := width - ansi.StringWidth(right) - 2
	if room < 8 {
		return ansi.Truncate(right, width, "…")
	}
	return fit(left, room) + "  " + right
}

// wrapped is a text in lines of a width. Its own line breaks stay.
func wrapped(text string, width int) []string {
	var lines []string
	for line := range strings.SplitSeq(text, "\n") {
		lines = append(lines, strings.Split(ansi.Wrap(term.Visible(line), max(1, width), " "), "\n")...)
	}
	return lines
}

// pageView draws a text that is read.
func (s *screen) pageView() string {
	lines := wrapped(s.text.text, s.width)
	room := s.height - 3
	top := max(0, min(s.text.top, len(lines)-room))
	end := min(len(lines), top+room)
	foot := "any other key goes back"
	if len(lines) > room {
		foot = fmt.Sprintf("lines %d to %d of %d · up, down · %s", top+1, end, len(lines), foot)
	}
	shown := append([]string{strong.Render(term.Visible(s.text.title)), ""}, lines[top:end]...)
	for len(shown) < s.height-1 {
		shown = append(shown, "")
	}
	return strings.Join(append(shown, faint.Render(ansi.Truncate(foot, s.width, "…"))), "\n")
}
