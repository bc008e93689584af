package cli

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"fernladder/core/picture"
	"fernladder/core/store"
	"fernladder/internal/term"
)

func (a *app) historyCommand() *cobra.Command {
	most, draw, run, runs := 0, "", "", false
	c := &cobra.Command{
		Use:   "history [NAME]",
		Short: "List earlier builds: when, how long, what came of them",
		Example: `  fernladder history
  fernladder history mistplan --json          with the times of all stages
  fernladder history --runs                   what each run of builds took, and why
  fernladder history --draw run.svg           the last run, as a picture
  fernladder history --draw run.html --run 20261130-0931`,
		Args: func(c *cobra.Command, args []string) error {
			if len(args) > 1 {
				return usage("history takes one name, not %d", len(args))
			}
			return nil
		},
		ValidArgsFunction: a.completeInstalled,
		RunE: func(c *cobra.Command, args []string) error {
			name := ""
			if len(args) == 1 {
				name = args[0]
			}
			if err := onlyOne(c, "draw", "runs"); err != nil {
				return err
			}
			switch {
			case draw != "":
				return a.drawRun(name, run, draw)
			case run != "":
				return usage("--run says which run --draw draws")
			case runs:
				return a.runs(name, most)
			}
			return a.history(name, most)
		},
	}
	c.Flags().IntVarP(&most, "number", "n", 30, "show the last `N` builds, or runs")
	c.Flags().BoolVar(&runs, "runs", false, "list runs of builds: what set the length, and what kept processors idle")
	c.Flags().StringVar(&draw, "draw", "", "draw the last run of builds into `FILE`: a name that ends in .svg, .png or "+
		".html")
	c.Flags().StringVar(&run, "run", "", "draw the run `WHEN`, as --runs names it, or the beginning of that")
	return c
}

func (a *app) history(name string, most int) error {
	if most < 1 {
		return usage("-n %d: at least one build has to be shown", most)
	}
	m, err := a.open()
	if err != nil {
		return err
	}
	records, err := m.History(name, most)
	if err != nil {
		return err
	}
	if a.screen.JSON {
		return a.screen.PrintJSON(records)
	}
	if len(records) == 0 {
		of := ""
		if name != "" {
			of = " of " + name
		}
		a.screen.Print("No build%s is recorded.", of)
		return nil
	}
	var rows [][]string
	for i := len(records) - 1; i >= 0; i-- { // the last one is nearest to the prompt
		r := records[i]
		outcome := a.screen.Good("built")
		if r.Failed != "" {
			outcome = a.screen.Bad("failed in " + r.Failed)
		}
		cpu := ""
		if r.CPU() > 0 {
			cpu = seconds(r.CPU())
		}
		memory := ""
		if r.Memory > 0 {
			memory = term.Bytes(r.Memory)
		}
		size := ""
		if r.Size > 0 {
			size = term.Bytes(r.Size)
		}
		rows = append(rows, []string{r.Began.Local().Format("2006-01-02 15:04"), a.screen.Strong(r.Name), r.Version,
			r.ID, outcome,
			seconds(r.Seconds), cpu, memory, size, longest(r)})
	}
	a.screen.Table([]string{"began", "package", "version", "build id", "outcome", "took", "processors", "memory", "size",
		"longest stage"}, rows)
	return nil
}

func (a *app) drawRun(name, run, file string) error {
	s, err := a.open()
	if err != nil {
		return err
	}
	r, err := s.DrawRun(name, run, file)
	return a.drawn(r, file, err)
}

// runs lists runs of builds, the last one nearest to the prompt.
func (a *app) runs(name string, most int) error {
	if most < 1 {
		return usage("-n %d: at least one run has to be shown", most)
	}
	s, err := a.open()
	if err != nil {
		return err
	}
	list, err := s.Timelines(name, most)
	if err != nil {
		return err
	}
	return a.answer(list, func() {
		if len(list) == 0 {
			a.screen.Print("No run of builds is recorded.")
			return
		}
		var rows [][]string
		for _, r := range slices.Backward(list) {
			var outcomes []string
			for _, o := range slices.Sorted(maps.Keys(r.Builds)) {
				outcomes = append(outcomes, fmt.Sprintf("%d %s", r.Builds[o], o))
			}
			forecast, busy, idle := "", "", ""
			if r.Expected > 0 {
				forecast = seconds(r.Expected)
			}
			if all := float64(r.Slots) * r.Seconds; all > 0 {
				busy = fmt.Sprintf("%.0f %%", min(100, 100*r.Busy/all))
			}
			if len(r.Idle) > 0 {
				idle = fmt.Sprintf("%s %s", picture.IdleWords(r.Idle[0].What), seconds(r.Idle[0].Seconds))
			}
			rows = append(rows, []string{r.Run, strings.Join(outcomes, ", "), seconds(r.Seconds), forecast, busy, idle,
				term.Clip(strings.Join(r.Path, " → "), 48)})
		}
		a.screen.Table([]string{"run", "builds", "took", "forecast", "busy", "idle most", "what set the length"}, rows)
	})
}

// longest names the stage of a build that took longest.
func longest(r store.Record) string {
	var most store.StageTime
	for _, s := range r.Stages {
		if s.Seconds > most.Seconds {
			most = s
		}
	}
	if most.Stage == "" {
		return ""
	}
	return fmt.Sprintf("%s %s", most.Stage, seconds(most.Seconds))
}
