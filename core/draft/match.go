package draft

import (
	"path"
	"slices"
	"strings"

	"fernladder/core/store"
)

// Known is what the shelves and the installed trees have to offer.
type Known struct {
	recipes  []string
	provides map[string]string // KIND NAME of a wish to a package
}

// Survey finds out what packages offer: by their names, for the recipes on the
// shelves, and by their files, for those that are installed.
func Survey(recipes []string, s *store.Store) (*Known, error) {
	k := &Known{recipes: recipes, provides: map[string]string{}}
	receipts, err := s.Receipts()
	if err != nil {
		return nil, err
	}
	for _, r := range receipts {
		files, err := s.Files(r.Ref)
		if err != nil {
			return nil, err
		}
		for _, f := range files {
			dir, base := path.Split(f.Path)
			switch {
			case strings.HasSuffix(dir, "/pkgconfig/") && strings.HasSuffix(base, ".pc"):
				k.provides["module "+strings.TrimSuffix(base, ".pc")] = r.Name
			case dir == "lib/" && strings.HasPrefix(base, "lib") && (strings.HasSuffix(base, ".so") || strings.HasSuffix(base, ".a")):
				k.provides["library "+strings.TrimPrefix(strings.TrimSuffix(strings.TrimSuffix(base, ".so"), ".a"), "lib")] = r.Name
			case dir == "bin/":
				k.provides["program "+base] = r.Name
			case strings.HasPrefix(dir, "lib/cmake/"):
				k.provides["package "+strings.ToLower(path.Base(dir))] = r.Name
			}
		}
	}
	return k, nil
}

// Find returns the recipe that should fulfil a wish, and whether an installed
// tree shows that it does; otherwise only its name speaks for it.
func (k *Known) Find(w Wish) (name string, sure, found bool) {
	key := w.Kind + " " + w.Name
	if w.Kind == "package" {
		key = strings.ToLower(key)
	}
	if name, known := k.provides[key]; known && slices.Contains(k.recipes, name) {
		return name, true, true
	}
	// Names differ in lib before or behind, and in a version at the end.
	bare := strings.TrimRight(strings.ToLower(w.Name), "0123456789.-")
	for _, n := range []string{strings.ToLower(w.Name), bare} {
		for _, candidate := range []string{n, "lib" + n, n + "lib", strings.TrimPrefix(n, "lib")} {
			if candidate != "" && slices.Contains(k.recipes, candidate) {
				return candidate, false, true
			}
		}
	}
	return "", false, false
}
