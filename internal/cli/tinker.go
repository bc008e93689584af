package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"fernladder/core/build"
	"fernladder/core/plan"
	"fernladder/core/session"
	"fernladder/internal/term"
)

func (a *app) tinkerCommand() *cobra.Command {
	var ask plan.Ask
	folder := ""
	c := &cobra.Command{
		Use:   "tinker [NAME]",
		Short: "Change the source of a package, and keep the change as a patch",
		Long: `Puts the unpacked and patched source of a package into a folder of yours, under git.
Change it there. fernladder tinker try builds only what changed, sealed like a real build,
and runs it, without touching the landing or the trees. fernladder tinker keep makes a
patch of the change and adds it to the recipe. Without a name, lists the packages that are
being tinkered with.`,
		Example: `  fernladder tinker mistplan                  lays its source into ./mistplan
  fernladder tinker try mistplan -- mistplan --version
  fernladder tinker keep mistplan drier-nights.patch
  fernladder tinker drop mistplan`,
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) > 1 {
				return usage("tinker takes one name; its commands are try, keep and drop")
			}
			return nil
		},
		ValidArgsFunction: a.completeRecipes,
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) == 0 {
				return a.tinkered()
			}
			return a.tinker(c.Context(), with(&ask, args), folder)
		},
	}
	a.addLadderFlags(c, &ask, true)
	c.Flags().StringVar(&folder, "in", "",
		"put the source into the new folder `DIR` instead of one with the package's name")
	try := &cobra.Command{
		Use:   "try NAME [-- COMMAND...]",
		Short: "Build the changes, and run the result",
		Long: `Copies the changes in the folder into the build, builds what they affect, and runs a
command with the result in the place of its tree, or by default the tries of the recipe.`,
		Example: `  fernladder tinker try mistplan
  fernladder tinker try mistplan -- mistplan --dry fern.csv`,
		Args: func(c *cobra.Command, args []string) error {
			at := c.ArgsLenAtDash()
			if at < 0 && len(args) != 1 || at >= 0 && at != 1 {
				return usage("tinker try takes a name, and after -- the command to run")
			}
			return nil
		},
		RunE: func(c *cobra.Command, args []string) error { return a.tinkerTry(c.Context(), args[0], args[1:]) },
	}
	keep := &cobra.Command{
		Use:   "keep NAME FILE.patch",
		Short: "Make a patch of the changes, and add it to the recipe",
		Long: `Writes the changes in the folder as patches/FILE.patch beside the recipe, adds the patch
to the release in the recipe, builds the package by that recipe, and compares the result
with your edited build.`,
		Example: "  fernladder tinker keep mistplan drier-nights.patch",
		Args:    exactly(2, "a name, and the name of a patch"),
		RunE:    func(c *cobra.Command, args []string) error { return a.tinkerKeep(c.Context(), args[0], args[1]) },
	}
	all := false
	drop := &cobra.Command{
		Use:   "drop NAME",
		Short: "Stop tinkering with a package",
		Long: `Deletes the edited build in the root, and the folder if all its changes were kept. With
--all, deletes the folder in any case.`,
		Example: "  fernladder tinker drop mistplan",
		Args:    a.exactlyOne,
		RunE:    func(c *cobra.Command, args []string) error { return a.tinkerDrop(c.Context(), args[0], all) },
	}
	drop.Flags().BoolVar(&all, "all", false, "delete the folder with changes that were not kept")
	c.AddCommand(try, keep, drop)
	return c
}

func (a *app) tinkered() error {
	s, err := a.open()
	if err != nil {
		return err
	}
	all, err := s.Tinkered()
	if err != nil {
		return err
	}
	return a.answer(all, func() {
		var rows [][]string
		for _, b := range all {
			rows = append(rows, []string{a.screen.Strong(b.Name), b.Version, b.Began.Local().Format("2006-01-02 15:04"),
				b.Folder, strings.Join(b.Kept, ", ")})
		}
		if len(rows) == 0 {
			a.screen.Print("No package is being tinkered with.")
			return
		}
		a.screen.Table([]string{"package", "version", "since", "folder", "kept"}, rows)
	})
}

func (a *app) tinker(ctx context.Context, ask plan.Ask, folder string) error {
	s, err := a.open()
	if err != nil {
		return err
	}
	b, err := s.Tinker(ctx, session.TinkerRequest{LadderRequest: a.building(ask).LadderRequest, Folder: folder})
	if err != nil {
		return a.failed(err)
	}
	return a.answer(b, func() {
		a.screen.Print("The source of %s %s is in %s, under git.", a.screen.Strong(b.Name), b.Version,
			s.Place.Shown(b.Folder))
		a.screen.Note("When you have changed it: fernladder tinker try %s", b.Name)
	})
}

func (a *app) tinkerTry(ctx context.Context, name string, argv []string) error {
	s, err := a.open()
	if err != nil {
		return err
	}
	r, err := s.TryTinkered(ctx, name, argv, func(r *session.TinkerTry) {
		a.screen.Note("%s brought from %s.", term.Count(r.Changed, "changed file"), s.Place.Shown(r.Bench.Folder))
	})
	if r == nil || err != nil && r.Failed == 0 {
		return a.failed(err)
	}
	if shown := a.answer(r.Tries, func() { a.showTinkerTries(name, argv, r.Tries) }); shown != nil {
		return shown
	}
	return judged(err)
}

func (a *app) showTinkerTries(name string, argv []string, tries []build.TryResult) {
	for _, r := range tries {
		if len(argv) == 0 {
			a.screen.Print("%s %s", a.screen.Faint("$"), term.OneLine(r.Try.String()))
		}
		fmt.Fprint(a.screen.Out, r.Output)
		if r.Problem != "" {
			a.screen.Note("%s", r.Problem)
		}
		if len(argv) > 0 && r.Status != 0 {
			a.screen.Note("It ended with status %d.", r.Status)
		}
	}
	if len(tries) == 0 {
		a.screen.Print("It is built. The recipe has no tries; to run it: fernladder tinker try %s -- COMMAND", name)
	}
}

func (a *app) tinkerKeep(ctx context.Context, name, patch string) error {
	s, err := a.open()
	if err != nil {
		return err
	}
	k, err := s.KeepTinkered(ctx, name, patch)
	if k == nil {
		return a.failed(err)
	}
	if shown := a.answer(k, func() {
		a.screen.Print("%s has the change, %s; %s names it.", s.Place.Shown(k.Patch), term.Count(k.Lines, "line"), k.Recipe)
		a.screen.Print("By that recipe, %s %s (%s) was built.", k.Build.Name, k.Build.Version, k.Build.ID)
		if len(k.Differences) == 0 {
			a.screen.Print("The rebuilt files are identical to your edited build, except for the tree's path.")
		} else {
			a.screen.Print("It differs from your edited build:")
		}
		for _, d := range k.Differences {
			a.screen.Print("  %s: %s", term.OneLine(d.Path), d.How)
		}
		a.screen.Note("To use it: fernladder install %s", name)
	}); shown != nil {
		return shown
	}
	return judged(err)
}

func (a *app) tinkerDrop(ctx context.Context, name string, all bool) error {
	s, err := a.open()
	if err != nil {
		return err
	}
	r, err := s.DropTinkered(ctx, name, all)
	if err != nil {
		return err
	}
	return a.answer(r, func() {
		if r.Stays {
			a.screen.Print("%s is no longer being tinkered with. %s has changes that were not kept, and stays.", name,
				orDefault(s.Place.Shown(r.Folder), "Its folder"))
		} else {
			a.screen.Print("%s is no longer being tinkered with, and %s is deleted.", name, s.Place.Shown(r.Folder))
		}
	})
}
