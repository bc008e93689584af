package install

import (
	"cmp"
	"fmt"
	"os"
	"path"
	"slices"

	"fernladder/core/inspect"
	"fernladder/core/recipe"
	"fernladder/core/store"
)

// An unlinkedLibrary uses a symbol of a need that it is not linked with: every program that uses
// it has to name the need's library, too, and a test for it that does not fails.
type unlinkedLibrary struct{ file, need, library, symbol string }

func (u unlinkedLibrary) String() string {
	return fmt.Sprintf("%s uses %s of %s and is not linked with it; add LDFLAGS = %q to [build.env]", u.file, u.symbol,
		u.need, u.flag())
}

// flag links everything with the library.
func (u unlinkedLibrary) flag() string {
	return "-Wl,--push-state,--no-as-needed,-l" + u.library + ",--pop-state"
}

// An askingLibrary is a library of a tree that asks others for symbols.
type askingLibrary struct {
	file  string
	needs []string // names of libraries
	wants []string // symbols without a version
}

// unlinked finds those libraries of a tree that are not linked with a need that they use.
func unlinked(s *store.Store, needs []store.Link, asking []askingLibrary) (found []unlinkedLibrary, err error) {
	if len(asking) == 0 {
		return nil, nil
	}
	has := map[string]map[string]string{} // of a need: its symbols, with their libraries
	called := map[string][]string{}       // the names of its libraries
	for _, need := range needs {
		if need.Role != recipe.Library {
			continue
		}
		has[need.Name] = map[string]string{}
		err := binaries(s, need.Ref, func(file string, f *os.File, b inspect.Binary) {
			if stem := libraryFile.FindStringSubmatch(path.Base(file)); stem != nil && path.Dir(file) == "lib" {
				called[need.Name] = append(called[need.Name], cmp.Or(b.Soname, path.Base(file)))
				for _, name := range inspect.Exports(f) {
					has[need.Name][name] = stem[1]
				}
			}
		})
		if err != nil {
			return nil, err
		}
	}
	for _, l := range asking {
		resolved := func(symbol string) bool {
			for need, symbols := range has {
				linked := func(name string) bool { return slices.Contains(called[need], name) }
				if symbols[symbol] != "" && slices.ContainsFunc(l.needs, linked) {
					return true
				}
			}
			return false
		}
		for _, need := range needs {
			for _, symbol := range l.wants {
				if library := has[need.Name][symbol]; library != "" && !resolved(symbol) {
					found = append(found, unlinkedLibrary{l.file, need.Name, library, symbol})
					break
				}
			}
		}
	}
	return found, nil
}
