package recipe

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"fernladder/core/problem"
	"fernladder/core/safefs"
	"fernladder/core/tomlfile"
)

// A Shelf is a folder of recipes, one folder per package.
type Shelf struct {
	tomlfile.Position
	Dir   string // absolute
	Shown string // its name in messages

	Git, Commit, Inside string // of one that is a repository, with the folder in it
	Checkout            string // where the repository's files are
	// Files with the only keys whose signature counts; none: it needs none. Tag is the tag that is
	// signed; "": the commit is.
	Keys []string
	Tag  string
}

// Shelves are searched in order; the first that has a name wins. Each recipe is read once, at
// its first use. Shelves are for one goroutine.
type Shelves struct {
	Defaults map[string]string // of options, for every recipe that has them

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
	Shelves []string // where it was searched for
}

func (e *NotFound) Error() string {
	text := fmt.Sprintf("no shelf has a recipe %q (searched: %s)", e.Name, strings.Join(e.Shelves, ", "))
	if len(e.Shelves) == 0 {
		text = fmt.Sprintf("there is no recipe %q, because no shelf is set", e.Name)
	}
	if e.Near != "" {
		text += fmt.Sprintf("; did you mean %q?", e.Near)
	}
	return text
}

// Find returns the recipe of that name. Its error is a *NotFound, or the
// tomlfile.Problems of the file.
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
		if shelf.Git != "" {
			if _, err := os.Stat(shelf.Dir); err != nil {
				return nil, shelf.unreadable(err)
			}
		}
		if CheckName(name) == nil && hasRecipe(shelf.Dir, name) {
			r, err := Read(filepath.Join(shelf.Dir, name), filepath.Join(shelf.Shown, name))
			if err == nil {
				r.Imply(s.Defaults)
			}
			return r, err
		}
	}
	if names, err := s.Names(); err == nil {
		notFound.Near, _ = tomlfile.Nearest(name, names)
	}
	return nil, notFound
}

// Tops are the files with a name at the top of the shelves, which need not exist.
func (s *Shelves) Tops(name string) (files []safefs.File) {
	for _, shelf := range s.shelves {
		files = append(files, safefs.File{Dir: shelf.Dir, Name: name})
	}
	return files
}

// Names returns the names of all recipes, sorted. An unreadable shelf is an error; an entry
// without a recipe is skipped.
func (s *Shelves) Names() ([]string, error) {
	var names []string
	for _, shelf := range s.shelves {
		on, err := shelf.Names()
		if err != nil {
			return nil, err
		}
		names = append(names, on...)
	}
	slices.Sort(names)
	return slices.Compact(names), nil
}

// Names returns the names of the recipes on the shelf, sorted.
func (s Shelf) Names() ([]string, error) {
	entries, err := os.ReadDir(s.Dir)
	if err != nil {
		return nil, s.unreadable(err)
	}
	var names []string
	for _, e := range entries {
		if hasRecipe(s.Dir, e.Name()) {
			names = append(names, e.Name())
		}
	}
	return names, nil
}

func (s Shelf) unreadable(err error) error {
	if s.Git != "" {
		return tomlfile.Problems{{Position: s.Position, Source: "[[remote_shelf]]",
			Message:  fmt.Sprintf("the shelf %s at %s is not here", s.Git, s.Commit[:12]),
			Advice:   "it is a repository; fetch it to the root first",
			Remedies: []problem.Remedy{problem.Do(problem.BringShelf)}}}
	}
	return tomlfile.Problems{{Position: tomlfile.Position{File: s.Shown}, Message: "this shelf cannot be read: " +
		reason(err),
		Advice: "make the folder, or remove it from shelves in fernladder.toml"}}
}

// Shadowed returns, for each recipe that a later shelf has too, the unused folders, in the form
// for messages.
func (s *Shelves) Shadowed() (map[string][]string, error) {
	first := map[string]bool{}
	shadowed := map[string][]string{}
	for _, shelf := range s.shelves {
		names, err := shelf.Names()
		if err != nil {
			return nil, err
		}
		for _, name := range names {
			if first[name] {
				shadowed[name] = append(shadowed[name], filepath.Join(shelf.Shown, name))
			}
			first[name] = true
		}
	}
	return shadowed, nil
}

// ReadAll reads the recipes of these names, several at once. Find returns the same for them
// afterwards, without delay.
func (s *Shelves) ReadAll(names []string) {
	type named struct {
		name string
		result
	}
	work, done := make(chan string), make(chan named)
	for range runtime.GOMAXPROCS(0) {
		go func() {
			for name := range work {
				n := named{name: name}
				n.recipe, n.err = s.find(name)
				done <- n
			}
		}()
	}
	go func() {
		for _, name := range names {
			work <- name
		}
		close(work)
	}()
	for range names {
		n := <-done
		s.read[n.name] = n.result
	}
}

func hasRecipe(shelf, name string) bool {
	_, err := os.Stat(filepath.Join(shelf, name, FileName))
	return err == nil
}

// UnknownNeeds finds needs of a recipe on recipes that no shelf has.
func (s *Shelves) UnknownNeeds(r *Recipe) tomlfile.Problems {
	var problems tomlfile.Problems
	for _, need := range r.Needs {
		for _, name := range need.Names() {
			_, err := s.Find(name)
			var missing *NotFound
			if errors.As(err, &missing) {
				problems = append(problems, tomlfile.Problem{Position: need.Position, Message: missing.Error(), Source: "[[need]]"})
			}
		}
	}
	return problems
}

// ProblemKind is the kind of the error.
func (e *NotFound) ProblemKind() problem.Kind { return problem.NoLadder }

// ProblemRemedies are to make a shelf, if there is none.
func (e *NotFound) ProblemRemedies() []problem.Remedy {
	if len(e.Shelves) == 0 {
		return []problem.Remedy{problem.Do(problem.MakeFolder)}
	}
	return nil
}
