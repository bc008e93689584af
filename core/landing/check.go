package landing

import (
	"fmt"
	"io/fs"
	"maps"
	"path/filepath"
	"slices"
	"strings"

	"fernladder/core/safefs"
	"fernladder/core/store"
)

// Wrong is a name of the landing that is not as it was made.
type Wrong struct {
	Path string
	Is   string // the problem, in words
	Gone bool   // there is nothing
	Acts bool   // it is not known to be harmless where it is
}

// Check finds the links of a state that are not as they were made. It does not check the files
// of trees. It names missing links if the state was made by these rules.
func Check(s *store.Store, state State, rules Rules) ([]Wrong, error) {
	if state.Number == 0 {
		return nil, nil
	}
	dir, err := safefs.OpenDir(linksDir(s, state.Number))
	if err != nil {
		return nil, s.Wrap(err)
	}
	defer dir.Close()
	own := map[string]bool{} // trees, as links of the landing name them
	for _, m := range state.Members {
		own[treeName(m.Ref)] = true
	}
	var wrong []Wrong
	found := map[string]bool{}
	err = dir.Walk(false, func(e safefs.Entry) error {
		switch {
		case e.Mode.IsDir(), e.Mode&fs.ModeSymlink == 0 && Collective(e.Name), e.Name == "share/man/index.db":
			return nil
		case e.Mode&fs.ModeSymlink == 0:
			wrong = append(wrong, Wrong{Path: e.Name, Is: "it is no longer a link"})
			found[e.Name] = true // one report is enough
			return nil
		}
		found[e.Name] = true
		target, err := e.Target()
		if err != nil {
			return err
		}
		below, is := strings.CutPrefix(target, upFrom(e.Name))
		parts := strings.SplitN(below, "/", 4)
		switch {
		case !is || len(parts) != 4 || !own[strings.Join(parts[:3], "/")]:
			wrong = append(wrong, Wrong{Path: e.Name, Is: "it leads to " + target + ", which is not on the landing"})
		case parts[3] != e.Name && !safefs.Exists(filepath.Join(s.Root, below)):
			wrong = append(wrong, Wrong{Path: e.Name, Is: "it leads to " + filepath.Join(s.Root, below) + ", which is gone"})
		}
		return nil
	})
	if err != nil {
		return nil, s.Wrap(err)
	}
	missing := state.Links - len(found)
	if missing <= 0 {
		return wrong, nil
	}
	for _, name := range expected(s, state, rules) {
		if !found[name] {
			wrong = append(wrong, Wrong{Path: name, Is: "it is gone", Gone: true})
			missing--
		}
	}
	if missing > 0 {
		wrong = append(wrong, Wrong{Path: ".", Is: fmt.Sprintf("%d of its %d links are gone", missing, state.Links),
			Gone: true})
	}
	return wrong, nil
}

// expected are the links that a state has by these rules, in order; none if it was made by
// others.
func expected(s *store.Store, state State, rules Rules) []string {
	parts, err := partsOf(s, state.Members)
	if err != nil || rules.digest(parts) != state.Rules {
		return nil
	}
	links, err := rules.linksOf(s, parts)
	if err != nil || len(links.Links) != state.Links {
		return nil
	}
	return slices.Sorted(maps.Keys(links.Links))
}

// CheckShared finds entries of a shared directory that are not as they were made, or should not
// be there.
func CheckShared(s *store.Store, x Shared, rules Rules) []Wrong {
	d, err := openSharing(s, x)
	if err != nil {
		return []Wrong{{Path: ".", Is: "it cannot be opened: " + err.Error()}}
	}
	defer d.close()
	d.rules = rules
	d.rules.Shared = x.Directory
	current, err := Current(s)
	if err != nil {
		return []Wrong{{Path: ".", Is: "the landing cannot be read: " + err.Error()}}
	}
	var wrong []Wrong
	for _, name := range x.Links {
		name := string(name)
		switch is := d.what(name); is {
		case d.ours(name):
			if !d.lets(s, current.Number, name) {
				wrong = append(wrong, Wrong{Path: name, Is: "the system may act on it by itself", Acts: true})
			} else if !safefs.Exists(filepath.Join(Directory(s), name)) {
				wrong = append(wrong, Wrong{Path: name, Is: "it leads to " + d.base + name + ", which is gone", Gone: true})
			}
		case "":
			wrong = append(wrong, Wrong{Path: name, Is: "it is gone", Gone: true})
		default:
			wrong = append(wrong, Wrong{Path: name, Is: "it is " + is + " now, and was our link"})
		}
	}
	slices.SortFunc(wrong, func(a, b Wrong) int { return strings.Compare(a.Path, b.Path) })
	return wrong
}
