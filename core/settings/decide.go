package settings

import (
	"strings"

	"fernladder/core/durable"
	"fernladder/core/ground"
	"fernladder/core/keyfile"
	"fernladder/core/recipe"
)

// Text is the decision as a settings file has it.
func (l Link) Text() string {
	text := "[[link]]\npackage = " + keyfile.Quote(l.Package) + "\nfile    = " + keyfile.Quote(l.File) + "\n"
	switch {
	case l.Off:
		return text + "off     = true\n"
	case l.First:
		return text + "first   = true\n"
	}
	return text + "as      = " + keyfile.Quote(l.As) + "\n"
}

// Decide writes a decision into a settings file, before those that are there: of two
// about one file, the first counts. Comments and layout stay. The caller keeps others
// from writing the file meanwhile. Errors are keyfile.Problems.
func Decide(file string, p Place, l Link) error {
	data, err := ground.ReadFile(file, recipe.Largest)
	if err != nil {
		return err
	}
	edit, err := keyfile.Parse(p.Shown(file), data)
	if err != nil {
		return err
	}
	edit.InsertBefore("link", strings.TrimRight(l.Text(), "\n"))
	if data, err = edit.Bytes(); err != nil {
		return err
	}
	s, shelves := defaults(), []string{}
	if err := keyfile.Read(p.Shown(file), data, Keys(&s, &shelves)).Err(); err != nil {
		return err
	}
	return durable.Renew(file, data)
}
