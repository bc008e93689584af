package cli

import (
	"context"

	"github.com/spf13/cobra"

	"fernladder/core/landing"
	"fernladder/core/source"
)

func (a *app) supplyCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "supply NAME FILE...",
		Short: "Bring files that cannot be downloaded",
		Long: `Some packages need a file that is paid for, or that must not be passed on. Their
recipes say what it is and what its digest has to be. This takes a copy of such a
file into the root, where only builds read it. The file itself stays. Of a folder, it
takes the files that the recipe asks for.`,
		Example: "  fernladder supply mistplan ~/downloads/station.cal\n  fernladder supply mistplan ~/downloads",
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) < 2 {
				return usage("name a package and a file: fernladder supply mistplan station.cal")
			}
			return nil
		},
		ValidArgsFunction: func(c *cobra.Command, args []string, start string) ([]string, cobra.ShellCompDirective) {
			if len(args) > 0 {
				return nil, cobra.ShellCompDirectiveDefault
			}
			return a.completeRecipes(c, args, start)
		},
		RunE: func(c *cobra.Command, args []string) error { return a.supply(c.Context(), args[0], args[1:]) },
	}
}

func (a *app) supply(ctx context.Context, name string, files []string) error {
	m, err := a.open()
	if err != nil {
		return err
	}
	wanted, err := landing.ParseName(name)
	if err != nil {
		return err
	}
	r, err := m.Shelves.Find(wanted.Name)
	if err != nil {
		return err
	}
	if len(r.Supplies) == 0 {
		return usage("%s needs no files that have to be brought (%s)", name, r.File)
	}
	if err := m.Store.Prepare(); err != nil {
		return err
	}
	supplies := m.Supplies
	brought := map[string]string{}
	for _, file := range files {
		found, err := supplies.Add(ctx, file, r.Supplies)
		if err != nil {
			if is[*source.WrongSupply](err) || is[*source.StoreError](err) {
				return m.Stored(err)
			}
			return usage("%v", err)
		}
		for _, supply := range found {
			brought[supply.File] = supplies.Path(supply.Digest)
			if !a.screen.JSON {
				a.screen.Print("%s is here for %s, verified: %s", supply.File, wanted.Name, supply.About)
			}
		}
	}
	missing := []string{}
	for _, supply := range r.Supplies {
		if !supplies.Has(supply.Digest) {
			missing = append(missing, supply.File)
			if !a.screen.JSON {
				a.screen.Note("Still missing: %s (%s)", supply.File, supply.About)
			}
		}
	}
	if a.screen.JSON {
		return a.screen.PrintJSON(map[string]any{"brought": brought, "missing": missing})
	}
	return nil
}
