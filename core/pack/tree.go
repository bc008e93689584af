package pack

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"io/fs"
	"os/user"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"fernladder/core/landing"
	"fernladder/core/ospackage"
	"fernladder/core/recipe"
	"fernladder/core/safefs"
	"fernladder/core/store"
	"fernladder/core/subprocess"
)

// tree makes the packages of a tree: itself, the part for building against it, and the files
// that the administrator edits.
func (p *packing) tree(ctx context.Context, r *store.Receipt) ([]Made, error) {
	o, err := p.begin(r, r.ID, "", r.Machine.Arch)
	if err != nil {
		return nil, err
	}
	o.Description = fmt.Sprintf("Built by Fern Ladder: %s %s, build %s,\nas it was tried, in\n%s", r.Name, r.Version,
		r.ID, r.Tree)
	all := []Made{{o, r.Ref, Tree}}
	dir, err := safefs.OpenDir(r.Tree)
	if err != nil {
		return nil, err
	}
	defer dir.Close()
	devel := p.develOf(o, r.Name+" "+r.Version+", build "+r.ID)
	// The directory is its own, or shared with others of ours.
	for dir := r.Tree; dir != filepath.Dir(p.m.Store.Root); dir = filepath.Dir(dir) {
		o.Files = append(o.Files, ospackage.File{Path: dir, Mode: fs.ModeDir | 0o755})
	}
	for _, f := range p.files[r.Ref] {
		to := o
		if devel != nil && development(f) {
			to = devel
		}
		to.Files = append(to.Files, p.file(dir, r, f))
	}
	if err := p.own(o, dir, r); err != nil {
		return nil, err
	}
	if o.Depends, err = p.system.relations(ctx, p, p.needs[r.Ref], false); err != nil {
		return nil, err
	}
	for _, need := range r.Needs {
		needs := p.needs[r.Ref]
		if p.files[need.Ref] == nil || need.Role == recipe.Tool && !needs.tools[need.Ref] {
			continue
		}
		relation, err := p.exactly(need.Ref)
		if err != nil {
			return nil, err
		}
		o.Depends = append(o.Depends, relation)
	}
	p.declared(o, r)
	if len(r.Configs)+len(r.Writable) > 0 {
		c, err := p.configs(r)
		if err != nil {
			return nil, err
		}
		all = append(all, Made{c, r.Ref, Config})
		o.Depends = append(o.Depends, ospackage.Relation{Name: c.Name})
	}
	if err := p.document(o, []*store.Receipt{r}); err != nil {
		return nil, err
	}
	if devel != nil && len(devel.Files) > 0 {
		self, err := p.exactly(r.Ref)
		if err != nil {
			return nil, err
		}
		if devel.Depends, err = p.system.relations(ctx, p, p.needs[r.Ref], true); err != nil {
			return nil, err
		}
		devel.Depends = append([]ospackage.Relation{self}, devel.Depends...)
		if err := p.document(devel, []*store.Receipt{r}); err != nil {
			return nil, err
		}
		all = append(all, Made{devel, r.Ref, Devel})
	}
	return all, nil
}

// develOf is the empty package for building against another; nil if it is not requested.
func (p *packing) develOf(o *ospackage.Package, of string) *ospackage.Package {
	if !p.ask.Split {
		return nil
	}
	devel := *o
	devel.Name += map[ospackage.Format]string{ospackage.Deb: "-dev", ospackage.RPM: "-devel"}[p.ask.Format]
	devel.Summary, devel.Description = o.Summary+", to build against", "Headers and the like of "+of+"."
	devel.Files, devel.Depends = nil, nil
	return &devel
}

// development reports whether a file is only for building against a package.
func development(f store.File) bool {
	dir, base := path.Split(f.Path)
	switch {
	case f.Mode.IsDir():
		return f.Path == "include" || strings.HasPrefix(f.Path, "include/") || f.Path == "lib/pkgconfig" ||
			f.Path == "lib/cmake" || strings.HasPrefix(f.Path, "lib/cmake/")
	case strings.HasPrefix(f.Path, "include/"), strings.HasPrefix(f.Path, "lib/cmake/"), dir == "lib/pkgconfig/",
		dir == "share/pkgconfig/", dir == "share/aclocal/", strings.HasPrefix(f.Path, "share/man/man3/"):
		return true
	}
	return dir == "lib/" && (strings.HasSuffix(base, ".a") || strings.HasSuffix(base, ".la") ||
		strings.HasSuffix(base, ".so") && f.Target != "")
}

// file is a file of a tree, in the form for a package.
func (p *packing) file(dir *safefs.Dir, r *store.Receipt, f store.File) ospackage.File {
	o := ospackage.File{Path: filepath.Join(r.Tree, f.Path), Mode: f.Mode, Size: f.Size, Target: f.Target,
		SHA256: f.SHA256, Open: p.opener(r.Tree, f.Path)}
	if f.Mode.IsRegular() {
		p.give(&o, dir, r, f.Path)
	}
	if !landing.Entry(f.Path) {
		return o
	}
	// Machines that install the package have no landing.
	if data, err := dir.ReadFile(f.Path, store.LargestEntry); err == nil && store.Digest(data) == f.SHA256 {
		text := bytes.ReplaceAll(data, []byte(p.m.Store.InUse(r.Name)), []byte(r.Tree))
		o.Size, o.SHA256 = int64(len(text)), store.Digest(text)
		o.Open = func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(text)), nil }
	}
	return o
}

// give sets the owner of a file to the one in the recipe.
func (p *packing) give(o *ospackage.File, dir *safefs.Dir, r *store.Receipt, file string) {
	i := slices.IndexFunc(r.Owned, func(owned store.Owned) bool { return owned.File == file })
	if i < 0 {
		o.Owner, o.Group = p.owners(dir, file)
		return
	}
	o.Owner, o.Group = r.Owned[i].Owner, r.Owned[i].Group
	if mode, err := recipe.FileMode(r.Owned[i].Mode); err == nil && r.Owned[i].Mode != "" {
		o.Mode = mode
	}
}

// declared adds the system users and directories that a build declares, to be created at
// installation.
func (p *packing) declared(o *ospackage.Package, r *store.Receipt) {
	for _, file := range r.Declares {
		program, how := "systemd-sysusers", ""
		if strings.HasPrefix(file, "lib/tmpfiles.d/") {
			program, how = "systemd-tmpfiles", "--create "
		}
		o.After += fmt.Sprintf("f=%s\nif command -v %[2]s >/dev/null; then %[2]s %[3]s\"$f\"; else echo \"%[4]s: there is "+
			"no %[2]s, so $f had no effect\" >&2; fi\n", subprocess.Quoted(filepath.Join(r.At(), file)), program, how, o.Name)
	}
	if o.After != "" && !slices.ContainsFunc(o.Depends, func(d ospackage.Relation) bool { return d.Name == "/bin/sh" }) &&
		p.ask.Format == ospackage.RPM {
		o.Depends = append(o.Depends, ospackage.Relation{Name: "/bin/sh"})
	}
}

// owners are the owner and group of a file, by name, if root has set them because its recipe
// says so. Everything else belongs to root.
func (p *packing) owners(dir *safefs.Dir, file string) (owner, group string) {
	if !p.m.Place.Super {
		return "", ""
	}
	info, err := dir.Lstat(file)
	if err != nil {
		return "", ""
	}
	if info.UID != 0 {
		if u, err := user.LookupId(strconv.Itoa(info.UID)); err == nil {
			owner = u.Username
		}
	}
	if info.GID != 0 && p.m.Store.Access == nil {
		if g, err := user.LookupGroupId(strconv.Itoa(info.GID)); err == nil {
			group = g.Name
		}
	}
	return owner, group
}

// opener opens a file beneath its tree: it refuses a link.
func (p *packing) opener(tree, file string) func() (io.ReadCloser, error) {
	return func() (io.ReadCloser, error) {
		dir, err := safefs.OpenDir(tree)
		if err != nil {
			return nil, err
		}
		defer dir.Close()
		return dir.Open(file)
	}
}

// own adds the tree's own records, which its list of files does not include.
func (p *packing) own(o *ospackage.Package, dir *safefs.Dir, r *store.Receipt) error {
	for d := path.Dir(store.OwnFiles()[0]); d != "."; d = path.Dir(d) {
		o.Files = append(o.Files, ospackage.File{Path: filepath.Join(r.Tree, d), Mode: fs.ModeDir | 0o755})
	}
	for _, name := range store.OwnFiles() {
		info, err := dir.Lstat(name)
		if err != nil {
			return err
		}
		o.Files = append(o.Files, ospackage.File{Path: filepath.Join(r.Tree, name), Mode: 0o644, Size: info.Size, Doc: true,
			Open: p.opener(r.Tree, name)})
	}
	for i, l := range r.Licences {
		if i == 0 {
			o.Files = append(o.Files, ospackage.File{Path: filepath.Join(r.Tree, path.Dir(l.Path())), Mode: fs.ModeDir | 0o755})
		}
		info, err := dir.Lstat(l.Path())
		if err != nil {
			return err
		}
		o.Files = append(o.Files, ospackage.File{Path: filepath.Join(r.Tree, l.Path()), Mode: 0o644, Size: info.Size,
			SHA256: l.SHA256, License: true, Open: p.opener(r.Tree, l.Path())})
	}
	return nil
}

// configs is the package of the files that the administrator edits. Builds of one package share
// them, so they are not part of a tree's package.
func (p *packing) configs(r *store.Receipt) (*ospackage.Package, error) {
	o, err := p.begin(r, "", "config", "")
	if err != nil {
		return nil, err
	}
	o.Summary, o.Description = r.Summary+", configuration", "The configuration files of "+r.Name+". Edited files stay."
	for _, c := range r.Configs {
		sample := c.Sample
		mode := fs.FileMode(0o644)
		f := ospackage.File{Path: p.m.Store.ConfigFile(r.Name, c.File), Config: true, Owner: c.Owner, Group: c.Group}
		for _, listed := range p.files[r.Ref] {
			if listed.Path == sample {
				mode, f.Size, f.SHA256 = listed.Mode.Perm(), listed.Size, listed.SHA256
			}
		}
		if f.Mode, err = c.Permissions(mode); err != nil {
			return nil, err
		}
		f.Open = p.opener(r.Tree, sample)
		o.Files = append(o.Files, f)
	}
	for _, c := range r.Writable {
		mode, err := c.Permissions(0o755)
		if err != nil {
			return nil, err
		}
		at := p.m.Store.StateDir(r.Name, c.File)
		o.Files = append(o.Files, ospackage.File{Path: at, Mode: fs.ModeDir | mode, Owner: c.Owner, Group: c.Group})
		for dir := filepath.Dir(at); dir != p.m.Store.Root; dir = filepath.Dir(dir) {
			if !slices.ContainsFunc(o.Files, func(f ospackage.File) bool { return f.Path == dir }) {
				o.Files = append(o.Files, ospackage.File{Path: dir, Mode: fs.ModeDir | 0o755})
			}
		}
	}
	for dir := filepath.Join(p.m.Store.Root, "config",
		r.Name); dir != filepath.Dir(p.m.Store.Root); dir = filepath.Dir(dir) {
		o.Files = append(o.Files, ospackage.File{Path: dir, Mode: fs.ModeDir | 0o755})
	}
	return o, p.document(o, []*store.Receipt{r})
}
