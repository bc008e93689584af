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

// unlinked finds the libraries of a tree that are not linked with a need that they use.
func unlinked(s *store.Store, built *store.Receipt) (found []unlinkedLibrary, err error) {
	type library struct {
		file  string
		needs []string // names of libraries
		names inspect.Symbols
	}
	var own []library
	err = binaries(s, built.Ref, func(file string, f *os.File, b inspect.Binary) {
		if libraryFile.MatchString(path.Base(file)) && b.Interpreter == "" {
			if names := inspect.ReadSymbols(f); len(names.Wants) > 0 {
				own = append(own, library{file, b.Needs, names})
			}
		}
	})
	if err != nil || len(own) == 0 {
		return nil, err
	}
	has := map[string]map[string]string{} // of a need: its symbols, with their libraries
	called := map[string][]string{}       // the names of its libraries
	for _, need := range built.Needs {
		if need.Role != recipe.Library {
			continue
		}
		has[need.Name] = map[string]string{}
		err := binaries(s, need.Ref, func(file string, f *os.File, b inspect.Binary) {
			if stem := libraryFile.FindStringSubmatch(path.Base(file)); stem != nil && path.Dir(file) == "lib" {
				called[need.Name] = append(called[need.Name], cmp.Or(b.Soname, path.Base(file)))
				for _, name := range inspect.ReadSymbols(f).Has {
					has[need.Name][name] = stem[1]
				}
			}
		})
		if err != nil {
			return nil, err
		}
	}
	for _, l := range own {
		resolved := func(symbol string) bool {
			for need, symbols := range has {
				linked := func(name string) bool { return slices.Contains(called[need], name) }
				if symbols[symbol] != "" && slices.ContainsFunc(l.needs, linked) {
					return true
				}
			}
			return slices.Contains(l.names.Has, symbol)
		}
		for _, need := range built.Needs {
			for _, symbol := range l.names.Wants {
				if library := has[need.Name][symbol]; library != "" && !resolved(symbol) {
					found = append(found, unlinkedLibrary{l.file, need.Name, library, symbol})
					break
				}
			}
		}
	}
	return found, nil
}
