package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"fernladder/core/lock"
	"fernladder/core/settings"
)

// firstSettings is what a new settings file says: what most people leave as it
// is stands in comments.
const firstSettings = `# Settings of Fern Ladder. All keys are explained in docs/settings.md.

shelves = ["recipes"]           # folders of recipes, searched in this order
# root  = "/opt/fernladder"     # where everything is kept
# jobs  = 0                     # 0: as many as the machine has processors

# [wanted.NAME]                 # what "fernladder install" without names installs
# version = "2.*"
`

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
	shelf, file := filepath.Join(dir, "recipes"), filepath.Join(dir, settings.FileName)
	if err := os.MkdirAll(shelf, 0o755); err != nil {
		return fmt.Errorf("%s cannot be made: %w", shelf, err)
	}
	err := writeNew(file, firstSettings)
	if errors.Is(err, fs.ErrExist) {
		return usage("%s is there already, and stays as it is", file)
	}
	if err != nil {
		return err
	}
	locked := &lock.File{Path: filepath.Join(dir, lock.FileName), There: true}
	if err := locked.Write(); err != nil {
		return fmt.Errorf("%s cannot be made: %w", locked.Path, err)
	}
	if a.screen.JSON {
		return a.screen.PrintJSON(map[string]string{"settings": file, "shelf": shelf, "lock": locked.Path})
	}
	a.screen.Print("Made %s, the empty shelf %s and %s.", file, shelf, locked.Path)
	a.screen.Note("Next, in %s: fernladder draft ARCHIVE writes a recipe from the archive of a source (a file, a URL, a repository); then fernladder install NAME", dir)
	return nil
}

// writeNew writes a file that is not there yet, whole or not at all.
func writeNew(file, text string) error {
	f, err := os.OpenFile(file, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o644)
	if err != nil {
		return err
	}
	_, err = f.WriteString(text)
	if err = errors.Join(err, f.Close()); err != nil {
		os.Remove(file)
	}
	return err
}
