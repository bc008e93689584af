package traces

import (
	"cmp"
	"context"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"fernladder/core/host"
)

// A Use is something of the operating system that a build has used, by the name for it in
// recipes.
type Use struct {
	host.Question
	Package string   `json:"package,omitempty"` // of the operating system, where one has it
	Files   []string `json:"files"`             // its files that were used; the first is the one to ask for
	How     How      `json:"how"`               // the best known of them
}

// A System is the operating system, for questions about uses. It remembers what it finds out.
type System struct {
	Programs host.Programs
	Packages *host.Packages // nil: no lists of packages

	lock  sync.Mutex
	known map[string]*stock
}

// stock is what everything built with some programs has.
type stock struct {
	packages map[string]bool
	files    map[string]string
}

// stock finds out what comes with the C library, with these programs, and with every system.
func (s *System) stock(ctx context.Context, programs []string) (*stock, error) {
	s.lock.Lock()
	defer s.lock.Unlock()
	key := strings.Join(programs, " ")
	if known := s.known[key]; known != nil {
		return known, nil
	}
	paths := host.LibraryOfC()
	for _, name := range programs {
		if file := s.Programs.Find(name); file != "" {
			paths = append(paths, file)
		}
	}
	owners, err := s.Packages.Owning(ctx, paths)
	if err != nil {
		return nil, err
	}
	known := &stock{}
	if known.packages, err = s.Packages.Closure(ctx, slices.Collect(maps.Values(owners))); err != nil {
		return nil, err
	}
	if known.files, err = s.Packages.Files(ctx, slices.Sorted(maps.Keys(known.packages))); err != nil {
		return nil, err
	}
	if s.known == nil {
		s.known = map[string]*stock{}
	}
	s.known[key] = known
	return known, nil
}

// A Declaration is what a recipe declares to need of the operating system.
type Declaration struct {
	Programs  []string // that the stages of the build run
	Questions []host.Question
	Packages  []string
}

// common are programs of every system on which anything is built.
var common = strings.Fields(`
	sh bash dash env test [ true false echo printf cat cp mv rm ln ls mkdir rmdir mktemp chmod chown touch install
	dd df du sed grep egrep fgrep awk gawk mawk nawk find xargs sort uniq head tail cut paste tr wc tee join comm
	split tsort od cmp diff expr seq date sleep uname hostname id whoami basename dirname pwd readlink realpath stat
	cksum sum md5sum sha1sum sha256sum nproc tar gzip gunzip ar ranlib nm ld as strip objdump objcopy size strings
	cc gcc c++ g++ cpp make gmake file which arch`)

// Beyond returns uses that are not declared: without what comes with the declarations, with the
// compilers and build programs, or with every system. others are packages of which only files
// were opened that no program requests by name: programs look through plugins, translations and
// the like, and work without them.
//
// If nothing is known about packages, headers are left out, because those of the C library
// cannot be distinguished from others.
func (s *System) Beyond(ctx context.Context, files Files, declared Declaration) (uses []Use, others []string,
	err error) {
	rest := slices.Sorted(maps.Keys(files))
	rest = slices.DeleteFunc(rest, func(path string) bool {
		return files[path] == Ran && slices.Contains(common, filepath.Base(path)) ||
			files[path] == Opened && strings.Contains(filepath.Base(path), ".so.") || // by the loader, for its own needs
			s.Packages == nil && files[path] != Ran && files[path] != Asked && files[path] != Linked
	})
	if s.Packages == nil || len(rest) == 0 {
		return group(rest, nil, files, declared), nil, nil
	}
	stock, err := s.stock(ctx, declared.Programs)
	if err != nil {
		return nil, nil, err
	}
	rest = slices.DeleteFunc(rest, func(path string) bool {
		return slices.ContainsFunc(host.Spellings(path), func(p string) bool { return stock.files[p] != "" })
	})
	owners, err := s.Packages.Owning(ctx, rest)
	if err != nil || len(rest) == 0 {
		return nil, nil, err
	}
	rest = slices.DeleteFunc(rest, func(path string) bool { return stock.packages[owners[path]] })
	known := slices.Clone(declared.Packages)
	for _, path := range rest {
		if slices.Contains(declared.Questions, question(path, files[path])) {
			known = append(known, owners[path])
		}
	}
	if rest, err = s.without(ctx, rest, owners, known, ""); err != nil {
		return nil, nil, err
	}
	if rest, err = s.leading(ctx, rest, owners, files); err != nil {
		return nil, nil, err
	}
	for _, u := range group(rest, owners, files, declared) {
		if u.Kind == "" {
			others = append(others, cmp.Or(u.Package, u.Files[0]))
		} else {
			uses = append(uses, u)
		}
	}
	return uses, others, nil
}

// leading leaves out the files of packages that other used packages require, because those need
// not be declared.
func (s *System) leading(ctx context.Context, paths []string, owners map[string]string, files Files) (rest []string,
	err error) {
	rest = slices.Clone(paths)
	said := map[string]bool{}
	for _, path := range paths {
		name, kind := owners[path], question(path, files[path]).Kind
		if name == "" || said[name] || !slices.Contains(rest, path) ||
			kind != host.Program && kind != host.Module && kind != host.Header {
			continue
		}
		said[name] = true
		if rest, err = s.without(ctx, rest, owners, []string{name}, name); err != nil {
			return nil, err
		}
	}
	return rest, nil
}

// without leaves out the files of packages and of what they require, except for those of the
// package keep.
func (s *System) without(ctx context.Context, paths []string, owners map[string]string, names []string,
	keep string) ([]string, error) {
	if len(names) == 0 {
		return paths, nil
	}
	closure, err := s.Packages.Closure(ctx, names)
	return slices.DeleteFunc(paths, func(path string) bool { return closure[owners[path]] && owners[path] != keep }), err
}

// group makes one use of all files of a package.
func group(paths []string, owners map[string]string, files Files, declared Declaration) []Use {
	byPackage := map[string]*Use{}
	var uses []*Use
	for _, path := range paths {
		q := question(path, files[path])
		if slices.Contains(declared.Questions, q) {
			continue
		}
		key := cmp.Or(owners[path], string(q.Kind)+q.Name, path)
		u := byPackage[key]
		if u == nil {
			u = &Use{Question: q, Package: owners[path], How: files[path]}
			byPackage[key] = u
			uses = append(uses, u)
		}
		if better(q, u.Question) {
			u.Question, u.How = q, files[path]
			u.Files = append([]string{path}, u.Files...)
		} else {
			u.Files = append(u.Files, path)
		}
	}
	all := make([]Use, 0, len(uses))
	for _, u := range uses {
		all = append(all, *u)
	}
	slices.SortFunc(all, func(a, b Use) int { return strings.Compare(a.String(), b.String()) })
	return all
}

// order ranks the names by which a package can be requested.
var order = []host.Kind{host.Module, host.Program, host.Header, host.Library, host.Python, host.Perl, host.File}

// better reports whether a is a better name for a request than b: of a more telling kind, or
// shorter.
func better(a, b host.Question) bool {
	at, bt := slices.Index(order, a.Kind), slices.Index(order, b.Kind)
	if at < 0 || bt < 0 {
		return at >= 0
	}
	return at < bt || at == bt && (len(a.Name) < len(b.Name) || len(a.Name) == len(b.Name) && a.Name < b.Name)
}

// question is a recipe's name for a file; it has no kind if there is none.
func question(path string, how How) host.Question {
	if dir := filepath.Base(filepath.Dir(path)); how == Ran && dir != "bin" && dir != "sbin" {
		if filepath.Base(path) == "cc1plus" {
			return host.Question{Kind: host.Program, Name: "c++"}
		}
		return host.Question{} // a part of another program, which is not asked for
	}
	if how == Ran {
		return host.Question{Kind: host.Program, Name: filepath.Base(path)}
	}
	if how == Linked {
		name, _, _ := strings.Cut(strings.TrimPrefix(filepath.Base(path), "lib"), ".so")
		return host.Question{Kind: host.Library, Name: name}
	}
	if strings.Contains(path, "/include/c++/") {
		return host.Question{Kind: host.Program, Name: "c++"} // which comes with them
	}
	if q, known := host.AskedFor(path); known {
		return q
	}
	return host.Question{}
}
