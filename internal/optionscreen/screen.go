// Package optionscreen is the screen on which a person chooses the options of a package.
//
// It draws a plan.Choosing, and changes that by keys. What a choice would mean is worked out in
// parallel, so that no key has to wait. It writes nothing; its caller decides what happens to
// the choice.
package optionscreen

import (
	"cmp"
	"context"
	"errors"
	"io"
	"slices"
	"strings"
	"time"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"

	"fernladder/core/plan"
	"fernladder/internal/term"
)

// Outcome is how the person left the screen.
type Outcome int

// The outcomes.
const (
	Interrupted Outcome = iota // by ctrl+c, or because the terminal went
	Unchanged
	Keep   // for this machine
	Once   // only for one build
	Forget // a description of the change
)

// Reopen opens the same choice again, with the current recipe and settings, and returns the
// changes that are no longer possible.
type Reopen func(*plan.Choosing) (*plan.Choosing, []plan.Change, error)

// Run shows the screen until the person leaves it: the glance at first, until open has opened
// the choice. It returns the final choice.
func Run(ctx context.Context, glance *plan.Choosing, open func() (*plan.Choosing, error), reopen Reopen, in io.Reader,
	out io.Writer, environment []string) (Outcome, *plan.Choosing, error) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	m := &screen{ctx: ctx, choice: glance, open: open, reopen: reopen, width: 80, height: 24}
	p := tea.NewProgram(m, tea.WithContext(ctx), tea.WithInput(in), tea.WithOutput(out), tea.WithEnvironment(environment),
		tea.WithoutSignalHandler(), tea.WithFPS(120))
	_, err := p.Run()
	if errors.Is(err, tea.ErrProgramKilled) || errors.Is(err, tea.ErrInterrupted) {
		err = nil
	}
	return m.outcome, m.choice, cmp.Or(m.unopened, err)
}

// mode is what keys do.
type mode int

const (
	list    mode = iota // move, filter, and change values
	editing             // type a value
	leaving             // choose the outcome
	reading             // read a text
)

// screen is the model of bubbletea. It is one value, which its methods change.
type screen struct {
	ctx      context.Context
	choice   *plan.Choosing
	open     func() (*plan.Choosing, error) // nil: it is
	unopened error                          // why it could not be
	reopen   Reopen
	outcome  Outcome

	width, height int
	mode          mode
	filter        string
	onlyChanged   bool
	at            string // the option that is chosen from; "": the first
	top           int    // the first line of the list that is seen
	input         textinput.Model
	answer        int    // of leaving
	text          page   // that is read
	note          string // the effect of the last key, or why it had none
	stale         bool

	meaning *plan.Meaning
	failed  error // why there is none
	working bool  // one is being worked out
	behind  bool  // and it is not that of the current choice
}

// Results of parallel work come in as messages.
type (
	meant struct {
		meaning *plan.Meaning
		err     error
	}
	opened struct {
		choice *plan.Choosing
		err    error
	}
	ready struct{}
	look  struct{}
)

// Init opens the choice.
func (s *screen) Init() tea.Cmd {
	return func() tea.Msg {
		c, err := s.open()
		return opened{c, err}
	}
}

// begin begins with what is chosen now.
func (s *screen) begin(o opened) tea.Cmd {
	if s.open, s.unopened = nil, o.err; o.err != nil {
		return tea.Quit
	}
	s.choice = o.choice
	prepare := s.choice.Ready()
	return tea.Batch(s.mean(), func() tea.Msg {
		prepare(s.ctx)
		return ready{}
	}, lookLater())
}

// lookLater checks from time to time whether the files have changed.
func lookLater() tea.Cmd {
	return tea.Tick(time.Second, func(time.Time) tea.Msg { return look{} })
}

// mean works out what the current choice means; if that is in progress for another one, it
// follows.
func (s *screen) mean() tea.Cmd {
	if s.working {
		s.behind = true
		return nil
	}
	s.working, s.behind = true, false
	ask := s.choice.Asking()
	return func() tea.Msg {
		m, err := ask(s.ctx)
		return meant{m, err}
	}
}

// Update handles a message.
func (s *screen) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		s.width, s.height = msg.Width, msg.Height
	case opened:
		return s, s.begin(msg)
	case meant:
		s.working, s.meaning, s.failed = false, msg.meaning, msg.err
		if s.behind {
			return s, s.mean()
		}
	case look:
		s.stale = s.choice.Stale()
		return s, lookLater()
	case tea.PasteMsg:
		if s.mode == editing {
			return s, s.edit(tea.PasteMsg{Content: term.Visible(msg.Content)})
		}
		s.narrow(s.filter + msg.Content)
	case tea.KeyPressMsg:
		return s, s.key(msg)
	default:
		if s.mode == editing {
			return s, s.edit(msg)
		}
	}
	return s, nil
}

func (s *screen) key(k tea.KeyPressMsg) tea.Cmd {
	if k.String() == "ctrl+c" {
		s.outcome = Interrupted
		return tea.Quit
	}
	switch s.mode {
	case editing:
		return s.editKey(k)
	case leaving:
		return s.leaveKey(k)
	case reading:
		s.readKey(k)
		return nil
	}
	s.note = ""
	return s.listKey(k)
}

func (s *screen) listKey(k tea.KeyPressMsg) tea.Cmd {
	rows := s.rows()
	if s.open != nil && slices.Contains([]string{"space", "right", "left", "enter", "delete", "ctrl+u", "ctrl+r"},
		k.String()) {
		s.note = "One moment: the shelf is still being read."
		return nil
	}
	switch k.String() {
	case "up":
		s.move(rows, -1)
	case "down":
		s.move(rows, 1)
	case "pgup":
		s.move(rows, -s.listHeight())
	case "pgdown":
		s.move(rows, s.listHeight())
	case "home":
		s.move(rows, -len(rows))
	case "end":
		s.move(rows, len(rows))
	case "space", "right":
		return s.turn(rows, 1)
	case "left":
		return s.turn(rows, -1)
	case "enter":
		if r := s.current(rows); r != nil && r.Takes != "" {
			return s.beginEdit(r)
		}
		return s.turn(rows, 1)
	case "delete":
		if r := s.current(rows); r != nil {
			return s.set(r.Name, r.Usual)
		}
	case "ctrl+u":
		if name := s.choice.Undo(); name != "" {
			s.at, s.note = name, name+" is as it was before."
			if !slices.ContainsFunc(s.rows(), func(r *plan.Row) bool { return r.Name == name }) {
				s.filter, s.onlyChanged = "", false
			}
			return s.mean()
		}
		s.note = "Nothing was changed."
	case "ctrl+r":
		return s.openAgain()
	case "tab":
		s.onlyChanged = !s.onlyChanged
	case "backspace":
		if runes := []rune(s.filter); len(runes) > 0 {
			s.narrow(string(runes[:len(runes)-1]))
		}
	case "?":
		s.read("Keys", help)
	case "ctrl+o":
		if r := s.current(rows); r != nil {
			s.read(r.Name, s.all(r))
		}
	case "esc":
		if s.filter != "" || s.onlyChanged {
			s.filter, s.onlyChanged = "", false
			return nil
		}
		return s.leave()
	default:
		if k.Text != "" {
			s.narrow(s.filter + k.Text)
		}
	}
	return nil
}

// narrow changes what is filtered by.
func (s *screen) narrow(filter string) {
	const most = 60
	if runes := []rune(term.Visible(filter)); len(runes) <= most {
		s.filter = string(runes)
	}
	// An option with exactly that name is probably meant.
	for _, r := range slices.Backward(s.rows()) {
		if s.filter != "" && strings.HasPrefix(r.Name, strings.ToLower(s.filter)) {
			s.at = r.Name
		}
	}
}

// rows are the options that are shown: those that have all the words of the filter.
func (s *screen) rows() []*plan.Row {
	words := strings.Fields(strings.ToLower(s.filter))
	var rows []*plan.Row
	for _, g := range plan.Groups(s.choice.Rows()) {
		for _, r := range g.Rows {
			text := strings.ToLower(r.Name + " " + r.About + " " + g.Name + " " + r.Value)
			if (!s.onlyChanged || r.Changed() || r.Touched()) &&
				!slices.ContainsFunc(words, func(w string) bool { return !strings.Contains(text, w) }) {
				rows = append(rows, r)
			}
		}
	}
	return rows
}

// current is the option that keys change, or nil.
func (s *screen) current(rows []*plan.Row) *plan.Row {
	if len(rows) == 0 {
		return nil
	}
	return rows[max(0, s.place(rows))]
}

func (s *screen) place(rows []*plan.Row) int {
	return slices.IndexFunc(rows, func(r *plan.Row) bool { return r.Name == s.at })
}

func (s *screen) move(rows []*plan.Row, by int) {
	if len(rows) > 0 {
		s.at = rows[min(max(max(0, s.place(rows))+by, 0), len(rows)-1)].Name
	}
}

// turn gives the current option its next value, or the one before.
func (s *screen) turn(rows []*plan.Row, by int) tea.Cmd {
	r := s.current(rows)
	if r == nil {
		return nil
	}
	s.at = r.Name
	if r.Takes != "" {
		return s.beginEdit(r)
	}
	choices := r.Choices()
	next := (slices.Index(choices, r.Value) + by + len(choices)) % len(choices)
	return s.set(r.Name, choices[next])
}

// set changes a value, or says why that is impossible.
func (s *screen) set(name, value string) tea.Cmd {
	s.at = name
	if err := s.choice.Set(name, value); err != nil {
		s.note = err.Error()
		return nil
	}
	return s.mean()
}

// beginEdit lets a value be typed.
func (s *screen) beginEdit(r *plan.Row) tea.Cmd {
	s.mode, s.at, s.note = editing, r.Name, ""
	s.input = textinput.New()
	s.input.Prompt, s.input.CharLimit = "", 4096
	s.input.SetVirtualCursor(false)
	s.input.SetValue(r.Value)
	s.input.CursorEnd()
	return s.input.Focus()
}

func (s *screen) edit(msg tea.Msg) (cmd tea.Cmd) {
	s.input, cmd = s.input.Update(msg)
	return cmd
}

func (s *screen) editKey(k tea.KeyPressMsg) tea.Cmd {
	switch k.String() {
	case "esc":
		s.mode, s.note = list, ""
		return nil
	case "enter":
		r := s.choice.Row(s.at)
		if err := s.choice.Set(r.Name, strings.TrimSpace(s.input.Value())); err != nil {
			s.note = err.Error()
			return nil
		}
		s.mode, s.note = list, ""
		return s.mean()
	}
	s.note = ""
	return s.edit(k)
}

// openAgain reads the recipe and the settings again.
func (s *screen) openAgain() tea.Cmd {
	if s.working {
		s.note = "One moment: the effect is still being worked out."
		return nil
	}
	again, lost, err := s.reopen(s.choice)
	if err != nil {
		s.read("They cannot be read", err.Error())
		return nil
	}
	s.choice, s.stale, s.meaning = again, false, nil
	s.note = "Read again."
	for i, change := range lost {
		if i == 0 {
			s.note += " Lost: "
		} else {
			s.note += ", "
		}
		s.note += change.Option + "=" + change.To
	}
	return s.mean()
}
