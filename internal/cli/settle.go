package cli

import (
	"context"
	"fmt"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"fernladder/core/landing"
	"fernladder/core/machine"
	"fernladder/core/recipe"
	"fernladder/core/settings"
)

func (a *app) settleCommand() *cobra.Command {
	var first, off, as string
	c := &cobra.Command{
		Use:   "settle FILE",
		Short: "Decide who has a name on the landing that two packages want",
		Long: `Writes into the settings whose a file of the landing is ([[link]]). It counts for every
change of the landing from then on; the command that ended with the conflict can be
given again. Without a flag, shows what is decided.`,
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
	c.Flags().StringVar(&first, "first", "", "the file of `PACKAGE` is linked, the same file of others is not")
	c.Flags().StringVar(&off, "off", "", "the file of `PACKAGE` is not linked")
	c.Flags().StringVar(&as, "as", "", "the file of a package has another name: `PACKAGE=NAME`")
	return c
}

func (a *app) settle(ctx context.Context, l settings.Link) error {
	m, err := a.open()
	if err != nil {
		return err
	}
	if !filepath.IsLocal(l.File) || l.As != "" && !filepath.IsLocal(l.As) {
		return usage("a file of the landing is named by its path below it, as bin/grow")
	}
	if l.Package == "" {
		return a.settled(m, l.File)
	}
	if err := recipe.CheckName(l.Package); err != nil {
		return usage("%v", err)
	}
	if m.Settings.File == "" {
		return usage("there is no %s to write it into; make one with fernladder new, or add to yours:\n%s", settings.FileName, l.Text())
	}
	if err := m.Store.Prepare(); err != nil {
		return err
	}
	unlock, err := m.Store.LockFile(ctx, m.Settings.File)
	if err != nil {
		return err
	}
	defer unlock()
	if err := settings.Decide(m.Settings.File, m.Place, l); err != nil {
		return err
	}
	if a.screen.JSON {
		return a.screen.PrintJSON(map[string]any{"file": l.File, "package": l.Package, "settings": m.Settings.File})
	}
	a.screen.Print("Written to %s:\n%s", m.Place.Shown(m.Settings.File), indent(strings.TrimSpace(l.Text())))
	a.screen.Note("It counts from the next change of the landing on: give the command again that could not be done, or: fernladder install %s", l.Package)
	return nil
}

// settled shows what is decided about a file.
func (a *app) settled(m *machine.Machine, file string) error {
	var found []*settings.Link
	for _, l := range m.Settings.Landing.Links {
		if l.File == file {
			found = append(found, l)
		}
	}
	if a.screen.JSON {
		return a.screen.PrintJSON(append([]*settings.Link{}, found...))
	}
	if len(found) == 0 {
		a.screen.Print("Nothing is decided about %s.", file)
	}
	for _, l := range found {
		a.screen.Print("%s", strings.TrimSpace(l.Text()))
	}
	return nil
}

// waysOut are the commands that settle a conflict, each of which works.
func waysOut(c *landing.Conflict) []string {
	first, second := c.First.Name, c.Second.Name
	if first == second {
		return nil
	}
	file := c.Paths[0]
	lines := []string{"To decide which of them has it, where " + settings.FileName + " keeps it:"}
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
	lines = append(lines, "Or take one of them off: fernladder remove "+first)
	for _, only := range c.Only {
		lines = append(lines, fmt.Sprintf("%s has nothing else; without it, it need not be on the landing.", only))
	}
	return lines
}
