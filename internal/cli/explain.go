package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"syscall"

	"github.com/spf13/cobra"

	"fernladder/core/build"
	"fernladder/core/diagnose"
	"fernladder/internal/term"
)

func (a *app) explainCommand() *cobra.Command {
	teach := false
	c := &cobra.Command{
		Use:   "explain [LOG...]",
		Short: "Say what went wrong in the log of any build, and what would remedy it",
		Long: `Reads what a build has printed, of Fern Ladder or of any other, and says what
went wrong first, what it means, and who has what is missing: a recipe on the
shelves, a package of the operating system, or both. Without a name, or with -, it
reads its input. Where a log only points to another one beside it, that is read,
too. Failed builds of recipes are explained when they fail.

What a site knows of its own builds stands in causes.toml at the top of a shelf, and
comes before what the program knows; --teach prints the beginning of an entry.

It ends with status 0 where all is explained, or nothing has failed, and with 1 where
a cause is not clear.`,
		Example: `  fernladder explain build.log
  make 2>&1 | fernladder explain
  fernladder explain *.log --json`,
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) == 0 && a.screen.Interactive(os.Stdin) {
				return usage("explain reads a log: name one, or have a build print into it, as in the examples of --help")
			}
			if len(args) == 0 {
				args = []string{"-"}
			}
			return a.explain(c.Context(), c.InOrStdin(), args, teach)
		},
	}
	c.Flags().BoolVar(&teach, "teach", false, "print the beginning of an entry for the causes.toml of a shelf, for the decisive line")
	return c
}

// explained is a log with what is known of it.
type explained struct {
	Log    string         `json:"log"`
	Cause  diagnose.Cause `json:"cause"`
	Says   string         `json:"says"`
	Advice []string       `json:"advice"`
	Frame  string         `json:"frame,omitempty"` // the beginning of an entry for a shelf's table of causes
}

func (a *app) explain(ctx context.Context, in io.Reader, logs []string, teach bool) error {
	m, err := a.open()
	if err != nil {
		return err
	}
	help := newHelper(m)
	table, problems := m.Causes()
	for _, p := range problems {
		a.screen.Note("%s", p.String())
	}
	all := make([]explained, len(logs))
	known := 0
	for i, log := range logs {
		e := explained{Log: log}
		if e.Cause, err = diagnosed(ctx, table, in, log); err != nil {
			return usage("%s cannot be read: %v", log, err)
		}
		if e.Cause.Known() && e.Cause.Kind != diagnose.Said || e.Cause.Kind == diagnose.Fine {
			known++
		}
		e.Says = e.Cause.String()
		e.Advice = append([]string{}, help.advice(nil, &e.Cause)...)
		if teach {
			e.Frame = diagnose.Frame(e.Cause.Decisive())
		}
		all[i] = e
		switch {
		case a.screen.JSON:
		case teach:
			a.screen.Print("%s", e.Frame)
		default:
			a.showExplained(e, i)
		}
	}
	if a.screen.JSON {
		if err := a.screen.PrintJSON(all); err != nil {
			return err
		}
	}
	if known == len(logs) || teach {
		return nil
	}
	return &alreadyShown{fmt.Errorf("the cause is not clear in %s", term.Count(len(logs)-known, "log"))}
}

// diagnosed reads a log, and the one beside it that it points to.
func diagnosed(ctx context.Context, table *diagnose.Table, in io.Reader, log string) (diagnose.Cause, error) {
	if log != "-" {
		info, err := os.Stat(log)
		if err != nil || info.IsDir() {
			if err == nil {
				err = fmt.Errorf("it is a directory")
			}
			return diagnose.Cause{}, err
		}
		absolute, err := filepath.Abs(log)
		if err != nil {
			return diagnose.Cause{}, err
		}
		if info.Mode().IsRegular() {
			return build.Diagnose(table, absolute, filepath.Dir(absolute), filepath.Dir(absolute)), nil
		}
		pipe, err := os.OpenFile(log, os.O_RDONLY|syscall.O_NONBLOCK, 0)
		if err != nil {
			return diagnose.Cause{}, err
		}
		defer context.AfterFunc(ctx, func() { pipe.Close() })()
		defer pipe.Close()
		in = pipe
	}
	const enough = 64 << 20
	text, err := io.ReadAll(io.LimitReader(in, enough))
	if ctx.Err() != nil {
		return diagnose.Cause{}, ctx.Err()
	}
	if err != nil {
		return diagnose.Cause{}, err
	}
	return build.DiagnoseText(table, string(text)), nil
}

func (a *app) showExplained(e explained, number int) {
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
