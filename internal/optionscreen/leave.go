package optionscreen

import (
	"strings"

	tea "charm.land/bubbletea/v2"
)

// answers are what can become of a choice.
var answers = []struct {
	outcome     Outcome
	text, about string
}{
	{Keep, "Keep it for this machine", "writes it into the settings, under wanted"},
	{Once, "Only for one build", "prints the command, and writes nothing"},
	{Forget, "Forget it", "discards the changes"},
	{0, "Continue choosing", ""},
}

// leave asks what to do with the choice, if there is one.
func (s *screen) leave() tea.Cmd {
	if len(s.choice.Changes()) == 0 {
		s.outcome = Unchanged
		return tea.Quit
	}
	s.mode, s.answer, s.note = leaving, 0, ""
	return nil
}

func (s *screen) leaveKey(k tea.KeyPressMsg) tea.Cmd {
	switch k.String() {
	case "up":
		s.answer = max(0, s.answer-1)
	case "down":
		s.answer = min(len(answers)-1, s.answer+1)
	case "esc":
		s.mode = list
	case "enter":
		if s.outcome = answers[s.answer].outcome; s.outcome != 0 {
			return tea.Quit
		}
		s.mode = list
	}
	return nil
}

// A page is a text that is read, with the line that is on top.
type page struct {
	title, text string
	top         int
}

func (s *screen) read(title, text string) { s.mode, s.text = reading, page{title: title, text: text} }

func (s *screen) readKey(k tea.KeyPressMsg) {
	switch k.String() {
	case "up":
		s.text.top--
	case "down", "enter":
		s.text.top++
	case "pgup":
		s.text.top -= s.height - 3
	case "pgdown", "space":
		s.text.top += s.height - 3
	case "home":
		s.text.top = 0
	default:
		s.mode = list
	}
	s.text.top = max(0, min(s.text.top, len(wrapped(s.text.text, s.width))-(s.height-3)))
}

// help says what keys do.
var help = strings.TrimSpace(`
up, down          the option above or below; page up, page down, home, end
letters           only options that have these words; backspace takes one away
space, right      the next value; left: the one before
enter             the next value, or to type one: enter takes it, esc does not
delete            as it is by default
ctrl+u            as it was before the last change, and so on
tab               only what is changed from default, or all
ctrl+o            all that there is to say about an option
ctrl+r            the recipe and the settings again, where others have changed them
esc               all options again; then, to leave: to keep the choice, or not
ctrl+c            to leave at once; nothing is written

>   the option that keys change
~   it was changed here
*   it is changed from default`)
