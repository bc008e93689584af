package cli

import (
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"fernladder/core/landing"
)

// completeRecipes offers the names of all recipes to shells that complete
// command lines; completeInstalled those of packages that are built. Behind NAME@,
// both offer the ids of builds.
func (a *app) completeRecipes(c *cobra.Command, args []string, start string) ([]string, cobra.ShellCompDirective) {
	if strings.Contains(start, "@") {
		return a.completeInstalled(c, args, start)
	}
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

func (a *app) completeInstalled(_ *cobra.Command, _ []string, start string) ([]string, cobra.ShellCompDirective) {
	m, err := a.open()
	if err != nil {
		return nil, cobra.ShellCompDirectiveError
	}
	receipts, err := m.Store.Receipts()
	if err != nil {
		return nil, cobra.ShellCompDirectiveError
	}
	_, _, byID := strings.Cut(start, "@")
	var names []string
	same := sameRelease(receipts)
	for _, r := range receipts {
		if byID {
			names = append(names, landing.NameOf(r.Ref)+"\t"+r.Version+" "+apart(r, same))
		} else {
			names = append(names, r.Name)
		}
	}
	return slices.Compact(names), cobra.ShellCompDirectiveNoFileComp
}
