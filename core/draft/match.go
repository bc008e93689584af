package draft

import (
	"io/fs"
	"path"
	"slices"
	"strings"

	"fernladder/core/recipe"
	"fernladder/core/store"
)

// Known is what the shelves and the installed trees have to offer.
type Known struct {
	recipes  []string
	provides map[string]string // KIND NAME of a dependency to a package
}

// Survey finds out what packages offer: what the recipes on the shelves say, and
// what the files of installed trees show.
func Survey(shelves *recipe.Shelves, s *store.Store) (*Known, error) {
	names, err := shelves.Names()
	if err != nil {
		return nil, err
	}
	k := &Known{recipes: names, provides: map[string]string{}}
	receipts, err := s.Receipts()
	if err != nil {
		return nil, s.Wrap(err)
	}
	for _, r := range receipts {
		files, err := s.Files(r.Ref)
		if err != nil {
			return nil, err
		}
		k.add(r.Name, Offered(files))
	}
	shelves.ReadAll(names)
	for _, name := range names {
		if r, err := shelves.Find(name); err == nil { // one with mistakes offers nothing
			k.add(name, r.Offers)
		}
	}
	return k, nil
}

func (k *Known) add(name string, o recipe.Offers) {
	for kind, offered := range map[string][]string{"module": o.Modules, "library": o.Libraries, "program": o.Programs, "package": o.CMake} {
		for _, what := range offered {
			if kind == "package" {
				what = strings.ToLower(what)
			}
			k.provides[kind+" "+what] = name
		}
	}
}

// ofHeader is the package that a header is probably of, by the library or module that
// is called like it, or "".
func (k *Known) ofHeader(w Dependency) string {
	if w.Kind != "header" {
		return ""
	}
	stem, _, _ := strings.Cut(strings.TrimSuffix(w.Name, ".h"), "/")
	for _, kind := range []string{"library", "module", "package"} {
		if name, _, found := k.Find(Dependency{Kind: kind, Name: stem}); found {
			return name
		}
	}
	return ""
}

// Offered finds in the files of a tree what other packages can use of it.
func Offered(files []store.File) recipe.Offers {
	var o recipe.Offers
	add := func(to *[]string, name string) {
		if name != "" && !slices.Contains(*to, name) {
			*to = append(*to, name)
		}
	}
	for _, f := range files {
		if f.Mode&fs.ModeDir != 0 {
			continue
		}
		dir, base := path.Split(f.Path)
		name, isModule := strings.CutSuffix(base, ".pc")
		switch {
		case isModule && strings.HasSuffix(dir, "/pkgconfig/"):
			add(&o.Modules, name)
		case dir == "lib/" && strings.HasPrefix(base, "lib") && (strings.HasSuffix(base, ".so") || strings.HasSuffix(base, ".a")):
			add(&o.Libraries, strings.TrimPrefix(strings.TrimSuffix(strings.TrimSuffix(base, ".so"), ".a"), "lib"))
		case dir == "bin/":
			add(&o.Programs, base)
		case strings.HasPrefix(dir, "lib/cmake/") || strings.HasPrefix(dir, "share/cmake/"):
			if name, found := cmakePackage(base); found {
				add(&o.CMake, name)
			}
		}
	}
	for _, list := range []*[]string{&o.Modules, &o.Libraries, &o.Programs, &o.CMake} {
		slices.Sort(*list)
	}
	return o
}

// cmakePackage is the name by which find_package finds a file.
func cmakePackage(base string) (string, bool) {
	for _, suffix := range []string{"Config.cmake", "-config.cmake"} {
		if name, found := strings.CutSuffix(base, suffix); found {
			return name, true
		}
	}
	return "", false
}

// Find returns the recipe that should fulfil a dependency, and whether an installed
// tree shows that it does; otherwise only its name speaks for it.
func (k *Known) Find(w Dependency) (name string, sure, found bool) {
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
