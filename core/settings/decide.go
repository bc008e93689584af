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

// Text is the decision as it is written in a settings file.
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

// Decide writes a decision into a settings file, before the existing ones: of two decisions
// about one file, the first counts. Comments and layout stay. The caller prevents others from
// writing the file meanwhile. Errors are tomlfile.Problems.
func Decide(file string, p Place, l Link) error {
	return rewrite(file, p, func(edit *tomlfile.Edit) { edit.InsertBefore("link", strings.TrimRight(l.Text(), "\n")) })
}

// A Choice is the value of an option of a wanted package, in TOML; an empty value unsets the
// option.
type Choice struct{ Option, Value string }

// Want writes the options of a package into a settings file, and adds the package to the wanted
// ones if it is not among them. Other options, comments and layout stay. The caller prevents
// others from writing the file meanwhile. Errors are tomlfile.Problems.
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

// rewrite edits a settings file, if the result can be read. If its name is a link, the link
// stays, and the file it leads to is replaced.
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
