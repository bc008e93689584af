// Package lock reads and writes ladder.lock, the file that says exactly what a
// ladder resolved to where recipes leave it open: which commit the head of a
// branch is taken to be, and which version that makes.
//
// The file is TOML in a stable order, so that it is kept under version control
// with small differences. It is replaced as a whole or not at all.
package lock

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"strings"

	"github.com/google/renameio/v2"

	"fernladder/core/keyfile"
	"fernladder/core/recipe"
	"fernladder/core/version"
)

// FileName is the name of a lock file.
const FileName = "ladder.lock"

// A File is the contents of a lock file.
type File struct {
	Path, Shown string
	Tips        []*Tip // by name
}

// A Tip is the head of a branch as it was when it was pinned.
type Tip struct {
	keyfile.Position
	Name       string
	Repository string
	Branch     string // "" for Subversion
	Commit     string // or revision
	Version    version.Version
}

func keys(f *File) []keyfile.Key {
	format := 0
	return []keyfile.Key{
		keyfile.Number("format", &format, 1, 1, "The version of this format. It is 1.").Must(),
		keyfile.Tables("tip", &f.Tips, func(t *Tip) []keyfile.Key {
			return []keyfile.Key{
				keyfile.Text("name", &t.Name, "The package.").Must().Check(recipe.CheckName),
				keyfile.Text("repository", &t.Repository, "The URL of its repository.").Must().Check(recipe.CheckRepository),
				keyfile.Text("branch", &t.Branch, "The branch."),
				keyfile.Text("commit", &t.Commit, "The commit or revision.").Must(),
				keyfile.Parsed("version", "version", &t.Version, version.Parse, "The version that it makes.").Must(),
			}
		}, "The head of a branch."),
	}
}

// Read reads a lock file; one that is not there is empty. Errors are
// keyfile.Problems.
func Read(path, shown string) (*File, error) {
	f := &File{Path: path, Shown: shown}
	data, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return f, nil
	}
	if err != nil {
		return nil, keyfile.Problems{{Position: keyfile.Position{File: shown}, Message: fmt.Sprintf("this lock file cannot be read: %v", err)}}
	}
	if err := keyfile.Read(shown, data, keys(f)).Err(); err != nil {
		return nil, err
	}
	for i, t := range f.Tips {
		if slices.ContainsFunc(f.Tips[:i], func(other *Tip) bool { return other.Name == t.Name }) {
			return nil, keyfile.Problems{{Position: t.Position, Message: fmt.Sprintf("the tip of %s is pinned twice", t.Name), Advice: "delete one of them", Source: "[[tip]]"}}
		}
	}
	return f, nil
}

// Pin returns the pin for the tip of a recipe. A pin for another repository or
// branch than the recipe's does not count.
func (f *File) Pin(r *recipe.Recipe) (recipe.Pin, bool) {
	tip := r.Tip()
	for _, t := range f.Tips {
		if tip != nil && t.Name == r.Name && t.Repository == tip.Repository() && t.Branch == tip.Branch {
			return recipe.Pin{Commit: t.Commit, Version: t.Version}, true
		}
	}
	return recipe.Pin{}, false
}

// Set pins the tip of a recipe.
func (f *File) Set(r *recipe.Recipe, p recipe.Pin) {
	tip := r.Tip()
	f.Tips = slices.DeleteFunc(f.Tips, func(t *Tip) bool { return t.Name == r.Name })
	f.Tips = append(f.Tips, &Tip{Name: r.Name, Repository: tip.Repository(), Branch: tip.Branch, Commit: p.Commit, Version: p.Version})
	slices.SortFunc(f.Tips, func(a, b *Tip) int { return strings.Compare(a.Name, b.Name) })
}

// Write replaces the file.
func (f *File) Write() error {
	var b strings.Builder
	b.WriteString("# Written by fernladder: what was resolved where the recipes leave it open.\n# Keep it with the recipes; fernladder lock NAME moves a pin.\nformat = 1\n")
	for _, t := range f.Tips {
		b.WriteString("\n[[tip]]\n")
		line := func(key, value string) {
			if value != "" {
				fmt.Fprintf(&b, "%-10s = %s\n", key, keyfile.Quote(value))
			}
		}
		line("name", t.Name)
		line("repository", t.Repository)
		line("branch", t.Branch)
		line("commit", t.Commit)
		line("version", t.Version.String())
	}
	return renameio.WriteFile(f.Path, []byte(b.String()), 0o644)
}
