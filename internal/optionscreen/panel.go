package optionscreen

import (
	"fmt"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"fernladder/core/plan"
	"fernladder/internal/term"
)

// panel draws information about the current option, and what the choice means, in so many lines;
// or a question in their place.
func (s *screen) panel(rows []*plan.Row, width, height int) []string {
	var lines []string
	switch r := s.current(rows); {
	case s.mode == leaving:
		lines = s.question(width)
	case s.mode == editing:
		lines = s.editor(width)
	default:
		means := s.means(width)
		if r != nil {
			about := s.about(r, width)
			// A long description does not push out what the choice means.
			if room := max(min(3, height-3), height-len(means)-1); len(about) > room && height > 3 {
				about = about[:room]
				about[room-1] = ansi.Truncate(about[room-1], width-10, "") + faint.Render("… ctrl+o")
			}
			lines = append(about, "")
		}
		if height <= 3 {
			lines = append(lines[:min(1, len(lines))], means...)
		} else {
			lines = append(lines, means...)
		}
	}
	return filled(lines, height)
}

// about describes an option: its value, other values, and what they add.
func (s *screen) about(r *plan.Row, width int) []string {
	lines := wrapped(r.About, width)
	lines[0] = strong.Render(lines[0])
	if !s.beside() {
		return append(lines, wrapped(strings.Join(s.facts(r), "; "), width)...)
	}
	for _, fact := range s.facts(r) {
		lines = append(lines, wrapped(fact, width)...)
	}
	return lines
}

func (s *screen) facts(r *plan.Row) []string {
	facts := []string{"can be " + r.Can()}
	if s.open != nil {
		return facts
	}
	usual := r.Usual
	if usual == "" {
		usual = "what the source decides"
	}
	facts = append(facts, "by default "+usual)
	if why := whyText(r); why != "" {
		facts = append(facts, "now by "+why)
	}
	for _, a := range s.choice.Adds(r) {
		what := append([]string{}, a.Needs...)
		for _, h := range a.Host {
			what = append(what, h+" of the system")
		}
		value := a.Value
		if r.Takes != "" {
			value = "a value"
		}
		facts = append(facts, value+" needs "+strings.Join(what, ", "))
	}
	return facts
}

// all is the complete description of an option.
func (s *screen) all(r *plan.Row) string {
	return r.About + "\n\nNow: " + valueOf(r) + "\n" + strings.Join(s.facts(r), "\n") + "\n" + r.Position.String()
}

func whyText(r *plan.Row) string {
	text := map[plan.Why]string{plan.Asked: "the command", plan.Settings: "the settings", plan.Locked: "the lock file",
		plan.Installed: "what is installed", plan.Demanded: "demand of"}[r.Why]
	if r.By != "" && text != "" {
		text += " " + r.By
	}
	return text
}

// means says what the choice means.
func (s *screen) means(width int) []string {
	if s.failed != nil {
		return append([]string{bad.Render("The effect is unknown")}, wrapped(s.failed.Error(), width)...)
	}
	m := s.meaning
	switch {
	case m == nil:
		return []string{faint.Render("Working out the effect …")}
	case m.Problem != nil:
		lines := []string{bad.Render("This clashes")}
		lines = append(lines, wrapped(m.Problem.Claim, width)...)
		for _, sentence := range m.Problem.Chain {
			lines = append(lines, wrapped("  "+sentence, width)...)
		}
		for _, way := range m.Problem.WaysOut {
			lines = append(lines, wrapped(way, width)...)
		}
		return lines
	}
	title := "It means"
	if s.working {
		title += " …"
	}
	lines := []string{strong.Render(title)}
	add := func(mark string, parts []plan.Part) {
		var names []string
		for _, p := range parts {
			name := p.Name + " " + p.Version
			if p.Built && mark != "- " {
				name += " (built)"
			}
			names = append(names, name)
		}
		if len(names) > 0 {
			lines = append(lines, wrapped(mark+strings.Join(names, ", "), width)...)
		}
	}
	add("+ ", m.Came)
	add("- ", m.Went)
	add("built otherwise: ", m.Other)
	lines = append(lines, wrapped(total(m), width)...)
	if text := lacks(m); text != "" {
		for _, line := range wrapped(text, width) {
			lines = append(lines, bad.Render(line))
		}
	}
	return lines
}

// lacks says what the operating system lacks, a few by their names.
func lacks(m *plan.Meaning) string {
	const few = 3
	var names []string
	for _, f := range m.Lacks[:min(few, len(m.Lacks))] {
		name := f.Question.String()
		if len(f.Packages) > 0 {
			name += " (" + strings.Join(f.Packages, " ") + ")"
		}
		names = append(names, name)
	}
	switch more := len(m.Lacks) - len(names) + m.Lacked; {
	case len(names) == 0 && more == 0:
		return ""
	case len(names) == 0:
		return fmt.Sprintf("The system lacks %s in any case: fernladder host", term.Count(more, "thing"))
	case more > 0:
		return fmt.Sprintf("The system lacks %s, and %d more", strings.Join(names, ", "), more)
	}
	return "The system lacks " + strings.Join(names, ", ")
}

// total is what is to be done, in a line.
func total(m *plan.Meaning) string {
	t := m.Totals
	if t.Build == 0 {
		return "nothing to build"
	}
	text := term.Count(t.Build, "package") + " to build"
	if t.Fetch > 0 {
		text += fmt.Sprintf(", %d to fetch", t.Fetch)
		switch {
		case t.Bytes > 0 && t.Unsized > 0:
			text += " (" + term.Bytes(t.Bytes) + " and more)"
		case t.Bytes > 0:
			text += " (" + term.Bytes(t.Bytes) + ")"
		}
	}
	switch {
	case t.Untimed < t.Build && t.Untimed > 0:
		text += fmt.Sprintf(", about %s and %d that were never built here", term.Duration(seconds(t.Seconds)), t.Untimed)
	case t.Untimed == 0:
		text += ", about " + term.Duration(seconds(t.Seconds))
	default:
		text += ", never built here"
	}
	return text
}

func seconds(s float64) time.Duration { return time.Duration(s * float64(time.Second)) }

// short says in one line what the choice means, if there is no room for more.
func (s *screen) short() string {
	switch {
	case s.mode == editing:
		return term.Visible(s.at) + ": " + s.input.Value()
	case s.mode == leaving:
		return here.Render("> "+answers[s.answer].text) + faint.Render("  up, down, enter")
	case s.failed != nil:
		return bad.Render(term.Visible(s.failed.Error()))
	case s.meaning == nil:
		return faint.Render("…")
	case s.meaning.Problem != nil:
		return bad.Render(term.Visible(s.meaning.Problem.Claim))
	}
	return fmt.Sprintf("+%d -%d · %s", len(s.meaning.Came), len(s.meaning.Went), total(s.meaning))
}

// question is what a person who leaves is asked.
func (s *screen) question(width int) []string {
	lines := []string{strong.Render(fmt.Sprintf("%s changed. Keep the choice?",
		term.Count(len(s.choice.Changes()), "option")))}
	var changes []string
	for _, c := range s.choice.Changes() {
		changes = append(changes, c.Option+"="+c.To)
	}
	lines = append(lines, ansi.Truncate(term.Visible(strings.Join(changes, ", ")), width, "…"))
	for i, a := range answers {
		text := fit("  "+a.text, 28)
		if i == s.answer {
			text = here.Render(fit("> "+a.text, 28))
		}
		lines = append(lines, text+"  "+faint.Render(a.about))
	}
	return lines
}

// editor is where a value is typed.
func (s *screen) editor(width int) []string {
	r := s.choice.Row(s.at)
	s.input.SetWidth(max(4, width-len(r.Name)-4))
	lines := []string{strong.Render(r.Name) + ": " + s.input.View()}
	if s.note != "" {
		for _, line := range wrapped(s.note, width) {
			lines = append(lines, bad.Render(line))
		}
	}
	lines = append(lines, wrapped(r.About, width)...)
	return append(lines, wrapped("It takes "+r.Can()+". With nothing there, the source decides.", width)...)
}

// cursor is where the next letter of a value goes.
func (s *screen) cursor() *tea.Cursor {
	c := s.input.Cursor()
	if c == nil {
		return nil
	}
	c.X += len(s.at) + 2
	switch {
	case s.beside():
		c.X += s.width*3/5 + 2
		c.Y = 1
	case s.panelHeight() > 0:
		c.Y = s.listHeight() + 2
	default:
		c.Y = s.height - 1
	}
	return c
}
