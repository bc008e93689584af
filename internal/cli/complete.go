package cli

import (
	"slices"

	"github.com/spf13/cobra"
)

// completeRecipes offers the names of all recipes to shells that complete
// command lines; completeInstalled those of installed packages.
func (a *app) completeRecipes(_ *cobra.Command, _ []string, _ string) ([]string, cobra.ShellCompDirective) {
	m, err := a.open()
	if err != nil {
		return nil, cobra.ShellCompDirectiveError
	}
	names, err := m.Shelves.Names()
	if err != nil {
		return nil, cobra.ShellCompDirectiveError
	}
	return names, cobra.ShellCompDirectiveNoFileComp
}

func (a *app) completeInstalled(_ *cobra.Command, _ []string, _ string) ([]string, cobra.ShellCompDirective) {
	m, err := a.open()
	if err != nil {
		return nil, cobra.ShellCompDirectiveError
	}
	receipts, err := m.Store.Receipts()
	if err != nil {
		return nil, cobra.ShellCompDirectiveError
	}
	var names []string
	for _, r := range receipts {
		names = append(names, r.Name)
	}
	return slices.Compact(names), cobra.ShellCompDirectiveNoFileComp
}
