package draft

import (
	"cmp"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"fernladder/core/build"
	"fernladder/core/buildfile"
	"fernladder/core/pattern"
	"fernladder/core/recipe"
	"fernladder/core/safefs"
	"fernladder/core/store"
	"fernladder/core/tomlfile"
	"fernladder/core/version"
)

// Known is what the shelves and the installed trees offer.
type Known struct {
	recipes  []string
	provides map[string]string   // KIND NAME of a dependency to a package
	direct   map[string]bool     // headers that are directly in the include directory of their package
	needs    map[string][]string // of recipes, by their names
	trees    map[string]string   // of packages that are built
	under    map[string][]string // the trees of the libraries that a tree needs
	public   map[string][]string // those of them that builds against it see
	versions map[string]string   // of packages, and of the modules in their trees by "module NAME"
	options  []switchable        // that are off
}

// switchable is an option of a recipe that adds what it is named after.
type switchable struct{ recipe, name, value string }

// brings finds an option that adds something of this name: one with that name, or with the name
// of its use, in a recipe with that name; or, for what is required, that for C++ or wide characters,
// of a library with the usual ending. An option of another recipe only uses it.
func (k *Known) brings(name string, required bool) (switchable, bool) {
	name = strings.ToLower(name)
	i := slices.IndexFunc(k.options, func(o switchable) bool {
		ending, is := strings.CutPrefix(name, strings.TrimPrefix(o.recipe, "lib"))
		return is && (o.name == name || strings.HasSuffix(o.name, "-"+name) ||
			required && slices.ContainsFunc(variants, func(v variant) bool {
				return slices.Contains(v.options, o.name) && slices.Contains(v.endings, ending)
			}))
	})
	if i < 0 {
		return switchable{}, false
	}
	return k.options[i], true
}

// WithLibrary is the need that brings a library: on the recipe that is known to have it, or that
// builds it by an option.
func (k *Known) WithLibrary(name string) (need recipe.NeedEntry, found bool) {
	if provider, sure, _ := k.Find("library", name); sure {
		return recipe.NeedEntry{Recipe: provider, Role: recipe.Library}, true
	}
	part, found := k.brings(name, true)
	return part.need(), found
}

// need is the need on the recipe with the option.
func (s switchable) need() recipe.NeedEntry {
	return recipe.NeedEntry{Recipe: s.recipe, Role: recipe.Library,
		Options: fmt.Sprintf("{ %s = %s }", s.name, s.value)}
}

// A variant is a second library of a package: the usual names of the option that builds it, and the
// endings of its name.
type variant struct{ options, endings []string }

var variants = []variant{
	{[]string{"cxx", "cpp", "c++", "cplusplus", "cplus"}, []string{"xx", "++", "cxx", "cpp", "pp"}},
	{[]string{"widec", "wide", "wide-char", "wchar"}, []string{"w"}},
}

// switchables are the options with which a recipe has more than it offers without them.
func switchables(r *recipe.Recipe) (all []switchable) {
	_, lists := r.Offers.Lists()
	offered := slices.Concat(slices.Collect(maps.Values(lists))...)
	for _, o := range r.Options {
		switch {
		case o.Implied, o.Default == "on", slices.ContainsFunc(offered, func(what string) bool {
			what, _ = recipe.SplitModule(what)
			return o.Name == what || strings.HasSuffix(o.Name, "-"+what)
		}):
		case o.Values == nil && o.Default == "off":
			all = append(all, switchable{r.Name, o.Name, "true"})
		case o.Accepts("on"):
			all = append(all, switchable{r.Name, o.Name, tomlfile.Quote("on")})
		}
	}
	return all
}

// version is the version of something that a package has: of a module, that of its file,
// otherwise the package's.
func (k *Known) version(pkg string, a inquiry) string {
	for _, name := range a.Names {
		if v := k.versions[keyOf(a.Kind, name)]; v != "" {
			return v
		}
	}
	return cmp.Or(k.versions[pkg], "1.0")
}

// treeOf is the tree with a program, or "".
func (k *Known) treeOf(program string) string {
	return k.trees[k.provides[keyOf("program", program)]]
}

// configs are the packages' -config programs, with their trees.
func (k *Known) configs() answers {
	all := answers{}
	for key, pkg := range k.provides {
		if kind, name, _ := strings.Cut(key, " "); isConfig(kind, name) && slices.Contains(k.recipes, pkg) &&
			k.trees[pkg] != "" {
			all[key] = answer{Tree: k.trees[pkg]}
		}
	}
	return all
}

// around are the trees that a configure step finds with some answers: those with one of them,
// and the libraries that these depend on. It finds the programs of trees that have nothing else.
func (k *Known) around(answers answers) (all []build.Neighbour) {
	add := func(tree string, role recipe.Role, direct bool) {
		at := slices.IndexFunc(all, func(n build.Neighbour) bool { return n.Tree == tree && n.Role == role })
		switch {
		case tree == "":
		case at < 0:
			all = append(all, build.Neighbour{Tree: tree, Role: role, Direct: direct})
		default:
			all[at].Direct = all[at].Direct || direct
		}
	}
	for _, key := range slices.Sorted(maps.Keys(answers)) {
		role := recipe.Library
		if strings.HasPrefix(key, "program ") {
			role = recipe.Tool
		}
		add(answers[key].Tree, role, true)
	}
	for i := 0; i < len(all); i++ {
		for _, tree := range k.under[all[i].Tree] {
			if all[i].Role == recipe.Library {
				add(tree, recipe.Library, all[i].Direct && slices.Contains(k.public[all[i].Tree], tree))
			}
		}
	}
	return all
}

// Survey finds out what packages offer: what recipes on the shelves say, and what the files of
// installed trees show.
func Survey(shelves *recipe.Shelves, s *store.Store) (*Known, error) {
	names, err := shelves.Names()
	if err != nil {
		return nil, err
	}
	k := &Known{recipes: names, provides: map[string]string{}, direct: map[string]bool{},
		versions: map[string]string{}, trees: map[string]string{}, needs: map[string][]string{},
		under: map[string][]string{}, public: map[string][]string{}}
	receipts, err := s.Receipts()
	if err != nil {
		return nil, s.Wrap(err)
	}
	shelves.ReadAll(names)
	for _, r := range slices.Backward(receipts) { // the newest tree of a package counts
		if special(r, shelves) {
			continue
		}
		files, err := s.Files(r.Ref)
		if err != nil {
			return nil, err
		}
		k.tree(r, s.Tree(r.Ref), files)
		for _, need := range r.Needs {
			if need.Role == recipe.Library {
				k.under[s.Tree(r.Ref)] = append(k.under[s.Tree(r.Ref)], s.Tree(need.Ref))
			}
		}
		for _, need := range r.Public {
			k.public[s.Tree(r.Ref)] = append(k.public[s.Tree(r.Ref)], s.Tree(need))
		}
	}
	for _, name := range names {
		if r, err := shelves.Find(name); err == nil { // one with mistakes offers nothing
			if k.versions[name] == "" && len(r.Releases) > 0 {
				k.versions[name] = r.Releases[0].Version.String()
			}
			k.add(name, r.Offers)
			k.options = append(k.options, switchables(r)...)
			for _, need := range r.Needs {
				k.needs[name] = append(k.needs[name], need.Names()...)
			}
		}
	}
	return k, nil
}

// special reports whether a tree was built with other options than its recipe has by default. What it
// has of them is no offer of the recipe.
func special(r *store.Receipt, shelves *recipe.Shelves) bool {
	its, err := shelves.Find(r.Name)
	if err != nil {
		return false
	}
	var release *recipe.Release
	if v, err := version.Parse(r.Version); err == nil {
		release = its.Release(v)
	}
	return slices.ContainsFunc(its.Options, func(o *recipe.Option) bool {
		value, has := r.Options[o.Name]
		return has && !o.Implied && value != o.DefaultOf(release)
	})
}

// A module is what a pkg-config file says about its module.
type module struct {
	version string
	below   []string // directories below which headers of the tree are included
}

// modulesOf reads the modules of a tree.
func modulesOf(tree string, files []store.File) map[string]module {
	all := map[string]module{}
	for _, f := range files {
		name, is := strings.CutSuffix(path.Base(f.Path), ".pc")
		if !is || path.Base(path.Dir(f.Path)) != "pkgconfig" {
			continue
		}
		const largest = 1 << 16
		text, err := safefs.ReadFile(filepath.Join(tree, f.Path), largest)
		if err != nil {
			continue
		}
		var m module
		if found := moduleVersion.FindStringSubmatch(string(text)); found != nil {
			if _, err := version.Parse(found[1]); err == nil {
				m.version = found[1]
			}
		}
		for _, found := range moduleInclude.FindAllStringSubmatch(string(text), 20) {
			m.below = append(m.below, "include/"+found[1]+"/")
		}
		all[name] = m
	}
	return all
}

var (
	moduleVersion = pattern.New(`(?m)^Version:[ \t]*([\w.+-]+)[ \t]*$`)
	moduleInclude = pattern.New(`-I\$\{includedir\}/([\w./+-]+)`)
)

// tree records what a tree offers.
func (k *Known) tree(r *store.Receipt, tree string, files []store.File) {
	modules := modulesOf(tree, files)
	k.versions[r.Name], k.trees[r.Name] = r.Version, tree
	k.add(r.Name, offered(modules, files))
	below := []string{"include/"}
	for _, dir := range build.HeadersBelow(tree) {
		below = append(below, dir+"/")
	}
	for _, m := range modules {
		below = append(below, m.below...)
	}
	for _, f := range files {
		for _, dir := range below {
			header, is := strings.CutPrefix(f.Path, dir)
			if !is || f.Mode&fs.ModeDir != 0 || buildfile.OfC(header) { // which the system has, too
				continue
			}
			// A header below a directory can stand in for that of another package.
			direct, key := dir == "include/", keyOf("header", header)
			if (direct || !k.direct[header]) && k.supersedes(r.Name, k.provides[key]) {
				k.provides[key], k.direct[header] = r.Name, direct
			}
		}
	}
}

func (k *Known) add(name string, o recipe.Offers) {
	for kind, offered := range map[string][]string{"module": o.Modules, "library": o.Libraries, "program": o.Programs,
		"package": o.CMake} {
		for _, what := range offered {
			what, version := recipe.SplitModule(what)
			key := keyOf(kind, what)
			if !k.supersedes(name, k.provides[key]) {
				continue
			}
			if k.provides[key] = name; version != "" {
				k.versions[key] = version
			}
		}
	}
}

// Offered finds what other packages can use among the files of a tree.
func Offered(tree string, files []store.File) recipe.Offers {
	return offered(modulesOf(tree, files), files)
}

func offered(modules map[string]module, files []store.File) recipe.Offers {
	var o recipe.Offers
	add := func(to *[]string, name string) {
		if recipe.CheckSystemName(name) == nil && !slices.Contains(*to, name) { // a name that no recipe can have is useless
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
			if add(&o.Modules, name); modules[name].version != "" && slices.Contains(o.Modules, name) {
				o.Modules[slices.Index(o.Modules, name)] += " " + modules[name].version
			}
		case dir == "lib/" && strings.HasPrefix(base, "lib") &&
			(strings.HasSuffix(base, ".so") || strings.HasSuffix(base, ".a")):
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

// cmakePackage is the name for which find_package finds a file.
func cmakePackage(base string) (string, bool) {
	for _, suffix := range []string{"Config.cmake", "-config.cmake"} {
		if name, found := strings.CutSuffix(base, suffix); found {
			return name, true
		}
	}
	return "", false
}

// numbered matches a number at the end of a name, as in moss2-32.
var numbered = pattern.New(`[-_.]\d+$`)

// lacks reports whether a recipe cannot have what was not found in its tree, whatever its name
// suggests: the tree is here, and all that it has of that kind is known. (A module may only lack its
// description.)
func (k *Known) lacks(kind, recipe string) bool {
	return k.trees[recipe] != "" && (kind == "library" || kind == "header")
}

// Find returns the recipe that should have what a look-up is for, and whether that is certain;
// otherwise only its name suggests it. Kinds are those of look-ups.
func (k *Known) Find(kind, name string) (provider string, sure, found bool) {
	low := strings.ToLower(name)
	keys := []string{kind + " " + name}
	switch kind {
	case "package": // can also be found by its contents
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
	// Names differ in lib at the beginning or end, and in a version at the end.
	bare := strings.TrimRight(low, "0123456789.-")
	for _, n := range []string{low, numbered.ReplaceAllString(low, ""), bare} {
		for _, candidate := range []string{n, "lib" + n, n + "lib", strings.TrimPrefix(n, "lib")} {
			if candidate != "" && slices.Contains(k.recipes, candidate) && !k.lacks(kind, candidate) {
				return candidate, false, true
			}
		}
	}
	if kind == "program" || len(buildfile.Stem(name)) <= 2 {
		return "", false, false
	}
	for _, candidate := range k.recipes {
		if buildfile.Stem(candidate) == buildfile.Stem(name) && !k.lacks(kind, candidate) &&
			k.supersedes(candidate, provider) {
			provider = candidate
		}
	}
	return provider, false, provider != ""
}

// supersedes reports whether a package is to be taken in the place of another that offers the same.
// Of several releases that have recipes of their own, as moss2 and moss3, that is the newest.
func (k *Known) supersedes(name, other string) bool {
	if other == "" || name == other || buildfile.Stem(name) != buildfile.Stem(other) {
		return true
	}
	its, err := version.Parse(k.versions[name])
	than, otherErr := version.Parse(k.versions[other])
	return err == nil && (otherErr != nil || its.Compare(than) > 0)
}
