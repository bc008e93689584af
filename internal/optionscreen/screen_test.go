package optionscreen

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fernladder/core/machine"
	"fernladder/core/plan"
	"fernladder/core/settings"
)

// A table is a screen driven by a test, with nothing in the background.
type table struct {
	*screen
	t   *testing.T
	dir string
}

const head = "format = 1\n[package]\nname = %q\nsummary = \"x\"\n[[release]]\nversion = \"1.0\"\narchive = " +
	"\"file:///x.tar\"\nsha256 = \"%064d\"\nsize = 7000\n"

func newTable(t *testing.T, recipe string) *table {
	dir := t.TempDir()
	write := func(name, text string) {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	write("fernladder.toml", "root = \"root\"\nshelves = [\"recipes\"]\n")
	write("recipes/moss/recipe.toml", fmt.Sprintf(head, "moss", 1)+"[build]\nmethod = \"make\"\n")
	write("recipes/fern/recipe.toml", fmt.Sprintf(head, "fern", 2)+recipe+"[build]\nmethod = \"make\"\n")
	open := func() (*plan.Choosing, error) {
		place := settings.Place{Working: dir, Getenv: func(string) string { return "" }}
		s, err := settings.Read(filepath.Join(dir, "fernladder.toml"), place)
		require.NoError(t, err)
		m, err := machine.Open(machine.Config{Settings: s, Place: place})
		require.NoError(t, err)
		return plan.Open(context.Background(), m, plan.Ask{Names: []string{"fern"}})
	}
	c, err := open()
	require.NoError(t, err)
	again := func(was *plan.Choosing) (*plan.Choosing, []plan.Change, error) {
		c, err := open()
		if err != nil {
			return nil, nil, err
		}
		var lost []plan.Change
		for _, change := range was.Changes() {
			if c.Set(change.Option, change.To) != nil {
				lost = append(lost, change)
			}
		}
		return c, lost, nil
	}
	s := &table{screen: &screen{ctx: context.Background(), choice: c, reopen: again, width: 80, height: 24},
		t: t, dir: dir}
	s.settle()
	return s
}

// settle computes the effects of the choice, which the program does in the background.
func (s *table) settle() {
	m, err := s.choice.Asking()(s.ctx)
	s.Update(meant{m, err})
}

// press presses keys: names in brackets, such as <enter>, or letters.
func (s *table) press(keys string) *table {
	codes := map[string]tea.KeyPressMsg{"enter": {Code: tea.KeyEnter}, "esc": {Code: tea.KeyEscape},
		"up": {Code: tea.KeyUp}, "down": {Code: tea.KeyDown}, "left": {Code: tea.KeyLeft}, "end": {Code: tea.KeyEnd},
		"right": {Code: tea.KeyRight}, "space": {Code: tea.KeySpace, Text: " "}, "tab": {Code: tea.KeyTab},
		"backspace": {Code: tea.KeyBackspace}, "delete": {Code: tea.KeyDelete}, "pgdown": {Code: tea.KeyPgDown},
		"ctrl+u": {Code: 'u', Mod: tea.ModCtrl}, "ctrl+c": {Code: 'c', Mod: tea.ModCtrl},
		"ctrl+o": {Code: 'o', Mod: tea.ModCtrl}, "ctrl+r": {Code: 'r', Mod: tea.ModCtrl}}
	for keys != "" {
		if name, rest, named := strings.Cut(strings.TrimPrefix(keys, "<"), ">"); strings.HasPrefix(keys, "<") && named {
			require.Contains(s.t, codes, name)
			s.Update(codes[name])
			keys = rest
		} else {
			s.Update(tea.KeyPressMsg{Code: rune(keys[0]), Text: keys[:1]})
			keys = keys[1:]
		}
		s.working = false
	}
	s.settle()
	return s
}

// seen is the text of the screen, without styles.
func (s *table) seen() string { return ansi.Strip(s.View().Content) }

func (s *table) sees(texts ...string) {
	s.t.Helper()
	for _, text := range texts {
		assert.Contains(s.t, s.seen(), text)
	}
}

func (s *table) value(option string) string { return s.choice.Row(option).Value }

const bed = `
[option.plots]
about   = "Draw plans"
group   = "Leaves"
default = true
[option.kind]
about   = "How it grows"
default = "hard"
values  = { hard = [], soft = [], wild = [] }
[option.beds]
about   = "How many beds"
takes   = "number"
most    = 9
default = 4
[option.moss]
about   = "Grow moss too"
default = false
[option.old]
about   = "Grow as of old"
default = false
[[need]]
recipe = "moss"
role   = "library"
when   = "moss or old"
[[need]]
recipe  = "moss"
version = ">= 2"
role    = "library"
when    = "old"
[[host]]
program  = "no-such-rake"
packages = { debian = "rakes" }
when     = "moss"
`

func TestKeys(t *testing.T) {
	s := newTable(t, bed)
	s.sees("fern 1.0", ">  kind", "Leaves", "It means", "1 package to build, 1 to fetch (7.0 kB), never built here")

	// Values cycle, a value can be typed, and the last change can be undone.
	s.press("<space>")
	assert.Equal(t, "soft", s.value("kind"))
	s.press("<left><left>")
	assert.Equal(t, "wild", s.value("kind"))
	s.sees("1 changed", ">~ kind")
	s.press("<down><enter><backspace>12<enter>")
	s.sees(`beds cannot be "12"; it takes a whole number from 0 to 9`)
	s.press("<esc>")
	assert.Equal(t, "4", s.value("beds"))
	s.press("<enter><backspace>7<enter>")
	assert.Equal(t, "7", s.value("beds"))
	s.press("<ctrl+u>")
	assert.Equal(t, "4", s.value("beds"))
	s.sees("beds is as it was before.")

	// Letters search; one key shows what differs from the defaults.
	s.press("too")
	s.sees("with too", ">  moss")
	assert.NotContains(t, s.seen(), "kind")
	s.press("<esc><tab>")
	s.sees("changed from default", "kind")
	assert.NotContains(t, s.seen(), "plots")
	s.press("<esc><delete>zzz")
	s.sees("No option is like that")
	s.press("<space>") // which changes nothing
	assert.Equal(t, []plan.Change{{Option: "kind", From: "hard", To: "wild"}}, s.choice.Changes())

	// The effects of a choice, and its obstacles, are shown at once.
	s.press("<esc>moss<space><esc>")
	s.sees("+ moss 1.0", "2 packages to build", "The system lacks program no-such-rake (rakes)")
	s.press("<down>old")
	s.press("<esc>")
	s.press("as of old<esc>")
	s.press("<esc>") // leaving, and not
	s.press("<esc>")
	require.NoError(t, s.choice.Set("old", "on"))
	s.settle()
	s.sees("This clashes", "moss has no release that is >= 2")
	assert.Equal(t, list, s.mode)
}

func TestLeaving(t *testing.T) {
	s := newTable(t, bed)
	s.press("<esc>")
	assert.Equal(t, Unchanged, s.outcome, "there is nothing to ask")
	for keys, want := range map[string]Outcome{"<enter>": Keep, "<down><enter>": Once, "<down><down><enter>": Forget,
		"<down><down><down><enter><ctrl+c>": Interrupted, "<ctrl+c>": Interrupted} {
		s = newTable(t, bed)
		s.press("<space><esc>").sees("1 option changed. Keep the choice?", "kind=soft", "> Keep it for this machine")
		s.press(keys)
		assert.Equal(t, want, s.outcome, keys)
	}
	assert.Equal(t, []string{"fern", "-o", "kind=soft"}, s.choice.Arguments())
}

// Edits that others make meanwhile are noticed, and neither theirs nor the choices are lost.
func TestFilesThatChangeMeanwhile(t *testing.T) {
	s := newTable(t, bed)
	s.press("<space><down><enter><backspace>7<enter>")
	file := filepath.Join(s.dir, "fernladder.toml")
	require.NoError(t,
		os.WriteFile(file,
			[]byte("root = \"root\"\nshelves = [\"recipes\"]\n# mine\n[wanted.fern]\noptions = { plots = false }\n"), 0o644))
	s.Update(look{})
	s.sees("the files have changed: ctrl+r")
	added, err := s.choice.Keep(s.ctx)
	require.NoError(t, err)
	assert.False(t, added)
	data, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t,
		"root = \"root\"\nshelves = [\"recipes\"]\n# mine\n[wanted.fern]\noptions = { plots = false, kind = \"soft\", "+
			"beds = 7 }\n", string(data))

	s = newTable(t, bed)
	s.press("<space>")
	recipe := filepath.Join(s.dir, "recipes/fern/recipe.toml")
	text, err := os.ReadFile(recipe)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(recipe, []byte(strings.Replace(string(text), "soft = [], ", "", 1)), 0o644))
	_, err = s.choice.Keep(s.ctx)
	assert.ErrorContains(t, err, `the recipe changed in the meantime: kind can no longer be "soft"`)
	s.press("<ctrl+r>").sees("Read again. Lost: kind=soft")
	require.NoError(t, os.WriteFile(recipe, []byte("format = "), 0o644))
	s.press("<ctrl+r>").sees("this is not TOML")

	s = newTable(t, bed)
	s.press("<space>")
	require.NoError(t,
		os.WriteFile(filepath.Join(s.dir, "fernladder.toml"),
			[]byte("root = \"root\"\nshelves = [\"recipes\"]\n[wanted.fern]\noptions = { kind = \"wild\" }\n"), 0o644))
	_, err = s.choice.Keep(s.ctx)
	assert.ErrorContains(t, err, "the settings changed in the meantime: kind is now wild")
}

// For any size and any recipe, everything is within the screen, the current option is visible,
// and no text controls the terminal.
func TestEverySize(t *testing.T) {
	recipe := bed
	for i := range 600 {
		recipe += fmt.Sprintf("[option.o%d]\nabout = \"%s \\u001b]0;x\\u0007 \\u202e\\n%d\"\ngroup = \"G%d\"\ndefault = "+
			"false\n", i, strings.Repeat("多くの言葉 many words ", 1+i%40), i, i/50)
	}
	s := newTable(t, recipe)
	check := func(what string) {
		content := s.View().Content
		lines := strings.Split(content, "\n")
		assert.LessOrEqual(t, len(lines), max(1, s.height), what)
		for _, line := range lines {
			require.LessOrEqual(t, ansi.StringWidth(line), s.width, "%s: %q", what, line)
		}
		require.NotContains(t, content, "\x1b]", what)
		require.NotContains(t, content, "\x1b[2J", what)
		require.NotContains(t, content, "\u202e", what)
		if s.mode == list && s.width >= 40 && s.height >= leastHeight && len(s.rows()) > 0 {
			require.Contains(t, ansi.Strip(content), ">", what)
		}
	}
	for _, keys := range []string{"<down>", "<end>", "<esc>", "<end><space>", "<esc>", "<esc>", "<ctrl+o>", "<pgdown>",
		"<esc>", "?", "<esc>", "beds", "<enter>", "<esc>", "<esc>", "<tab>", "<tab>", "words<pgdown>"} {
		s.press(keys)
		for _, size := range [][2]int{{200, 60}, {120, 30}, {80, 24}, {40, 10}, {24, 6}, {110, 6}, {23, 40}, {80, 5},
			{1, 1}, {0, 0}} {
			s.Update(tea.WindowSizeMsg{Width: size[0], Height: size[1]})
			check(fmt.Sprintf("%s at %v", keys, size))
		}
		s.Update(tea.WindowSizeMsg{Width: 80, Height: 24})
	}
}
