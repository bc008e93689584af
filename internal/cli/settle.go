package cli

import (
	"context"
	"fmt"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"fernladder/core/landing"
	"fernladder/core/settings"
)

func (a *app) settleCommand() *cobra.Command {
	var first, off, as string
	c := &cobra.Command{
		Use:   "settle FILE",
		Short: "Decide which of two packages has a name on the landing",
		Long: `Writes into the settings which package a file of the landing belongs to ([[link]]). It
applies to every later change of the landing; repeat the command that failed with the
conflict. Without a flag, shows what is decided.`,
		Example: `  fernladder landing settle bin/grow --first moss     moss's counts, others' are left off
  fernladder landing settle bin/grow --off moss       moss's is left off
  fernladder landing settle bin/grow --as moss=bin/grow-moss`,
		Args: exactly(1, "one file, below the landing"),
		RunE: func(c *cobra.Command, args []string) error {
			if err := onlyOne(c, "first", "off", "as"); err != nil {
				return err
			}
			l := settings.Link{File: filepath.Clean(args[0]), Package: first + off, First: first != "", Off: off != ""}
			if as != "" {
				l.Package, l.As, _ = strings.Cut(as, "=")
				if l.As == "" {
					return usage("--as takes PACKAGE=NAME, for example moss=bin/grow-moss")
				}
			}
			return a.settle(c.Context(), l)
		},
	}
	c.Flags().StringVar(&first, "first", "", "link the file of `PACKAGE`, and not that of other packages")
	c.Flags().StringVar(&off, "off", "", "do not link the file of `PACKAGE`")
	c.Flags().StringVar(&as, "as", "", "link the file of a package under another name: `PACKAGE=NAME`")
	return c
}

func (a *app) settle(ctx context.Context, l settings.Link) error {
	s, err := a.open()
	if err != nil {
		return err
	}
	if l.Package == "" {
		found, err := s.Settled(l.File)
		if err != nil {
			return err
		}
		return a.answer(found, func() { a.showSettled(l.File, found) })
	}
	r, err := s.Settle(ctx, l)
	if err != nil {
		return err
	}
	return a.answer(r, func() {
		a.screen.Print("Written to %s:\n%s", s.Place.Shown(r.Settings), indent(strings.TrimSpace(l.Text())))
		a.screen.Note("It applies from the next change of the landing: repeat the command that failed, or: fernladder "+
			"install %s", l.Package)
	})
}

// showSettled shows what is decided about a file.
func (a *app) showSettled(file string, found []*settings.Link) {
	if len(found) == 0 {
		a.screen.Print("Nothing is decided about %s.", file)
	}
	for _, l := range found {
		a.screen.Print("%s", strings.TrimSpace(l.Text()))
	}
}

// waysOut are the commands that settle a conflict, each of which works.
func waysOut(c *landing.Conflict) []string {
	first, second := c.First.Name, c.Second.Name
	if first == second {
		return nil
	}
	file := c.Paths[0]
	lines := []string{"To decide which of them has it, in " + settings.FileName + " :"}
	settle := func(format string, args ...any) {
		lines = append(lines, "    fernladder landing settle "+file+" "+fmt.Sprintf(format, args...))
	}
	if c.First.Path == c.Second.Path {
		settle("--first %s", first)
		settle("--first %s", second)
	} else {
		settle("--off %s", first)
	}
	settle("--as %s=%s-%s", second, file, second)
	lines = append(lines, "Or remove one of them: fernladder remove "+first)
	for _, only := range c.Only {
		lines = append(lines, fmt.Sprintf("%s has no other files, and need not be on the landing.", only))
	}
	return lines
}
