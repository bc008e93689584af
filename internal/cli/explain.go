package cli

import (
	"context"
	"fmt"
	"os"

	"github.com/spf13/cobra"

	"fernladder/core/session"
)

func (a *app) explainCommand() *cobra.Command {
	teach := false
	c := &cobra.Command{
		Use:   "explain [LOG...]",
		Short: "Explain the log of any failed build, and what would help",
		Long: `Reads the output of a build, by Fern Ladder or anything else, and reports the first
failure, what it means, and what has the missing thing: a recipe on the shelves, a package
of the operating system, or both. Without a name, or with -, it reads standard input. If a
log only points to another one beside it, that is read, too. Failed builds of recipes are
explained when they fail.

causes.toml at the top of a shelf describes causes that a site knows of its own builds; it
takes precedence over the built-in ones. --teach prints the beginning of an entry.

The exit status is 0 if everything is explained or nothing failed, and 1 if a cause is not
clear.`,
		Example: `  fernladder explain build.log
  make 2>&1 | fernladder explain
  fernladder explain *.log --json`,
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) == 0 && a.screen.Interactive(os.Stdin) {
				return usage("explain reads a log: name one, or pipe the output of a build into it, as in the examples of --help")
			}
			if len(args) == 0 {
				args = []string{"-"}
			}
			return a.explain(c.Context(), session.ExplainRequest{Logs: args, Input: c.InOrStdin(), Teach: teach})
		},
	}
	c.Flags().BoolVar(&teach, "teach", false,
		"print the beginning of an entry for causes.toml of a shelf, for the decisive line")
	return c
}

func (a *app) explain(ctx context.Context, r session.ExplainRequest) error {
	s, err := a.open()
	if err != nil {
		return err
	}
	help := newHelper(s.Machine)
	_, problems := s.Causes()
	for _, p := range problems {
		a.screen.Note("%s", p.String())
	}
	all, err := s.Explain(ctx, r)
	if all == nil {
		return err
	}
	for i := range all {
		all[i].Advice = append(all[i].Advice, help.advice(nil, &all[i].Cause)...)
	}
	if shown := a.answer(all, func() {
		for i, e := range all {
			if r.Teach {
				a.screen.Print("%s", e.Frame)
			} else {
				a.showExplained(e, i)
			}
		}
	}); shown != nil {
		return shown
	}
	return judged(err)
}

func (a *app) showExplained(e session.Explanation, number int) {
	if number > 0 {
		a.screen.Print("")
	}
	at := e.Log
	if at == "-" {
		at = "input"
	}
	if e.Cause.In != "" {
		at = e.Cause.In
	}
	if e.Cause.Line > 0 {
		at += fmt.Sprintf(":%d", e.Cause.Line)
	}
	text := e.Says
	if e.Cause.Place != "" {
		text += " (" + e.Cause.Place + ")"
	}
	a.screen.Print("%s: %s", a.screen.Strong(at), text)
	for _, line := range e.Cause.Lines {
		a.screen.Print("    │ %s", line)
	}
	if e.Cause.See != "" && !e.Cause.Known() {
		a.screen.Print("  More may be in %s.", e.Cause.See)
	}
	for _, line := range e.Advice {
		a.screen.Print("  %s", line)
	}
}
