package recipe

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"fernladder/core/keyfile"
)

// A Shelf is a folder of recipes, one folder per package.
type Shelf struct {
	Dir   string // absolute
	Shown string // what it is called in messages
}

// Shelves are searched in order; the first that has a name wins. Each recipe
// is read once, when it is first asked for. Shelves are for one goroutine.
type Shelves struct {
	shelves []Shelf
	read    map[string]result
}

type result struct {
	recipe *Recipe
	err    error
}

// NewShelves returns shelves to search in the given order.
func NewShelves(shelves []Shelf) *Shelves {
	return &Shelves{shelves: shelves, read: map[string]result{}}
}

// A NotFound error says that no shelf has a recipe.
type NotFound struct {
	Name    string
	Near    string   // a recipe that was perhaps meant, or ""
	Shelves []string // where it was looked for
}

func (e *NotFound) Error() string {
	text := fmt.Sprintf("no shelf has a recipe %q (searched: %s)", e.Name, strings.Join(e.Shelves, ", "))
	if len(e.Shelves) == 0 {
		text = fmt.Sprintf("there is no recipe %q, for no shelf is set", e.Name)
	}
	if e.Near != "" {
		text += fmt.Sprintf("; did you mean %q?", e.Near)
	}
	return text
}

// Find returns the recipe of that name. Its error is a *NotFound, or the
// keyfile.Problems of the file.
func (s *Shelves) Find(name string) (*Recipe, error) {
	if got, known := s.read[name]; known {
		return got.recipe, got.err
	}
	var got result
	got.recipe, got.err = s.find(name)
	s.read[name] = got
	return got.recipe, got.err
}

func (s *Shelves) find(name string) (*Recipe, error) {
	notFound := &NotFound{Name: name}
	for _, shelf := range s.shelves {
		notFound.Shelves = append(notFound.Shelves, shelf.Shown)
		if CheckName(name) == nil && hasRecipe(shelf.Dir, name) {
			return Read(filepath.Join(shelf.Dir, name), filepath.Join(shelf.Shown, name))
		}
	}
	if names, err := s.Names(); err == nil {
		notFound.Near, _ = keyfile.Nearest(name, names)
	}
	return nil, notFound
}

// Names returns the names of all recipes, sorted. A shelf that cannot be read
// is an error; an entry without a recipe is passed over.
func (s *Shelves) Names() ([]string, error) {
	var names []string
	for _, shelf := range s.shelves {
		entries, err := os.ReadDir(shelf.Dir)
		if err != nil {
			return nil, keyfile.Problems{{Position: keyfile.Position{File: shelf.Shown}, Message: "this shelf cannot be read: " + reason(err),
				Advice: "make the folder, or take it out of shelves in fernladder.toml"}}
		}
		for _, e := range entries {
			if hasRecipe(shelf.Dir, e.Name()) {
				names = append(names, e.Name())
			}
		}
	}
	slices.Sort(names)
	return slices.Compact(names), nil
}

func hasRecipe(shelf, name string) bool {
	_, err := os.Stat(filepath.Join(shelf, name, FileName))
	return err == nil
}
