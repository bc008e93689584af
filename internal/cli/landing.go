package cli

import (
	"fmt"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"fernladder/core/landing"
	"fernladder/core/session"
	"fernladder/internal/term"
)

func (a *app) landingCommand() *cobra.Command {
	c := &cobra.Command{
		Use:   "landing",
		Short: "List the states of the landing, or return to one",
		Long: `Lists the states of the landing, each with its time, the command that made it, and what
was added (+), removed (-) and changed (~). Each can be used again, in one step, as long
as it is kept: keep_landings and keep_landings_days in the settings say how long. What
they use is not cleaned.`,
		Example: `  fernladder landing                          all states
  fernladder landing undo                     the one that was in use before
  fernladder landing use 12                   any other
  fernladder landing compare 9 12             what is different`,
		Args: noNames,
		RunE: func(*cobra.Command, []string) error { return a.landings() },
	}
	undo := &cobra.Command{
		Use:   "undo",
		Short: "Return to the previous state",
		Long: `Returns to the state that was in use before; used twice, it goes back two states. Nothing
is built or deleted; fernladder landing use goes forward again.`,
		Example: "  fernladder landing undo",
		Args:    noNames,
		RunE: func(c *cobra.Command, _ []string) error {
			return a.changeLanding(func(s *session.Session) (*session.LandingReport, error) { return s.Undo(c.Context()) })
		},
	}
	use := &cobra.Command{
		Use:     "use N",
		Short:   "Use the state with a number",
		Long:    `Uses the state with this number. 0 is the empty landing before the first.`,
		Example: "  fernladder landing use 12",
		Args:    exactly(1, "the number of a state"),
		RunE: func(c *cobra.Command, args []string) error {
			n, err := stateNumber(args[0])
			if err != nil {
				return err
			}
			return a.changeLanding(func(s *session.Session) (*session.LandingReport, error) { return s.Use(c.Context(), n) })
		},
	}
	compare := &cobra.Command{
		Use:     "compare N [M]",
		Short:   "Show how two states differ",
		Long:    `Shows how the state N differs from the state M, or from the one in use.`,
		Example: "  fernladder landing compare 9 12\n  fernladder landing compare 9",
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) < 1 || len(args) > 2 {
				return usage("landing compare takes the numbers of one or two states")
			}
			return nil
		},
		RunE: func(_ *cobra.Command, args []string) error { return a.compareLandings(args) },
	}
	c.AddCommand(undo, use, compare, a.settleCommand())
	return c
}

// exactly wants so many arguments.
func exactly(n int, what string) cobra.PositionalArgs {
	return func(c *cobra.Command, args []string) error {
		if len(args) != n {
			return usage("%s takes %s", c.CommandPath(), what)
		}
		return nil
	}
}

func stateNumber(text string) (int, error) {
	n, err := strconv.Atoi(text)
	if err != nil || n < 0 {
		return 0, usage("%q is no number of a landing; fernladder landing lists them", text)
	}
	return n, nil
}

func (a *app) landings() error {
	s, err := a.open()
	if err != nil {
		return err
	}
	r, err := s.Landings()
	if err != nil {
		return err
	}
	return a.answer(r, func() { a.showLandings(r) })
}

func (a *app) showLandings(r *session.LandingsReport) {
	if len(r.History) == 0 {
		a.screen.Print("The landing %s has never had a state.", r.Directory)
		return
	}
	var rows [][]string
	var used *landing.Remembered
	for i, x := range r.History {
		if x.Damaged != nil {
			rows = append(rows, []string{"", strconv.Itoa(x.Number), "", "", a.screen.Bad("damaged: its list cannot be read")})
			continue
		}
		mark := ""
		if x.InUse {
			mark = a.screen.Good("in use")
			used = &r.History[i]
		}
		rows = append(rows, []string{mark, strconv.Itoa(x.Number), x.Made.Local().Format("2006-01-02 15:04"),
			short(term.OneLine(x.Command)), a.changed(x, i == 0)})
	}
	a.screen.Table([]string{"", "landing", "made", "by", "changes"}, rows)
	if used == nil {
		a.screen.Print("\nNo state is in use: the landing is empty. To use one: fernladder landing use N")
	} else {
		a.screen.Print("\n%s on it, %s: %s", term.Count(len(used.Members), "build"), term.Count(used.Links, "link"),
			r.Directory)
		a.showNamed(used.Named)
	}
	for _, x := range r.Shared {
		a.screen.Print("Also linked in %s: %s.", x.Directory, term.Count(len(x.Links), "name"))
		a.showBlocked(&x)
	}
}

// changed says in a few words what a state changed.
func (a *app) changed(x landing.Remembered, first bool) string {
	if len(x.Missing) > 0 {
		return a.screen.Bad("cannot be used: " + term.Count(len(x.Missing), "tree") + " gone")
	}
	if first && x.From != 0 {
		return term.Count(len(x.Members), "build")
	}
	lines := differences(x.Changes)
	const few = 4
	if len(lines) > few {
		lines = append(lines[:few-1:few-1], fmt.Sprintf("and %d more", len(lines)-few+1))
	}
	if len(lines) == 0 {
		return "names or links only"
	}
	return strings.Join(lines, ", ")
}

// differences are what came, went and changed, each in a word or two.
func differences(d landing.Difference) (lines []string) {
	for _, m := range d.Came {
		lines = append(lines, "+ "+m.Name+" "+m.Version+beside(m))
	}
	for _, v := range d.Moved {
		lines = append(lines, "~ "+moved(v))
	}
	for _, m := range d.Went {
		lines = append(lines, "- "+m.Name+" "+m.Version)
	}
	return lines
}

func beside(m landing.Member) string {
	switch {
	case m.Beside && m.Preset != "":
		return " (beside, preset " + m.Preset + ")"
	case m.Preset != "":
		return " (preset " + m.Preset + ")"
	case m.Beside:
		return " (beside)"
	}
	return ""
}

// moved says how a package has changed.
func moved(v landing.Move) string {
	named := v.To.Name + " " + v.To.Version
	if v.To.Preset != "" {
		named += " (preset " + v.To.Preset + ")"
	}
	switch {
	case v.From.Ref == v.To.Ref && v.From.Beside == v.To.Beside:
		return v.To.Name + " " + v.To.Version + " goes by the preset " + orDefault(v.To.Preset, "of none") + " now"
	case v.From.Ref == v.To.Ref && v.To.Beside:
		return named + " is beside now"
	case v.From.Ref == v.To.Ref:
		return named + " has the plain names now"
	case v.From.Version == v.To.Version:
		return fmt.Sprintf("%s %s, built differently (%s → %s)", v.To.Name, v.To.Version, v.From.ID, v.To.ID)
	}
	return v.To.Name + " " + v.From.Version + " → " + v.To.Version
}

func (a *app) compareLandings(args []string) error {
	numbers := []int{0, -1} // -1 is the state in use
	for i, text := range args {
		n, err := stateNumber(text)
		if err != nil {
			return err
		}
		numbers[i] = n
	}
	s, err := a.open()
	if err != nil {
		return err
	}
	r, err := s.CompareLandings(numbers[0], numbers[1])
	if err != nil {
		return err
	}
	return a.answer(r, func() {
		lines := a.changes(nil, r.Before.Members, r.After.Members)
		if len(lines) == 0 {
			a.screen.Print("Landing %d and %d have the same builds.", r.From, r.To)
		}
		for _, line := range lines {
			a.screen.Print("%s", line)
		}
	})
}

// changeLanding changes the landing without building anything, and shows what that did.
func (a *app) changeLanding(change func(*session.Session) (*session.LandingReport, error)) error {
	s, err := a.open()
	if err != nil {
		return err
	}
	r, err := change(s)
	if err != nil {
		return err
	}
	if a.screen.JSON {
		return a.screen.PrintJSON(r)
	}
	l := r.Landed
	switch {
	case !l.Changed() && l.Linked:
		a.showShared(l.Shared)
		return nil
	case !l.Changed():
		a.screen.Print("Nothing to do: landing %d is in use.", l.After.Number)
		return nil
	}
	for _, line := range a.changes(nil, l.Before.Members, l.After.Members) {
		a.screen.Print("%s", line)
	}
	a.showLanded(l)
	if l.Before.Number > 0 {
		a.screen.Note("To go back: fernladder landing use %d", l.Before.Number)
	}
	return a.aheadOfLock(l)
}
