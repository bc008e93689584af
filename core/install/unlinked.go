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
	has := map[string]map[string]string{} // of a need: its symbols, with their libraries
	needed := map[string][]string{}       // the names of its libraries
	for _, need := range built.Needs {
		if need.Role != recipe.Library {
			continue
		}
		symbols := map[string]string{}
		err := binaries(s, need.Ref, func(file string, f *os.File, b inspect.Binary) {
			stem := libraryFile.FindStringSubmatch(path.Base(file))
			if stem == nil || path.Dir(file) != "lib" {
				return
			}
			needed[need.Name] = append(needed[need.Name], cmp.Or(b.Soname, path.Base(file)))
			for _, name := range inspect.ReadSymbols(f).Has {
				symbols[name] = stem[1]
			}
		})
		if err != nil {
			return nil, err
		}
		has[need.Name] = symbols
	}
	err = binaries(s, built.Ref, func(file string, f *os.File, b inspect.Binary) {
		names := inspect.ReadSymbols(f)
		if libraryFile.FindString(path.Base(file)) == "" || b.Interpreter != "" {
			return
		}
		resolved := func(symbol string) bool {
			for need, symbols := range has {
				linked := func(library string) bool { return slices.Contains(needed[need], library) }
				if symbols[symbol] != "" && slices.ContainsFunc(b.Needs, linked) {
					return true
				}
			}
			return slices.Contains(names.Has, symbol)
		}
		for _, need := range built.Needs {
			i := slices.IndexFunc(names.Wants, func(symbol string) bool {
				return has[need.Name][symbol] != "" && !resolved(symbol)
			})
			if i >= 0 {
				symbol := names.Wants[i]
				found = append(found, unlinkedLibrary{file, need.Name, has[need.Name][symbol], symbol})
			}
		}
	})
	return found, err
}
