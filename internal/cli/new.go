package cli

import (
	"github.com/spf13/cobra"

	"fernladder/core/session"
)

func (a *app) newCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "new DIR",
		Short: "Make a folder to work in: settings, an empty shelf and a lock file",
		Example: `  fernladder new garden
  cd garden && $EDITOR recipes/dewcalc/recipe.toml`,
		Args: func(c *cobra.Command, args []string) error {
			if len(args) != 1 {
				return usage("name the folder to make: fernladder new garden")
			}
			return nil
		},
		RunE: func(_ *cobra.Command, args []string) error { return a.newFolder(args[0]) },
	}
}

func (a *app) newFolder(dir string) error {
	r, err := session.NewFolder(dir)
	if err != nil {
		return err
	}
	return a.answer(r, func() {
		a.screen.Print("Made %s, the empty shelf %s and %s.", r.Settings, r.Shelf, r.Lock)
		a.screen.Note("Next, in %s: fernladder draft ARCHIVE writes a recipe from a source (a file, a URL, a repository); "+
			"then fernladder install NAME", dir)
	})
}
