package landing

import (
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"fernladder/core/store"
)

// Conflict is the error when two packages want the same place on the landing.
type Conflict struct {
	Path          string // below the landing
	First, Second store.Ref
}

func (e *Conflict) Error() string {
	return fmt.Sprintf("%s %s and %s %s both have %s\n  They cannot be on the landing together. The landing stays as it was.\n"+
		"  Take one of them off: fernladder remove %s", e.First.Name, e.First.Version, e.Second.Name, e.Second.Version, e.Path, e.First.Name)
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

// Members works out what is on the landing when these builds are asked for:
// they, and whatever they need when they run.
func Members(s *store.Store, asked []store.Ref) ([]Member, error) {
	var members []Member
	seen := map[store.Ref]bool{}
	add := func(r store.Ref, byPerson bool) {
		if !seen[r] {
			seen[r] = true
			members = append(members, Member{r, byPerson})
		}
	}
	for _, r := range asked {
		add(r, true)
	}
	for i := 0; i < len(members); i++ {
		receipt, err := s.Receipt(members[i].Ref)
		if err != nil {
			return nil, s.Wrap(err)
		}
		for _, need := range receipt.Needs {
			if need.Role == "runtime" {
				add(need.Ref, false)
			}
		}
	}
	slices.SortFunc(members, func(a, b Member) int { return strings.Compare(a.String(), b.String()) })
	return members, nil
}
