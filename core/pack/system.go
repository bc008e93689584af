package pack

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"fernladder/core/host"
	"fernladder/core/machine"
	"fernladder/core/ospackage"
	"fernladder/core/problem"
)

// A system turns needs of files into dependencies on packages of an operating system. devel asks
// for those for building against a package.
type system interface {
	relations(ctx context.Context, p *packing, n *requires, devel bool) ([]ospackage.Relation, error)
}

func systemOf(m *machine.Machine, f ospackage.Format) (system, error) {
	if f == ospackage.RPM {
		return rpm{}, nil
	}
	if m.System.Family != "debian" {
		return nil, problem.New(problem.Other, "deb",
			"only a Debian system knows which packages of Debian have what a build needs, and this is %s",
			cmp.Or(m.System.Family, "another system"))
	}
	return &dpkg{m: m, loader: host.SystemLibraries(), known: map[string]*shared{}}, nil
}

// rpm finds packages by what they provide: libraries with the versions of their symbols, paths,
// and pkg-config modules.
type rpm struct{}

func (rpm) relations(_ context.Context, p *packing, n *requires, devel bool) ([]ospackage.Relation, error) {
	var all []ospackage.Relation
	add := func(name string) { all = append(all, ospackage.Relation{Name: name, Found: true}) }
	if devel {
		for _, module := range p.foreign(n.modules) {
			add("pkgconfig(" + module + ")")
		}
		return all, nil
	}
	mark := map[int]string{64: "(64bit)"}[n.bits]
	for _, library := range slices.Sorted(maps.Keys(n.libraries)) {
		add(library + "()" + mark)
		for _, version := range n.libraries[library] {
			add(library + "(" + version + ")" + mark)
		}
	}
	for _, interpreter := range n.interpreters {
		if path.IsAbs(interpreter) {
			add(interpreter)
		} else {
			add("/usr/bin/" + interpreter)
		}
	}
	for _, d := range n.declared {
		switch form := map[host.Kind]string{host.Program: "/usr/bin/%s", host.File: "%s", host.Module: "pkgconfig(%s)",
			host.Python: "python3dist(%s)", host.Perl: "perl(%s)"}[d.Kind]; {
		case form != "":
			add(fmt.Sprintf(form, d.Name))
		case len(d.Of("fedora")) > 0:
			for _, name := range d.Of("fedora") {
				add(name)
			}
		default:
			p.unknown[d.Question.String()] = true
		}
	}
	return all, nil
}

// foreign are modules that none of the trees has.
func (p *packing) foreign(modules []string) []string {
	return slices.DeleteFunc(slices.Clone(modules), func(module string) bool {
		for _, files := range p.files {
			for _, f := range files {
				if path.Base(f.Path) == module+".pc" {
					return true
				}
			}
		}
		return false
	})
}

// dpkg finds the packages of files, and the versions from which libraries have symbols
// (deb-symbols(5), deb-shlibs(5)).
type dpkg struct {
	m         *machine.Machine
	loader    host.Loader
	known     map[string]*shared // libraries
	essential map[string]bool
}

// shared is what is known about a library of the operating system.
type shared struct {
	owner    string            // the package that has it, or ""
	versions map[string]string // of symbols, to the versions of the package
	least    string            // the version of the package that any of its symbols needs
}

func (d *dpkg) relations(ctx context.Context, p *packing, n *requires, devel bool) ([]ospackage.Relation, error) {
	least := map[string]string{} // package to version
	want := func(name, v string) {
		if old, is := least[name]; !is || v != "" && (old == "" || ospackage.CompareWhole(ospackage.Deb, v, old) > 0) {
			least[name] = v
		}
	}
	if devel {
		for _, module := range p.foreign(n.modules) {
			for _, file := range d.m.Programs.Where(ctx, host.Question{Kind: host.Module, Name: module}) {
				if _, err := d.owner(ctx, file, want); err != nil {
					return nil, err
				}
			}
		}
		return relationsOf(least), nil
	}
	for _, library := range slices.Sorted(maps.Keys(n.libraries)) {
		lib, err := d.library(ctx, library)
		if err != nil {
			return nil, err
		}
		if lib.owner == "" {
			p.unknown["library "+library] = true
			continue
		}
		want(lib.owner, lib.least)
		for _, v := range n.libraries[library] {
			if min := lib.versions[v]; min != "" {
				want(lib.owner, min)
			}
		}
	}
	for _, interpreter := range n.interpreters {
		file := interpreter
		if !path.IsAbs(file) {
			file = d.m.Programs.Find(interpreter)
		}
		known, err := d.owner(ctx, file, want)
		if err != nil {
			return nil, err
		}
		if !known {
			p.unknown["program "+interpreter] = true
		}
	}
	for _, need := range n.declared {
		names := need.Of("debian")
		for _, name := range names {
			want(name, "")
		}
		if len(names) == 0 {
			if err := d.declared(ctx, p, need.Question, want); err != nil {
				return nil, err
			}
		}
	}
	for name := range least {
		if d.isEssential(ctx, name) && least[name] == "" {
			delete(least, name)
		}
	}
	return relationsOf(least), nil
}

// declared finds the package of a declared need, if this machine has it.
func (d *dpkg) declared(ctx context.Context, p *packing, q host.Question, want func(name, v string)) error {
	found := false
	for _, file := range d.m.Programs.Where(ctx, q) {
		if q.Kind == host.Library {
			if path.Ext(file) == ".a" {
				continue
			}
			// Its name for the linker is for building; the target of that link is for running.
			if real, err := filepath.EvalSymlinks(file); err == nil {
				file = real
			}
		}
		known, err := d.owner(ctx, file, want)
		if err != nil {
			return err
		}
		found = found || known
	}
	if !found {
		p.unknown[q.String()] = true
	}
	return nil
}

func relationsOf(least map[string]string) []ospackage.Relation {
	var all []ospackage.Relation
	for name, v := range least {
		r := ospackage.Relation{Name: name}
		if v != "" {
			r.Operator, r.Version = ">=", v
		}
		all = append(all, r)
	}
	slices.SortFunc(all, func(a, b ospackage.Relation) int { return cmp.Compare(a.Name, b.Name) })
	return all
}

// owner finds the package of a file, or of the link's target; and reports whether there is one.
func (d *dpkg) owner(ctx context.Context, file string, want func(name, v string)) (bool, error) {
	real, err := filepath.EvalSymlinks(file)
	if err != nil {
		return false, nil // it is not there
	}
	owners, err := d.m.Packages.Owning(ctx, []string{file, real})
	if err != nil {
		return false, err
	}
	name := cmp.Or(owners[file], owners[real])
	if name != "" {
		want(name, "")
	}
	return name != "", nil
}

func (d *dpkg) isEssential(ctx context.Context, name string) bool {
	if d.essential == nil {
		d.essential = map[string]bool{}
		names, err := d.m.Packages.Essential(ctx)
		if err == nil {
			for _, n := range names {
				d.essential[n] = true
			}
		}
	}
	return d.essential[name]
}

// library finds out about a library of the operating system.
func (d *dpkg) library(ctx context.Context, name string) (*shared, error) {
	if lib := d.known[name]; lib != nil {
		return lib, nil
	}
	lib := &shared{versions: map[string]string{}}
	d.known[name] = lib
	file := d.loader.Find(name)
	if file == "" {
		return lib, nil
	}
	owners, err := d.m.Packages.Owning(ctx, []string{file})
	if err != nil {
		return nil, err
	}
	if lib.owner = owners[file]; lib.owner == "" {
		return lib, nil
	}
	owner := lib.owner + ":" + ospackage.DebArch(d.m.System.Arch) // of several installed ones, the machine's
	text, err := d.m.Packages.Control(ctx, owner, "symbols")
	if err != nil {
		return nil, err
	}
	lib.symbols(text, name)
	if len(lib.versions) == 0 {
		if text, err = d.m.Packages.Control(ctx, owner, "shlibs"); err != nil {
			return nil, err
		}
		lib.shlibs(text, name)
	}
	return lib, nil
}

// symbols reads from which version of the package on the library has which versions of symbols.
func (l *shared) symbols(text, library string) {
	mine := false
	for line := range strings.Lines(text) {
		line = strings.TrimRight(line, "\n")
		if line == "" || line[0] == '#' || line[0] == '|' || line[0] == '*' {
			continue
		}
		words := strings.Fields(line)
		if line[0] != ' ' {
			mine = words[0] == library
			continue
		}
		if !mine || len(words) < 2 {
			continue
		}
		symbol, version, is := strings.Cut(words[0], "@")
		if is && symbol == version { // the version itself
			l.versions[version] = words[1]
		}
		if is && version == "Base" && (l.least == "" || ospackage.CompareWhole(ospackage.Deb, words[1], l.least) > 0) {
			l.least = words[1] // it has no versions: a release that has everything needed is safe
		}
	}
}

// shlibs reads which version of the package a library needs as a whole.
func (l *shared) shlibs(text, library string) {
	stem, version, _ := strings.Cut(library, ".so.")
	for line := range strings.Lines(text) {
		words := strings.Fields(line)
		if len(words) < 3 || words[0] != stem || words[1] != version {
			continue
		}
		if i := slices.Index(words, "(>="); i >= 0 && i+1 < len(words) {
			l.least = strings.TrimSuffix(words[i+1], ")")
		}
	}
}
