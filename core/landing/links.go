package landing

import (
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"fernladder/core/recipe"
	"fernladder/core/store"
)

// Conflict is the error when two packages want the same place on the landing.
type Conflict struct {
	Path          string // below the landing
	First, Second store.Ref
}

func (e *Conflict) Error() string {
	return fmt.Sprintf("%s %s and %s %s both have %s\n  They cannot be on the landing together. The landing stays as it was.",
		e.First.Name, e.First.Version, e.Second.Name, e.Second.Version, e.Path)
}

// unlinked are files that many packages have and that mean nothing when they
// are not from all of them, and the tree's own records.
func unlinked(file string) bool {
	return strings.HasPrefix(file, "share/fernladder/") || file == "share/info/dir"
}

// links works out the links of a state: for every path below the landing, the
// member whose file it leads to. Its error is a *Conflict, or the store's.
func links(s *store.Store, members []Member) (map[string]store.Ref, error) {
	owner := map[string]store.Ref{}
	directories := map[string]store.Ref{} // one of the members that has it
	for _, m := range members {
		files, err := s.Files(m.Ref)
		if err != nil {
			return nil, err
		}
		for _, f := range files {
			if f.Mode&fs.ModeDir != 0 || unlinked(f.Path) {
				continue
			}
			if other, taken := owner[f.Path]; taken {
				return nil, &Conflict{f.Path, other, m.Ref}
			}
			if other, taken := directories[f.Path]; taken {
				return nil, &Conflict{f.Path, other, m.Ref}
			}
			owner[f.Path] = m.Ref
			for dir := path.Dir(f.Path); dir != "."; dir = path.Dir(dir) {
				if other, taken := owner[dir]; taken {
					return nil, &Conflict{dir, other, m.Ref}
				}
				directories[dir] = m.Ref
			}
		}
	}
	return owner, nil
}

// Clash is the error when two builds of one package would be on the landing.
type Clash struct {
	Wanted store.Ref // on the landing by one reason
	Needed store.Ref // by another: By runs with it
	By     store.Ref
}

func (e *Clash) Error() string {
	return fmt.Sprintf("%s %s runs with %s %s (%s), but %s %s (%s) would be on the landing too\n"+
		"  Only one of them can be there. The landing stays as it was.",
		e.By.Name, e.By.Version, e.Needed.Name, e.Needed.Version, e.Needed.ID, e.Wanted.Name, e.Wanted.Version, e.Wanted.ID)
}

// Members works out what is on the landing when these builds are asked for:
// they, and whatever they need when they run. needs tells what a build needs.
// Its error is a *Clash, or that of needs.
func Members(asked []store.Ref, needs func(store.Ref) ([]store.Link, error)) ([]Member, error) {
	var members []Member
	byName := map[string]store.Ref{}
	for _, r := range asked {
		if other, taken := byName[r.Name]; !taken || other != r {
			byName[r.Name] = r
			members = append(members, Member{r, true})
		}
	}
	for i := 0; i < len(members); i++ {
		all, err := needs(members[i].Ref)
		if err != nil {
			return nil, err
		}
		for _, need := range all {
			if need.Role != recipe.Runtime {
				continue
			}
			other, there := byName[need.Name]
			if there && other != need.Ref {
				return nil, &Clash{Wanted: other, Needed: need.Ref, By: members[i].Ref}
			}
			if !there {
				byName[need.Name] = need.Ref
				members = append(members, Member{need.Ref, false})
			}
		}
	}
	slices.SortFunc(members, func(a, b Member) int { return strings.Compare(a.Name, b.Name) })
	return members, nil
}
