package session

import (
	"cmp"
	"context"
	"errors"
	"io/fs"
	"path"
	"runtime/debug"
	"slices"
	"strings"

	"fernladder/core/build"
	"fernladder/core/host"
	"fernladder/core/inspect"
	"fernladder/core/install"
	"fernladder/core/landing"
	"fernladder/core/lock"
	"fernladder/core/problem"
	"fernladder/core/recipe"
	"fernladder/core/safefs"
	"fernladder/core/sbom"
	"fernladder/core/store"
)

// A BillRequest says what a bill of materials is about: builds, the landing, or a lock file.
type BillRequest struct {
	Names   []string
	Landing bool
	Lock    string
	Files   bool        // with the digests of all files
	Format  sbom.Format // "": SPDX
}

// Bill writes a bill of materials.
func (s *Session) Bill(ctx context.Context, r BillRequest) ([]byte, error) {
	if err := r.check(); err != nil {
		return nil, err
	}
	b := &sbom.Bill{}
	tool := strings.ReplaceAll(s.Agent, "/", " ")
	var err error
	switch {
	case r.Lock != "" && !r.Landing && len(r.Names) == 0:
		b.Name = path.Base(r.Lock)
		b.Parts, err = s.lockedParts(r.Lock)
	case r.Landing && r.Lock == "" && len(r.Names) == 0:
		var current landing.State
		if current, err = landing.Current(s.Store); err == nil {
			b, err = install.BillOf(s.Store, current)
		}
	case len(r.Names) > 0 && r.Lock == "" && !r.Landing:
		var roots []*store.Receipt
		for _, name := range r.Names {
			receipt, err := s.Find(name)
			if err != nil {
				return nil, err
			}
			roots = append(roots, receipt)
		}
		b.Name = roots[0].Name + "-" + roots[0].Version
		b.Parts, err = sbom.Gather(s.Store, roots)
	default:
		return nil, problem.New(problem.Usage, "", "a bill of materials is about packages, the landing, or a lock file: "+
			"name one of them")
	}
	if err != nil {
		return nil, err
	}
	b.Tool = tool
	if err := s.addHosts(ctx, b.Parts); err != nil {
		return nil, err
	}
	if r.Files {
		if err := sbom.AddFiles(ctx, s.Store, b.Parts); errors.As(err, new(*sbom.Changed)) {
			return nil, problem.New(problem.Root, "", "%v", err).Remedy(problem.MendRebuild)
		} else if err != nil {
			return nil, s.Store.Wrap(err)
		}
	}
	return b.Write(r.Format)
}

// check fills in the default format, and refuses an unknown one.
func (r *BillRequest) check() error {
	if r.Format == "" {
		r.Format = sbom.SPDX
	}
	if !slices.Contains(sbom.Formats, r.Format) {
		return problem.New(problem.Usage, "format", "the format %s: it can be spdx or cyclonedx", r.Format)
	}
	return nil
}

// OwnBill writes a bill of materials of the running program, of which tool is the name and
// version. It needs no session.
func OwnBill(tool string, r BillRequest) ([]byte, error) {
	if err := r.check(); err != nil {
		return nil, err
	}
	b := &sbom.Bill{Name: tool, Tool: tool, Parts: self(tool)}
	return b.Write(r.Format)
}

// self is the running program, and the Go modules that it was compiled from, as it says itself.
func self(tool string) []*sbom.Part {
	name, version, _ := strings.Cut(tool, " ")
	program := &sbom.Part{Root: true, Receipt: &store.Receipt{Ref: store.Ref{Name: name, Version: version},
		License: "Apache-2.0"}}
	parts := []*sbom.Part{program}
	info, _ := debug.ReadBuildInfo() // every program that go has built has it
	if info == nil {
		return parts
	}
	modules := append([]*debug.Module{{Path: "stdlib", Version: strings.TrimPrefix(info.GoVersion, "go")}}, info.Deps...)
	for _, m := range modules {
		ref := store.Ref{Name: m.Path, Version: m.Version}
		part := &sbom.Part{Receipt: &store.Receipt{Ref: ref, KnownAs: recipe.KnownAs{Purl: "pkg:golang/" + m.Path}}}
		parts = append(parts, part)
		program.Needs = append(program.Needs, store.Link{Ref: ref, Role: recipe.Library})
	}
	return parts
}

// lockedParts are the builds of a lock file: as they were built, if they are, otherwise as the
// file and the recipes have them.
func (s *Session) lockedParts(file string) ([]*sbom.Part, error) {
	f, err := s.locked(file)
	if err != nil {
		return nil, err
	}
	refs := map[string]store.Ref{}
	for _, b := range f.Builds {
		if !b.Apart {
			refs[b.Name] = store.Ref{Name: b.Name, Version: b.Version.String(), ID: b.ID}
		}
	}
	var parts []*sbom.Part
	for _, b := range f.Builds {
		ref := store.Ref{Name: b.Name, Version: b.Version.String(), ID: b.ID}
		r, err := s.Store.Receipt(ref)
		if errors.Is(err, fs.ErrNotExist) {
			r, err = s.unbuilt(b, refs), nil
		}
		if err != nil {
			return nil, err
		}
		parts = append(parts, &sbom.Part{Receipt: r, Root: b.Asked})
	}
	return parts, nil
}

// unbuilt is a locked build that does not exist, as a receipt without a tree.
func (s *Session) unbuilt(b *lock.Build, refs map[string]store.Ref) *store.Receipt {
	r := &store.Receipt{Ref: store.Ref{Name: b.Name, Version: b.Version.String(), ID: b.ID}, Chosen: map[string]string{}}
	x := s.released(b, whereLocked)[0]
	for name, value := range x.facts.Options {
		if slices.Contains(b.Options, name+"="+value) {
			r.Chosen[name] = value
		}
	}
	found := x.recipe
	if found == nil {
		return r
	}
	r.Summary, r.Home, r.License, r.KnownAs = found.Summary, found.Home, found.License, found.KnownAs
	for _, n := range found.Needs {
		for _, name := range n.Names() {
			if ref, is := refs[name]; is && slices.Contains(b.Needs, name) {
				r.Needs = append(r.Needs, store.Link{Ref: ref, Role: n.Role})
			}
		}
	}
	release := found.Release(b.Version)
	switch {
	case release == nil && found.Tip() != nil && len(b.Source) > 0:
		r.Sources = []store.Source{{URL: found.ExpandURL(found.Tip().Repository(), ""), Commit: b.Source[0]}}
	case release == nil:
	case release.Repository() != "":
		r.Sources = []store.Source{{URL: found.ExpandURL(release.Repository(), release.Version.String()),
			Commit: release.Commit + release.Revision}}
	case len(found.Sources(release)) > 0:
		r.Sources = []store.Source{{URL: found.Sources(release)[0], Digest: release.Digest}}
	}
	return r
}

// addHosts adds the packages of the operating system that builds use: by the record of a watched
// build, and by the libraries that their files ask for.
func (s *Session) addHosts(ctx context.Context, parts []*sbom.Part) error {
	if s.Packages == nil {
		return nil
	}
	loader := host.SystemLibraries()
	found := map[*sbom.Part][]string{} // paths
	named := map[*sbom.Part][]string{} // packages
	var paths []string
	for _, p := range parts {
		if p.Tree == "" {
			continue
		}
		libraries, err := s.asked(p, parts)
		if err != nil {
			return err
		}
		for _, library := range libraries {
			if file := loader.Find(library); file != "" {
				found[p], paths = append(found[p], file), append(paths, file)
			}
		}
		used, err := build.UsedBy(s.Store, p.Ref)
		if err != nil || !used.Watched {
			continue
		}
		named[p] = append(named[p], used.Others...)
		for _, u := range used.Uses {
			if u.Package != "" {
				named[p] = append(named[p], u.Package)
			}
		}
	}
	owners, err := s.Packages.Owning(ctx, paths)
	if err != nil {
		return err
	}
	versions, err := s.Packages.Versions(ctx)
	if err != nil {
		return err
	}
	kind := map[string]string{"debian": "deb", "fedora": "rpm", "suse": "rpm", "arch": "alpm",
		"alpine": "apk"}[s.System.Family]
	distribution, _, _ := strings.Cut(s.System.Release, " ")
	for _, p := range parts {
		names := named[p]
		for _, file := range found[p] {
			if name := owners[file]; name != "" {
				names = append(names, name)
			}
		}
		slices.Sort(names)
		for _, name := range slices.Compact(names) {
			p.Hosts = append(p.Hosts, sbom.HostPackage{Name: name, Version: versions[name], Type: kind,
				Distribution: cmp.Or(distribution, s.System.Family)})
		}
	}
	return nil
}

// asked are the libraries that files of a build ask for, and that no tree has.
func (s *Session) asked(p *sbom.Part, parts []*sbom.Part) (libraries []string, err error) {
	wanted, _, err := s.librariesOf(p.Ref)
	if err != nil {
		return nil, err
	}
	for _, other := range parts {
		if other.Tree == "" || len(wanted) == 0 || other != p && !slices.ContainsFunc(p.Needs, func(l store.Link) bool {
			return l.Ref == other.Ref && l.Role != recipe.Tool
		}) {
			continue
		}
		files, err := s.Store.Files(other.Ref)
		if err != nil {
			return nil, err
		}
		for _, f := range files {
			delete(wanted, path.Base(f.Path))
		}
	}
	return sortedNames(wanted), nil
}

// librariesOf are the shared libraries that the programs and libraries of a build ask for;
// compiled reports whether it has any.
func (s *Session) librariesOf(r store.Ref) (libraries map[string]bool, compiled bool, err error) {
	files, err := s.Store.Files(r)
	if err != nil {
		return nil, false, err
	}
	dir, err := safefs.OpenDir(s.Store.Tree(r))
	if err != nil {
		return nil, false, s.Store.Gone(r, err)
	}
	defer dir.Close()
	libraries = map[string]bool{}
	for _, f := range files {
		if !f.Mode.IsRegular() {
			continue
		}
		file, err := dir.Open(f.Path)
		if err != nil {
			return libraries, compiled, s.Store.Gone(r, err)
		}
		b, is := inspect.ReadBinary(file)
		file.Close()
		compiled = compiled || is
		for _, library := range b.Needs {
			libraries[library] = true
		}
	}
	return libraries, compiled, nil
}
