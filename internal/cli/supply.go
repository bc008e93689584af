package cli

import (
	"context"

	"github.com/spf13/cobra"
)

func (a *app) supplyCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "supply NAME FILE...",
		Short: "Supply files that cannot be downloaded",
		Long: `Some packages need a file that is paid for, or that must not be passed on. Their recipes
describe it and state its digest. This copies such a file into the root, where only builds
read it. From a folder, it copies the files that the recipe asks for.`,
		Example: "  fernladder supply mistplan ~/downloads/station.cal\n  fernladder supply mistplan ~/downloads",
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) < 2 {
				return usage("name a package and a file: fernladder supply %s FILE", a.exampleName())
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
	s, err := a.open()
	if err != nil {
		return err
	}
	r, err := s.Supply(ctx, name, files)
	if err != nil {
		return err
	}
	return a.answer(r, func() {
		for _, file := range r.Order {
			a.screen.Print("%s is here for %s, verified: %s", file, name, r.About[file])
		}
		for _, file := range r.Missing {
			a.screen.Note("Still missing: %s (%s)", file, r.About[file])
		}
	})
}
