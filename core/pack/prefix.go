package pack

import (
	"context"
	"io/fs"
	"maps"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"fernladder/core/inspect"
	"fernladder/core/landing"
	"fernladder/core/ospackage"
	"fernladder/core/safefs"
	"fernladder/core/store"
)

// prefixed makes the package of everything that is for the prefix: the requested builds, and
// their runtime needs. remarks are about files that name files which will not exist.
func (p *packing) prefixed(ctx context.Context, named []*store.Receipt) (all []Made, remarks []string, err error) {
	first := p.trees[slices.IndexFunc(p.trees, func(r *store.Receipt) bool { return r.Ref == p.ask.Builds[0] })]
	o, err := p.begin(first, "", "", first.Machine.Arch)
	if err == nil && p.ask.Name != "" {
		o.Name, err = p.nameOf(p.ask.Name, "", "")
	}
	if err != nil {
		return nil, nil, err
	}
	o.Description = "Built by Fern Ladder for " + p.ask.Prefix + ", with what it needs:"
	var builds []store.Ref
	for _, r := range p.trees {
		builds = append(builds, r.Ref)
		o.Description += "\n" + r.Name + " " + r.Version + ", build " + r.ID
		for _, remark := range r.Remarks {
			if remark.Text == inspect.NamesWork || remark.Text == inspect.NamesTree {
				remarks = append(remarks, r.Name+": "+remark.String())
			}
		}
	}
	files, err := landing.UnionOf(p.m.Store, builds)
	if err != nil {
		return nil, nil, err
	}
	devel := p.develOf(o, o.Name)
	if err := p.underPrefix(o, devel, p.amongOthers(files)); err != nil {
		return nil, nil, err
	}
	needs := &requires{trees: map[store.Ref]bool{}, libraries: map[string][]string{}, bits: 64}
	for _, r := range p.trees {
		needs.add(p.needs[r.Ref])
	}
	if o.Depends, err = p.system.relations(ctx, p, needs, false); err != nil {
		return nil, nil, err
	}
	for _, r := range p.trees {
		p.declared(o, r)
	}
	if err := p.links(o, named); err != nil {
		return nil, nil, err
	}
	for _, r := range p.trees {
		if r.Ref != first.Ref {
			o.Changes[0].Lines = append(o.Changes[0].Lines, changesOf(r)...)
		}
	}
	if err := p.document(o, p.trees); err != nil {
		return nil, nil, err
	}
	all = append(all, Made{o, first.Ref, Prefix})
	if devel != nil && len(devel.Files) > 0 {
		if devel.Depends, err = p.system.relations(ctx, p, needs, true); err != nil {
			return nil, nil, err
		}
		devel.Depends = append([]ospackage.Relation{{Name: o.Name, Operator: "=", Version: o.Whole()}}, devel.Depends...)
		if err := p.document(devel, p.trees); err != nil {
			return nil, nil, err
		}
		all = append(all, Made{devel, first.Ref, Devel})
	}
	return all, remarks, nil
}

// add adds another build that is needed.
func (n *requires) add(o *requires) {
	for library, versions := range o.libraries {
		n.libraries[library] = slices.Compact(slices.Sorted(slices.Values(append(n.libraries[library], versions...))))
	}
	n.interpreters = slices.Compact(slices.Sorted(slices.Values(append(n.interpreters, o.interpreters...))))
	n.modules = slices.Compact(slices.Sorted(slices.Values(append(n.modules, o.modules...))))
	n.declared, n.bits = append(n.declared, o.declared...), o.bits
}

// amongOthers leaves out files that act by being where the operating system looks, and reports
// those that hide a file of the system.
func (p *packing) amongOthers(files landing.Union) landing.Union {
	if !ofAll[p.ask.Prefix] {
		return files
	}
	rules := p.rules()
	var kept landing.Union
	// Directories from which something was left out, and which contain something.
	left, has := map[string]bool{}, map[string]bool{}
	for _, e := range files {
		in := has
		switch {
		case e.Mode.IsDir():
			kept = append(kept, e)
			continue
		case !landing.Harmless(e.Build.Name, e.Path) && !slices.Contains(rules.Trusted, e.Build.Name):
			p.renamed = append(p.renamed, landing.Naming{Build: e.Build, File: e.Path, As: []string{}, Why: landing.Untrusted})
			in = left
		default:
			if theirs := rules.Behind(e.Build.Name, e.Path, e.Mode); theirs != "" {
				p.renamed = append(p.renamed, landing.Naming{Build: e.Build, File: e.Path, As: []string{e.Path},
					Why: landing.OverIt, System: theirs})
			}
			kept = append(kept, e)
		}
		for dir := path.Dir(e.Path); dir != "." && !in[dir]; dir = path.Dir(dir) {
			in[dir] = true
		}
	}
	return slices.DeleteFunc(kept, func(e landing.UnionEntry) bool {
		return e.Mode.IsDir() && left[e.Path] && !has[e.Path]
	})
}

// underPrefix adds the files to a package, or to the one for building against it.
func (p *packing) underPrefix(o, devel *ospackage.Package, files landing.Union) error {
	configs := map[string]store.Config{}
	trees, receipts := map[string]*safefs.Dir{}, map[store.Ref]*store.Receipt{}
	for _, r := range p.trees {
		receipts[r.Ref] = r
		dir, err := safefs.OpenDir(r.Tree)
		if err != nil {
			return err
		}
		defer dir.Close()
		trees[r.Tree] = dir
		for _, c := range r.Configs {
			configs[c.File] = c
		}
	}
	for dir := p.ask.Prefix; !ofAll[dir]; dir = filepath.Dir(dir) {
		o.Files = append(o.Files, ospackage.File{Path: dir, Mode: fs.ModeDir | 0o755})
	}
	for _, e := range files {
		if e.Mode.IsDir() && ofAll[p.ask.Prefix] && landing.Common(e.Path) {
			continue // every package has it
		}
		f := ospackage.File{Path: filepath.Join(p.ask.Prefix, e.Path), Mode: e.Mode, Size: e.Size, Target: e.Target,
			SHA256: e.SHA256, Open: p.opener(e.Tree, e.Path)}
		if e.Mode.IsRegular() {
			p.give(&f, trees[e.Tree], receipts[e.Build], e.Path)
		}
		if c, is := configs[e.Path]; is && e.Mode.IsRegular() {
			mode, err := c.Permissions(e.Mode.Perm())
			if err != nil {
				return err
			}
			f.Config, f.Owner, f.Group, f.Mode = true, c.Owner, c.Group, mode
		}
		to := o
		if devel != nil && development(e.File) {
			to = devel
		}
		to.Files = append(to.Files, f)
		o.Loader = o.Loader ||
			ofAll[p.ask.Prefix] && strings.HasPrefix(e.Path, "lib") && strings.Contains(path.Base(e.Path), ".so")
	}
	return nil
}

// ofAll are directories that belong to no single package.
var ofAll = map[string]bool{"/": true, "/opt": true, "/srv": true, "/home": true, "/mnt": true, "/media": true,
	"/root": true, "/var": true, "/var/lib": true,
	"/usr": true, "/usr/local": true, "/usr/lib": true, "/usr/lib64": true, "/usr/share": true, "/usr/libexec": true}

// shown are the directories whose contents people, their sessions and the system's own programs
// have to find: links are put where they look.
var shown = []string{"bin/", "sbin/", "share/man/", "share/info/", "share/applications/", "share/icons/",
	"share/pixmaps/", "share/mime/packages/", "share/metainfo/",
	"share/bash-completion/", "share/zsh/", "share/fish/", "share/dbus-1/", "lib/systemd/", "lib/sysusers.d/",
	"lib/tmpfiles.d/", "share/systemd/"}

// links adds the names of requested builds to the directory in which people look, unless that is
// the prefix.
func (p *packing) links(o *ospackage.Package, named []*store.Receipt) error {
	dir := p.m.Settings.Pack.Links
	p.profile(o, named)
	if ofAll[p.ask.Prefix] || dir == p.ask.Prefix {
		return nil
	}
	var members []landing.Member
	for _, r := range named {
		members = append(members, landing.Member{Ref: r.Ref, Asked: true})
	}
	links, err := landing.Arrange(p.m.Store, members, p.rules())
	if err != nil {
		return err
	}
	for _, name := range slices.Sorted(maps.Keys(links.Links)) {
		if isShown(name) {
			o.Files = append(o.Files,
				ospackage.File{Path: filepath.Join(dir, name), Target: filepath.Join(p.ask.Prefix, links.Links[name].Path)})
		}
	}
	p.renamed = append(p.renamed, slices.DeleteFunc(links.Named, func(n landing.Naming) bool {
		return !isShown(n.File)
	})...)
	return nil
}

func isShown(name string) bool {
	return slices.ContainsFunc(shown, func(in string) bool { return strings.HasPrefix(name, in) })
}
