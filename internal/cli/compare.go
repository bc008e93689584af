package cli

import (
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"fernladder/core/compare"
	"fernladder/internal/term"
)

func (a *app) compareCommand() *cobra.Command {
	all, draw := false, ""
	c := &cobra.Command{
		Use:   "compare A B",
		Short: "Compare two builds",
		Long: `Shows how two builds differ: options, sources, needs, compiler; files that were added,
removed or changed, and their sizes; required libraries and exported symbols; tries, times
and memory. Each build is a name, or the directory of a tree: in another root, or copied
from another machine.`,
		Example: `  fernladder compare mistplan:1.9.4 mistplan:2.1.0
  fernladder compare mistplan:1.9.4 mistplan:2.1.0 --draw mistplan.svg
  fernladder compare mistplan@3f9c mistplan@77ab
  fernladder compare mistplan /mnt/other/trees/mistplan/2.1.0-dcf3ef35b443`,
		Args:              exactly(2, "two builds"),
		ValidArgsFunction: a.completeInstalled,
		RunE:              func(_ *cobra.Command, args []string) error { return a.compare(args, all, draw) },
	}
	c.Flags().BoolVar(&all, "all", false, "show every file and symbol, however many there are")
	c.Flags().StringVar(&draw, "draw", "", "draw times and sizes into `FILE`: a name that ends in .svg, .png or .html")
	return c
}

func (a *app) compare(args []string, all bool, draw string) error {
	s, err := a.open()
	if err != nil {
		return err
	}
	r, sides, err := s.Compare(args[0], args[1])
	if err != nil {
		return err
	}
	if draw != "" {
		return a.drawn(r, draw, s.DrawComparison(r, sides, draw))
	}
	return a.answer(r, func() {
		a.screen.Print("A  %s %s (%s), %s", a.screen.Strong(r.A.Name), r.A.Version, r.A.ID, sides[0].Tree)
		a.screen.Print("B  %s %s (%s), %s\n", a.screen.Strong(r.B.Name), r.B.Version, r.B.ID, sides[1].Tree)
		a.compareMade(r)
		few := 12
		if all {
			few = 1 << 30
		}
		a.compareFiles(r, few)
		a.compareCost(r)
	})
}

func (a *app) compareMade(r *compare.Report) {
	var rows [][]string
	add := func(kind string, list []compare.Changed) {
		for i, c := range list {
			label := ""
			if i == 0 {
				label = a.screen.Faint(kind)
			}
			rows = append(rows, []string{label, c.Name, orDefault(short(c.A), "–"), orDefault(short(c.B), "–")})
		}
	}
	add("options", r.Options)
	add("features", r.Features)
	add("sources", r.Sources)
	add("patches", r.Patches)
	add("needs", r.Needs)
	add("around", r.Around)
	add("libraries", r.Libraries)
	add("tries", r.Tries)
	if len(rows) == 0 {
		but := ""
		if len(r.Made) > 0 {
			but = ", except for " + isAnd(r.Made)
		}
		a.screen.Print("They were made from the same inputs%s.", but)
		return
	}
	a.screen.Table([]string{"", "", "A", "B"}, rows)
}

// short cuts off long texts that mean nothing to a person, such as digests.
func short(text string) string {
	const most, digest = 60, 19
	if strings.HasPrefix(text, "sha") && len(text) > most {
		return text[:digest] + "…"
	}
	if len(text) > most {
		return text[:most-1] + "…"
	}
	return text
}

func (a *app) compareFiles(r *compare.Report, few int) {
	f := r.Files
	if len(f.Came)+len(f.Gone)+len(f.Changed) == 0 {
		a.screen.Print("\nAll %s are the same.", term.Count(f.Same, "file"))
	} else {
		a.screen.Print("\nFiles: %d the same, %d only in B (+), %d only in A (-), %d different (~)", f.Same, len(f.Came),
			len(f.Gone), len(f.Changed))
	}
	show := func(mark string, list []compare.FileSize) {
		for i, x := range list {
			if i == few {
				a.screen.Print("  %s and %d more; --all shows them", mark, len(list)-few)
				return
			}
			size := ""
			switch {
			case x.A < 0:
				size = term.Bytes(x.B)
			case x.B < 0:
				size = term.Bytes(x.A)
			case x.A != x.B:
				size = fmt.Sprintf("%s → %s", term.Bytes(x.A), term.Bytes(x.B))
			}
			a.screen.Print("  %s %s  %s", mark, term.OneLine(x.Path), a.screen.Faint(size))
		}
	}
	show("+", f.Came)
	show("-", f.Gone)
	show("~", f.Changed)
	for _, s := range r.Symbols {
		head := fmt.Sprintf("\n%s: %s came, %d went", s.Library, term.Count(len(s.Came), "symbol"), len(s.Gone))
		if s.Soname.Name != "" {
			head += fmt.Sprintf("; others ask for it as %s, not %s", s.Soname.B, s.Soname.A)
		}
		a.screen.Print("%s", head)
		for mark, names := range map[string][]string{"+": s.Came, "-": s.Gone} {
			for i, name := range names {
				if i == few {
					a.screen.Print("  %s and %d more; --all shows them", mark, len(names)-few)
					break
				}
				a.screen.Print("  %s %s", mark, term.OneLine(name))
			}
		}
	}
}

func (a *app) compareCost(r *compare.Report) {
	times := func(x float64) string { return term.Duration(time.Duration(x * float64(time.Second))) }
	sizes := func(x float64) string {
		if x == 0 {
			return "–"
		}
		return term.Bytes(int64(x))
	}
	ratio := func(m compare.Measure) string {
		if m.A <= 0 || m.B <= 0 {
			return ""
		}
		return fmt.Sprintf("× %.2f", m.B/m.A)
	}
	var rows [][]string
	for _, m := range r.Stages {
		rows = append(rows, []string{m.Name, times(m.A), times(m.B), ratio(m)})
	}
	rows = append(rows, []string{"all stages", times(r.Total.A), times(r.Total.B), ratio(r.Total)},
		[]string{"most memory", sizes(r.Memory.A), sizes(r.Memory.B), ratio(r.Memory)},
		[]string{"size", sizes(r.Size.A), sizes(r.Size.B), ratio(r.Size)})
	a.screen.Print("")
	a.screen.Table([]string{"", "A", "B", "B to A"}, rows)
}
