// Package pack makes packages of the operating system from builds in the root. It builds
// nothing, and runs nothing of a build.
//
// It promises that a package has exactly the files that were built and tried, at the same paths,
// and that the same build makes the same bytes. A tree becomes one package; the names by which
// people use it are a small package of their own, which depends on it by its build id. Needs on
// the operating system are found in the files.
package pack

import (
	"context"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"fernladder/core/landing"
	"fernladder/core/machine"
	"fernladder/core/ospackage"
	"fernladder/core/pattern"
	"fernladder/core/problem"
	"fernladder/core/recipe"
	"fernladder/core/store"
	"fernladder/core/version"
)

// Ask says what to pack.
type Ask struct {
	Names  []string // builds that are there
	Format ospackage.Format
	Split  bool // files only needed to build against a package go to a separate one

	// Instead of trees, one package of everything for a directory:
	Prefix string
	Builds []store.Ref // that are there, for that directory
	Name   string      // of the package; default: the first build's
}

// A Made package can be written.
type Made struct {
	*ospackage.Package
	Build store.Ref
	Kind  Kind
}

// Kind says what a package contains.
type Kind string

// The kinds.
const (
	Tree   Kind = "tree"   // the tree of a build
	Prefix Kind = "prefix" // all that is built for a directory
	Devel  Kind = "devel"  // the files of a tree that are for building against it
	Config Kind = "config" // the files that the administrator edits
	Names  Kind = "names"  // the links by which people use it
)

// Made is the time of change of all files in packages. It is constant, so that the same build
// always makes the same package.
var made = time.Date(2020, 1, 1, 0, 0, 0, 0, time.UTC)

// packing is the work on one ask.
type packing struct {
	m         *machine.Machine
	ask       Ask
	trees     []*store.Receipt // the builds to pack, those that need others last
	files     map[store.Ref][]store.File
	needs     map[store.Ref]*requires
	system    system
	packing   ospackage.Packing
	unknown   map[string]bool
	renamed   []landing.Naming
	libraries func(name string) string // of the operating system
	union     landing.Union            // the files of builds for a prefix
}

// A Planned set of packages can be written.
type Planned struct {
	Packages []Made
	Unknown  []string         // libraries and programs that no package of the operating system has, as far as is known
	Named    []landing.Naming // files that are not linked under their own names, as on the landing
	Remarks  []string         // on files that will not work elsewhere, as far as is known
}

// Plan works out the packages: for each named build, and for its runtime needs. It writes
// nothing.
func Plan(ctx context.Context, m *machine.Machine, ask Ask) (*Planned, error) {
	p, err := start(m, ask)
	if err != nil {
		return nil, err
	}
	p.files, p.needs, p.unknown, p.libraries = map[store.Ref][]store.File{}, map[store.Ref]*requires{}, map[string]bool{},
		machine.SystemLibraries()
	if p.packing == "" && ask.Format == ospackage.Deb && m.Packages != nil && !m.Packages.Unpacks(ctx, "zstd") {
		p.packing = ospackage.Gzip
	}
	named, err := p.named()
	if err != nil {
		return nil, err
	}
	planned := &Planned{}
	if ask.Prefix != "" {
		planned.Packages, planned.Remarks, err = p.prefixed(ctx, named)
	} else {
		planned.Packages, err = p.apart(ctx, named)
	}
	if err != nil {
		return nil, err
	}
	planned.Unknown = slices.Sorted(maps.Keys(p.unknown))
	planned.Named = p.renamed
	return planned, p.check(planned.Packages)
}

// Check finds mistakes of an ask before anything is built for it.
func Check(m *machine.Machine, ask Ask, names []string) error {
	p, err := start(m, ask)
	if err != nil {
		return err
	}
	if ask.Name != "" {
		names = []string{ask.Name}
	}
	first, _, _ := strings.Cut(names[0], ":")
	first, _, _ = strings.Cut(first, "@")
	_, err = p.nameOf(first, "", "")
	return err
}

// start begins the work on an ask if the settings and the machine allow it.
func start(m *machine.Machine, ask Ask) (*packing, error) {
	if m.Settings.Pack.Maintainer == "" {
		return nil, problem.New(problem.Other, "maintainer", "packages name their maintainer, and the settings do not").
			Remedy(problem.SetMaintainer, m.Place.Shown(m.Settings.File))
	}
	system, err := systemOf(m, ask.Format)
	return &packing{m: m, ask: ask, system: system, packing: ospackage.Packing(m.Settings.Pack.Packing)}, err
}

// apart are the packages, one for each tree.
func (p *packing) apart(ctx context.Context, named []*store.Receipt) (all []Made, err error) {
	for _, r := range p.trees {
		more, err := p.tree(ctx, r)
		if err != nil {
			return nil, err
		}
		all = append(all, more...)
	}
	names, err := p.names(named)
	return append(all, names...), err
}

// asked are the requested builds.
func (p *packing) asked() (all []*store.Receipt, err error) {
	for _, name := range p.ask.Names {
		r, err := landing.FindBuild(p.m.Store, name)
		if err != nil {
			return nil, err
		}
		if r.Prefix != "" {
			return nil, problem.New(problem.Other, r.Name, "%s %s (%s) was built for %s, and does not work in its tree", r.Name,
				r.Version, r.ID, r.Prefix)
		}
		all = append(all, r)
	}
	var builds []store.Ref
	for _, ref := range p.ask.Builds {
		r, err := p.m.Store.Receipt(ref)
		if err != nil {
			return nil, p.m.Store.Gone(ref, err)
		}
		with, err := landing.BuiltWith(p.m.Store, r)
		if err != nil {
			return nil, err
		}
		all = append(all, r)
		for _, ref := range with {
			if !slices.Contains(builds, ref) {
				builds = append(builds, ref)
			}
		}
	}
	p.union, err = landing.UnionOf(p.m.Store, builds)
	return all, err
}

// named reads the requested builds, and finds their runtime needs. It returns those that have
// names for people: the requested ones and their runtime packages.
func (p *packing) named() ([]*store.Receipt, error) {
	var people []*store.Receipt
	seen := map[store.Ref]bool{}
	var visit func(r *store.Receipt, used bool) error
	visit = func(r *store.Receipt, used bool) error {
		if used && !slices.ContainsFunc(people, func(o *store.Receipt) bool { return o.Ref == r.Ref }) {
			people = append(people, r)
		}
		if seen[r.Ref] {
			return nil
		}
		seen[r.Ref] = true
		if len(r.Supplies) > 0 {
			var files []string
			for _, s := range r.Supplies {
				files = append(files, s.File)
			}
			return problem.New(problem.Other, r.Name, "%s %s was built with files that must not be passed on: %s", r.Name,
				r.Version, strings.Join(files, ", "))
		}
		var err error
		if p.files[r.Ref], err = p.m.Store.Files(r.Ref); err != nil {
			return err
		}
		if p.needs[r.Ref], err = p.look(r); err != nil {
			return err
		}
		for _, need := range r.Needs {
			needs := p.needs[r.Ref]
			if need.Role == recipe.Tool && !needs.tools[need.Ref] ||
				need.Role == recipe.Library && !needs.trees[need.Ref] && !needs.tools[need.Ref] {
				continue
			}
			other, err := p.m.Store.Receipt(need.Ref)
			if err != nil {
				return p.m.Store.Gone(need.Ref, err)
			}
			if err := visit(other, need.Role == recipe.Runtime); err != nil {
				return err
			}
		}
		p.trees = append(p.trees, r)
		return nil
	}
	asked, err := p.asked()
	if err != nil {
		return nil, err
	}
	for _, r := range asked {
		if err := visit(r, true); err != nil {
			return nil, err
		}
	}
	return people, nil
}

// versionOf is a build's version in the order of the format.
func (p *packing) versionOf(r *store.Receipt) (string, error) {
	v, err := version.Parse(r.Version)
	if err != nil {
		return "", err
	}
	write, compare := ospackage.DebVersion, ospackage.CompareDeb
	if p.ask.Format == ospackage.RPM {
		write, compare = ospackage.RPMVersion, ospackage.CompareRPM
	}
	// The recipe's releases are those that upgrades come from and go to.
	if source, err := p.m.Shelves.Find(r.Name); err == nil && p.epochOf(r.Name) == 0 {
		for _, x := range source.Releases {
			if x.Version.IsZero() {
				continue
			}
			if wrong, is := ospackage.Disorder([]version.Version{v, x.Version}, write, compare); is {
				return "", problem.New(problem.Other, r.Name, "%s %s would sort before %s as a %s, but is newer", r.Name,
					wrong.Newer, wrong.Older, p.ask.Format).Remedy(problem.SetEpoch, r.Name)
			}
		}
	}
	return write(v), nil
}

func (p *packing) epochOf(name string) int {
	for _, e := range p.m.Settings.Pack.Epochs {
		if e.Name == name {
			return e.Number
		}
	}
	return 0
}

var packageName = pattern.New(`^[a-z0-9][a-z0-9.+-]+$`)

// nameOf is the name of a package: the prefix and the recipe's name. id distinguishes the builds
// of one recipe, more the parts of a build.
func (p *packing) nameOf(name, id, more string) (string, error) {
	text := p.m.Settings.Pack.Prefix + strings.ReplaceAll(name, "_", "-")
	for _, part := range []string{id, more} {
		if part != "" {
			text += "-" + part
		}
	}
	if !packageName.MatchString(text) {
		return "", problem.New(problem.Other, text,
			"%s cannot be the name of a package: dpkg and rpm allow letters, digits and + - .", text)
	}
	return text, nil
}

// begin is a package with what all packages of a build have in common.
func (p *packing) begin(r *store.Receipt, id, more, arch string) (*ospackage.Package, error) {
	name, err := p.nameOf(r.Name, id, more)
	if err != nil {
		return nil, err
	}
	v, err := p.versionOf(r)
	if err != nil {
		return nil, err
	}
	s := p.m.Settings.Pack
	release := fmt.Sprint(s.Rebuild)
	if s.Suffix != "" {
		release += "." + s.Suffix
	}
	o := &ospackage.Package{Name: name, Epoch: p.epochOf(r.Name), Version: v, Release: release, Arch: arch,
		Summary: r.Summary, Home: r.Home, License: r.License, Maintainer: s.Maintainer, Time: made,
		Packing: p.packing}
	o.Changes = []ospackage.Change{{Version: o.Whole(), By: s.Maintainer, Lines: changesOf(r), Time: made}}
	return o, nil
}

// check finds packages that cannot be installed together because both have one file.
func (p *packing) check(all []Made) error {
	owners := map[string]Made{}
	for _, o := range all {
		if err := o.Check(); err != nil {
			return err
		}
		for _, f := range o.Files {
			if f.Mode.IsDir() {
				continue
			}
			if other, taken := owners[f.Path]; taken && other.Name != o.Name {
				return landing.Both(f.Path, other.Build, o.Build)
			}
			owners[f.Path] = o
		}
	}
	return nil
}

// The rules are those of the landing; the loader looks where packages have their links.
func (p *packing) rules() landing.Rules {
	rules := p.m.Rules()
	rules.System.Library, rules.Shared = p.libraries, p.m.Settings.Pack.Links
	return rules
}

// names are the packages of links, one for each build that people use.
func (p *packing) names(people []*store.Receipt) ([]Made, error) {
	var all []Made
	for _, r := range people {
		links, err := landing.Arrange(p.m.Store, []landing.Member{{Ref: r.Ref, Asked: true}}, p.rules())
		if err != nil {
			return nil, err
		}
		p.renamed = append(p.renamed, links.Named...)
		o, err := p.begin(r, "", "", "")
		if err != nil {
			return nil, err
		}
		o.Description = "The names by which " + r.Name + " is used, in " + p.m.Settings.Pack.Links + "."
		for name, target := range links.Links {
			if landing.Collective(name) {
				continue
			}
			at := filepath.Join(p.m.Settings.Pack.Links, name)
			o.Files = append(o.Files, ospackage.File{Path: at, Target: filepath.Join(p.m.Store.Tree(target.Ref), target.Path)})
			o.Loader = o.Loader || strings.HasPrefix(name, "lib/") && strings.Contains(filepath.Base(name), ".so")
		}
		tree, err := p.exactly(r.Ref)
		if err != nil {
			return nil, err
		}
		o.Depends = append(o.Depends, tree)
		for _, need := range r.Needs {
			if need.Role == recipe.Runtime {
				name, err := p.nameOf(need.Name, "", "")
				if err != nil {
					return nil, err
				}
				o.Depends = append(o.Depends, ospackage.Relation{Name: name})
			}
		}
		p.profile(o, []*store.Receipt{r})
		if err := p.document(o, []*store.Receipt{r}); err != nil {
			return nil, err
		}
		all = append(all, Made{o, r.Ref, Names})
	}
	return all, nil
}

// exactly is a dependency on the package of a tree.
func (p *packing) exactly(r store.Ref) (ospackage.Relation, error) {
	receipt, err := p.m.Store.Receipt(r)
	if err != nil {
		return ospackage.Relation{}, p.m.Store.Gone(r, err)
	}
	o, err := p.begin(receipt, r.ID, "", "")
	if err != nil {
		return ospackage.Relation{}, err
	}
	return ospackage.Relation{Name: o.Name, Operator: "=", Version: o.Whole()}, nil
}
