package cli

import (
	"context"
	"fmt"
	"strings"

	"fernladder/core/problem"

	"github.com/spf13/cobra"

	"fernladder/core/build"
	"fernladder/core/compare"
	"fernladder/core/machine"
	"fernladder/core/plan"
	"fernladder/core/tinker"
	"fernladder/internal/term"
)

func (a *app) tinkerCommand() *cobra.Command {
	var ask plan.Ask
	folder := ""
	c := &cobra.Command{
		Use:   "tinker [NAME]",
		Short: "Change the source of a package, and keep the change as a patch",
		Long: `Lays the unpacked and patched source of a package into a folder of yours, under git.
Change it there; fernladder tinker try builds only what changed and runs it, in the same
stages and as sealed as a real build, and touches neither the landing nor the trees;
fernladder tinker keep makes a patch of the change and adds it to the recipe. Without a
name, lists what is tinkered with.`,
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
	c.Flags().StringVar(&folder, "in", "", "lay the source into the new folder `DIR`, instead of one called like the package")
	try := &cobra.Command{
		Use:   "try NAME [-- COMMAND...]",
		Short: "Build what was changed, and run it",
		Long: `Brings what was changed in the folder into the build, builds what that changes, and
runs a command with the result in the place of its tree, or else the tries of the recipe.`,
		Example: `  fernladder tinker try mistplan
  fernladder tinker try mistplan -- mistplan --dry fern.csv`,
		Args: func(c *cobra.Command, args []string) error {
			at := c.ArgsLenAtDash()
			if at < 0 && len(args) != 1 || at >= 0 && at != 1 {
				return usage("tinker try takes a name, and behind -- the command to run")
			}
			return nil
		},
		RunE: func(c *cobra.Command, args []string) error { return a.tinkerTry(c.Context(), args[0], args[1:]) },
	}
	keep := &cobra.Command{
		Use:   "keep NAME FILE.patch",
		Short: "Make a patch of the change, and add it to the recipe",
		Long: `Writes what was changed in the folder as patches/FILE.patch beside the recipe, adds it
to the release in the recipe, builds the package by that, and compares what comes of it
with what was tinkered.`,
		Example: "  fernladder tinker keep mistplan drier-nights.patch",
		Args:    exactly(2, "a name, and the name of a patch"),
		RunE:    func(c *cobra.Command, args []string) error { return a.tinkerKeep(c.Context(), args[0], args[1]) },
	}
	all := false
	drop := &cobra.Command{
		Use:   "drop NAME",
		Short: "End tinkering with a package",
		Long: `Deletes what tinkering has made in the root, and the folder, if nothing is in it that
was not kept. With --all, the folder in any case.`,
		Example: "  fernladder tinker drop mistplan",
		Args:    exactlyOne,
		RunE:    func(c *cobra.Command, args []string) error { return a.tinkerDrop(c.Context(), args[0], all) },
	}
	drop.Flags().BoolVar(&all, "all", false, "delete the folder with changes that were not kept")
	c.AddCommand(try, keep, drop)
	return c
}

func (a *app) tinkered() error {
	m, err := a.open()
	if err != nil {
		return err
	}
	all, err := tinker.All(m.Store)
	if err != nil {
		return err
	}
	if a.screen.JSON {
		return a.screen.PrintJSON(append([]*tinker.Bench{}, all...))
	}
	var rows [][]string
	for _, b := range all {
		rows = append(rows, []string{a.screen.Strong(b.Name), b.Version, b.Began.Local().Format("2006-01-02 15:04"), b.Folder, strings.Join(b.Kept, ", ")})
	}
	if len(rows) == 0 {
		a.screen.Print("Nothing is tinkered with.")
		return nil
	}
	a.screen.Table([]string{"package", "version", "since", "folder", "kept"}, rows)
	return nil
}

func (a *app) tinker(ctx context.Context, ask plan.Ask, folder string) error {
	m, p, err := a.pinned(ctx, ask)
	if err != nil {
		return err
	}
	if err := a.expect(ctx, m, p); err != nil {
		return err
	}
	b, err := tinker.Open(ctx, m, p, orDefault(folder, p.Asked()[0].Name))
	if err != nil {
		return a.failed(m, err)
	}
	if a.screen.JSON {
		return a.screen.PrintJSON(b)
	}
	a.screen.Print("The source of %s %s is in %s, under git.", a.screen.Strong(b.Name), b.Version, m.Place.Shown(b.Folder))
	a.screen.Note("When you have changed it: fernladder tinker try %s", b.Name)
	return nil
}

// bench builds what was changed of a package that is tinkered with.
func (a *app) bench(ctx context.Context, name string) (*machine.Machine, *tinker.Bench, *build.Tinkered, error) {
	m, err := a.open()
	if err != nil {
		return nil, nil, nil, err
	}
	b, err := tinker.Read(m.Store, name)
	if err != nil {
		return nil, nil, nil, err
	}
	t, brought, err := b.Build(ctx, m)
	if err != nil {
		return nil, nil, nil, a.failed(m, err)
	}
	if !a.screen.JSON {
		a.screen.Note("%s brought from %s.", term.Count(brought, "changed file"), m.Place.Shown(b.Folder))
	}
	return m, b, t, nil
}

func (a *app) tinkerTry(ctx context.Context, name string, argv []string) error {
	m, _, t, err := a.bench(ctx, name)
	if err != nil {
		return err
	}
	results, err := tinker.Try(ctx, m, t, argv)
	if err != nil {
		return err
	}
	if a.screen.JSON {
		if err := a.screen.PrintJSON(results); err != nil {
			return err
		}
	}
	failed := 0
	for _, r := range results {
		if !a.screen.JSON {
			if len(argv) == 0 {
				a.screen.Print("%s %s", a.screen.Faint("$"), term.OneLine(r.Try.String()))
			}
			fmt.Fprint(a.screen.Out, r.Output)
		}
		if r.Problem != "" {
			failed++
			a.screen.Note("%s", r.Problem)
		}
		if len(argv) > 0 && r.Status != 0 {
			failed++
			a.screen.Note("It ended with status %d.", r.Status)
		}
	}
	if len(results) == 0 && !a.screen.JSON {
		a.screen.Print("It is built. The recipe has no tries; to run it: fernladder tinker try %s -- COMMAND", name)
	}
	if failed > 0 {
		return &alreadyShown{triesFailed(failed, len(results))}
	}
	return nil
}

func (a *app) tinkerKeep(ctx context.Context, name, patch string) error {
	m, err := a.open()
	if err != nil {
		return err
	}
	b, err := tinker.Read(m.Store, name)
	if err != nil {
		return err
	}
	k, err := b.Keep(ctx, m, patch)
	if err != nil {
		return a.failed(m, err)
	}
	if a.screen.JSON {
		if err := a.screen.PrintJSON(k); err != nil {
			return err
		}
	} else {
		a.screen.Print("%s has the change, %s; %s names it.", m.Place.Shown(k.Patch), term.Count(k.Lines, "line"), k.Recipe)
		a.screen.Print("By that recipe, %s %s (%s) was built.", k.Build.Name, k.Build.Version, k.Build.ID)
		a.showSame(k.Differences)
		a.screen.Note("To use it: fernladder install %s", name)
	}
	if len(k.Differences) > 0 {
		return &alreadyShown{problem.New(problem.Other, name, "%s of the build by the recipe differ from what was tinkered", term.Count(len(k.Differences), "file"))}
	}
	return nil
}

func (a *app) showSame(differences []compare.Different) {
	if len(differences) == 0 {
		a.screen.Print("All its files are what was tinkered, byte for byte, but for the name of the tree.")
		return
	}
	a.screen.Print("It is not what was tinkered:")
	for _, d := range differences {
		a.screen.Print("  %s: %s", term.OneLine(d.Path), d.How)
	}
}

func (a *app) tinkerDrop(ctx context.Context, name string, all bool) error {
	m, err := a.open()
	if err != nil {
		return err
	}
	folder, kept, err := tinker.Drop(ctx, m, name, all)
	if err != nil {
		return err
	}
	switch {
	case a.screen.JSON:
		return a.screen.PrintJSON(map[string]any{"folder": folder, "folder_stays": kept})
	case kept:
		a.screen.Print("%s is not tinkered with any more. %s has changes that were not kept, and stays.", name, orDefault(m.Place.Shown(folder), "Its folder"))
	default:
		a.screen.Print("%s is not tinkered with any more, and %s is deleted.", name, m.Place.Shown(folder))
	}
	return nil
}
