package cli

import (
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"fernladder/core/store"
	"fernladder/internal/term"
)

func (a *app) historyCommand() *cobra.Command {
	most := 0
	c := &cobra.Command{
		Use:   "history [NAME]",
		Short: "List earlier builds: when, how long, what came of them",
		Example: `  fernladder history
  fernladder history mistplan --json          with the times of all stages`,
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
			return a.history(name, most)
		},
	}
	c.Flags().IntVarP(&most, "number", "n", 30, "show the last `N` builds")
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
			cpu = term.Duration(time.Duration(r.CPU() * float64(time.Second)))
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
			term.Duration(time.Duration(r.Seconds * float64(time.Second))), cpu, memory, size, longest(r)})
	}
	a.screen.Table([]string{"began", "package", "version", "build id", "outcome", "took", "processors", "memory", "size",
		"longest stage"}, rows)
	return nil
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
	return fmt.Sprintf("%s %s", most.Stage, term.Duration(time.Duration(most.Seconds*float64(time.Second))))
}
