package draft

import (
	"io/fs"
	"path"
	"slices"
	"strings"

	"fernladder/core/buildfile"
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
		for _, f := range files {
			if header, is := strings.CutPrefix(f.Path, "include/"); is && f.Mode&fs.ModeDir == 0 {
				k.provides["header "+header] = r.Name
			}
		}
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

// Offered finds in the files of a tree what other packages can use of it.
func Offered(files []store.File) recipe.Offers {
	var o recipe.Offers
	add := func(to *[]string, name string) {
		if recipe.CheckSystemName(name) == nil && !slices.Contains(*to, name) { // what no recipe can say is no use to one
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

// Find returns the recipe that should have what is looked for, and whether it is known
// to; otherwise only its name speaks for it. Kinds are those of look-ups.
func (k *Known) Find(kind, name string) (provider string, sure, found bool) {
	low := strings.ToLower(name)
	keys := []string{kind + " " + name}
	switch kind {
	case "package": // may be found by what it has as well
		bare := strings.TrimPrefix(low, "lib")
		keys = []string{"package " + low, "module " + low, "module lib" + bare, "module " + bare, "library " + bare}
	case "header":
		stem, _, _ := strings.Cut(strings.TrimSuffix(name, ".h"), "/")
		keys = append(keys, "library "+stem, "module "+stem)
	}
	for i, key := range keys {
		if provider, known := k.provides[key]; known && slices.Contains(k.recipes, provider) {
			return provider, i == 0, true
		}
	}
	if kind == "header" {
		low, _, _ = strings.Cut(strings.TrimSuffix(low, ".h"), "/")
	}
	// Names differ in lib before or behind, and in a version at the end.
	bare := strings.TrimRight(low, "0123456789.-")
	for _, n := range []string{low, bare} {
		for _, candidate := range []string{n, "lib" + n, n + "lib", strings.TrimPrefix(n, "lib")} {
			if candidate != "" && slices.Contains(k.recipes, candidate) {
				return candidate, false, true
			}
		}
	}
	if kind != "program" && len(buildfile.Stem(name)) > 2 {
		for _, candidate := range k.recipes {
			if buildfile.Stem(candidate) == buildfile.Stem(name) {
				return candidate, false, true
			}
		}
	}
	return "", false, false
}
