package cli

import (
	"strings"

	"github.com/spf13/cobra"

	"fernladder/core/recipe"
)

func (a *app) offersCommand() *cobra.Command {
	write := false
	c := &cobra.Command{
		Use:   "offers NAME",
		Short: "Show what an installed package offers to others, and write it into its recipe",
		Long: `Shows what other packages can use of the tree of an installed package: pkg-config modules,
programs, libraries, CMake packages. With --write, its recipe gets a table [offers] with
them, and nothing else in it changes. Drafts of other recipes find the package by it.`,
		Example:           "  fernladder offers dewcalc\n  fernladder offers dewcalc --write",
		Args:              a.exactlyOne,
		ValidArgsFunction: a.completeInstalled,
		RunE:              func(_ *cobra.Command, args []string) error { return a.offers(args[0], write) },
	}
	c.Flags().BoolVar(&write, "write", false, "write them into the recipe")
	return c
}

func (a *app) offers(name string, write bool) error {
	s, err := a.open()
	if err != nil {
		return err
	}
	receipt, err := s.Find(name)
	if err != nil {
		return err
	}
	o, _, err := s.Offers(name, write)
	if err != nil {
		return err
	}
	keys, lists := o.Lists()
	if a.screen.JSON {
		for _, key := range recipe.OfferKeys {
			lists[key] = append([]string{}, lists[key]...)
		}
		return a.screen.PrintJSON(lists)
	}
	if o.Empty() {
		a.screen.Print("%s %s offers nothing that other packages look for.", receipt.Name, receipt.Version)
		return nil
	}
	for _, key := range keys {
		a.screen.Print("%-10s %s", key, strings.Join(lists[key], " "))
	}
	if !write {
		a.screen.Note("To write this into its recipe: fernladder offers %s --write", receipt.Name)
	}
	return nil
}
