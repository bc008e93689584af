package cli

import (
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"fernladder/core/draft"
	"fernladder/core/durable"
	"fernladder/core/ground"
	"fernladder/core/keyfile"
	"fernladder/core/recipe"
	"fernladder/core/store"
)

func (a *app) offersCommand() *cobra.Command {
	write := false
	c := &cobra.Command{
		Use:   "offers NAME",
		Short: "Show what an installed package offers to others, and write it into its recipe",
		Long: `Looks at the tree of an installed package for what other packages can use of it:
pkg-config modules, programs, libraries, CMake packages. With --write, its recipe
gets a table [offers] with them, and nothing else in it changes. Drafts of other
recipes then find the package by what they look for.`,
		Example:           "  fernladder offers dewcalc\n  fernladder offers dewcalc --write",
		Args:              exactlyOne,
		ValidArgsFunction: a.completeInstalled,
		RunE:              func(_ *cobra.Command, args []string) error { return a.offers(args[0], write) },
	}
	c.Flags().BoolVar(&write, "write", false, "write them into the recipe")
	return c
}

// offered are the kinds of things that packages offer, by their keys in recipes.
func offered(o recipe.Offers) (keys []string, values map[string][]string) {
	all := map[string][]string{"modules": o.Modules, "programs": o.Programs, "libraries": o.Libraries, "cmake": o.CMake}
	for _, key := range []string{"modules", "programs", "libraries", "cmake"} {
		if len(all[key]) > 0 {
			keys = append(keys, key)
		}
	}
	return keys, all
}

func (a *app) offers(name string, write bool) error {
	s, receipt, err := a.openInstalled(name)
	if err != nil {
		return err
	}
	files, err := s.store.Files(receipt.Ref)
	if err != nil {
		return err
	}
	o := draft.Offered(files)
	keys, values := offered(o)
	if write {
		if err := s.writeOffers(receipt, o); err != nil {
			return err
		}
	}
	if a.screen.JSON {
		for _, key := range []string{"modules", "programs", "libraries", "cmake"} {
			values[key] = append([]string{}, values[key]...)
		}
		return a.screen.PrintJSON(values)
	}
	if o.Empty() {
		a.screen.Print("%s %s offers nothing that other packages look for.", receipt.Name, receipt.Version)
		return nil
	}
	for _, key := range keys {
		a.screen.Print("%-10s %s", key, strings.Join(values[key], " "))
	}
	if !write {
		a.screen.Note("To write this into its recipe: fernladder offers %s --write", receipt.Name)
	}
	return nil
}

func (s *session) writeOffers(receipt *store.Receipt, o recipe.Offers) error {
	r, err := s.shelves.Find(receipt.Name)
	if err != nil {
		return err
	}
	return editRecipe(r, func(e *keyfile.Edit) { setOffers(e, o) })
}

// editRecipe changes the file of a recipe by the lines that change is about.
func editRecipe(r *recipe.Recipe, change func(*keyfile.Edit)) error {
	file := filepath.Join(r.Dir, recipe.FileName)
	data, err := ground.ReadFile(file, recipe.Largest)
	if err != nil {
		return err
	}
	edit, err := keyfile.Parse(r.File, data)
	if err != nil {
		return err
	}
	change(edit)
	if data, err = edit.Bytes(); err != nil {
		return err
	}
	info, err := os.Stat(file)
	if err != nil {
		return err
	}
	return durable.WriteFile(file, data, info.Mode().Perm())
}

// setOffers gives a recipe the table [offers].
func setOffers(edit *keyfile.Edit, o recipe.Offers) {
	keys, values := offered(o)
	lists := map[string]string{}
	for _, key := range keys {
		lists[key] = keyfile.QuoteList(values[key])
	}
	edit.SetTable("offers", keys, lists)
}
