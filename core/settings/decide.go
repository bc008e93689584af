package settings

import (
	"fmt"
	"path/filepath"
	"strings"

	"fernladder/core/durable"
	"fernladder/core/recipe"
	"fernladder/core/safefs"
	"fernladder/core/tomlfile"
)

// Text is the decision as a settings file has it.
func (l Link) Text() string {
	text := "[[link]]\npackage = " + tomlfile.Quote(l.Package) + "\nfile    = " + tomlfile.Quote(l.File) + "\n"
	switch {
	case l.Off:
		return text + "off     = true\n"
	case l.First:
		return text + "first   = true\n"
	}
	return text + "as      = " + tomlfile.Quote(l.As) + "\n"
}

// Decide writes a decision into a settings file, before those that are there: of two
// about one file, the first counts. Comments and layout stay. The caller keeps others
// from writing the file meanwhile. Errors are tomlfile.Problems.
func Decide(file string, p Place, l Link) error {
	return rewrite(file, p, func(edit *tomlfile.Edit) { edit.InsertBefore("link", strings.TrimRight(l.Text(), "\n")) })
}

// A Choice is what an option of a wanted package is set to, as TOML has it; with nothing
// there, it is no longer set.
type Choice struct{ Option, Value string }

// Want writes into a settings file what the options of a package are that is wanted on
// this machine, which adds it to what is. What is not chosen stays as it is, and so do
// comments and layout. The caller keeps others from writing the file meanwhile. Errors are
// tomlfile.Problems.
func Want(file string, p Place, name string, choices []Choice) error {
	return rewrite(file, p, func(edit *tomlfile.Edit) {
		for _, c := range choices {
			if c.Value == "" {
				edit.Remove("wanted", name, "options", c.Option)
			} else {
				edit.Set(c.Value, "wanted", name, "options", c.Option)
			}
		}
	})
}

// rewrite replaces a settings file by what an edit makes of it, if that can be read.
// Where its name is a link, that stays, and the file that it leads to is replaced.
func rewrite(file string, p Place, change func(*tomlfile.Edit)) error {
	place, err := filepath.EvalSymlinks(file)
	if err != nil {
		return err
	}
	data, err := safefs.ReadFile(file, recipe.Largest)
	if err != nil {
		return err
	}
	edit, err := tomlfile.Parse(p.Shown(file), data)
	if err != nil {
		return err
	}
	change(edit)
	if data, err = edit.Bytes(); err != nil {
		return err
	}
	s, shelves := defaults(), []string{}
	if err := tomlfile.Read(p.Shown(file), data, Keys(&s, &shelves)).Err(); err != nil {
		return err
	}
	if err := durable.Renew(place, data); err != nil {
		return fmt.Errorf("the settings cannot be written: %w", err)
	}
	return nil
}
