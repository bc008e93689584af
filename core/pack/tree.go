package pack

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"io/fs"
	"os/user"
	"path"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/klauspost/compress/gzip"

	"fernladder/core/ground"
	"fernladder/core/ospackage"
	"fernladder/core/recipe"
	"fernladder/core/store"
)

// tree makes the packages of a tree: it, what of it is for building against it, and the
// files that the administrator edits.
func (p *packing) tree(ctx context.Context, r *store.Receipt) ([]Made, error) {
	o, err := p.begin(r, r.ID, "", r.Machine.Arch)
	if err != nil {
		return nil, err
	}
	o.Description = fmt.Sprintf("Built by Fern Ladder: %s %s, build %s,\nas it was tried, in\n%s", r.Name, r.Version, r.ID, r.Tree)
	all := []Made{{o, r.Ref, Tree}}
	dir, err := ground.OpenDir(r.Tree)
	if err != nil {
		return nil, err
	}
	defer dir.Close()
	var devel *ospackage.Package
	if p.ask.Split {
		if devel, err = p.begin(r, r.ID, map[ospackage.Format]string{ospackage.Deb: "dev", ospackage.RPM: "devel"}[p.ask.Format], r.Machine.Arch); err != nil {
			return nil, err
		}
		devel.Summary, devel.Description = o.Summary+", to build against", "Headers and the like of "+r.Name+" "+r.Version+", build "+r.ID+"."
	}
	for dir := r.Tree; dir != filepath.Dir(p.m.Store.Root); dir = filepath.Dir(dir) { // it has them to itself, or with others of us
		o.Files = append(o.Files, ospackage.File{Path: dir, Mode: fs.ModeDir | 0o755})
	}
	for _, f := range p.files[r.Ref] {
		to := o
		if devel != nil && development(f) {
			to = devel
		}
		to.Files = append(to.Files, p.file(dir, r, f))
	}
	if err := p.own(o, r); err != nil {
		return nil, err
	}
	if o.Depends, err = p.system.relations(ctx, p, p.needs[r.Ref], false); err != nil {
		return nil, err
	}
	for _, need := range r.Needs {
		if p.files[need.Ref] == nil || need.Role == recipe.Tool {
			continue
		}
		relation, err := p.exactly(need.Ref)
		if err != nil {
			return nil, err
		}
		o.Depends = append(o.Depends, relation)
	}
	if len(r.Configs) > 0 {
		c, err := p.configs(r)
		if err != nil {
			return nil, err
		}
		all = append(all, Made{c, r.Ref, Config})
		o.Depends = append(o.Depends, ospackage.Relation{Name: c.Name})
	}
	p.document(o, r)
	if devel != nil && len(devel.Files) > 0 {
		self, err := p.exactly(r.Ref)
		if err != nil {
			return nil, err
		}
		if devel.Depends, err = p.system.relations(ctx, p, p.needs[r.Ref], true); err != nil {
			return nil, err
		}
		devel.Depends = append([]ospackage.Relation{self}, devel.Depends...)
		p.document(devel, r)
		all = append(all, Made{devel, r.Ref, Devel})
	}
	return all, nil
}

// development tells whether a file is only for building against a package.
func development(f store.File) bool {
	dir, base := path.Split(f.Path)
	switch {
	case f.Mode.IsDir():
		return f.Path == "include" || strings.HasPrefix(f.Path, "include/") || f.Path == "lib/pkgconfig" || f.Path == "lib/cmake" || strings.HasPrefix(f.Path, "lib/cmake/")
	case strings.HasPrefix(f.Path, "include/"), strings.HasPrefix(f.Path, "lib/cmake/"), dir == "lib/pkgconfig/", dir == "share/pkgconfig/", dir == "share/aclocal/", strings.HasPrefix(f.Path, "share/man/man3/"):
		return true
	}
	return dir == "lib/" && (strings.HasSuffix(base, ".a") || strings.HasSuffix(base, ".la") || strings.HasSuffix(base, ".so") && f.Target != "")
}

// file is a file of a tree, as it has to be.
func (p *packing) file(dir *ground.Dir, r *store.Receipt, f store.File) ospackage.File {
	o := ospackage.File{Path: filepath.Join(r.Tree, f.Path), Mode: f.Mode, Size: f.Size, Target: f.Target, SHA256: f.SHA256, Open: p.opener(r.Tree, f.Path)}
	if f.Mode.IsRegular() {
		o.Owner, o.Group = p.owners(dir, f.Path)
	}
	return o
}

// owners are whom a file belongs to, by their names, where root has given it to them
// because its recipe says so. All else is root's.
func (p *packing) owners(dir *ground.Dir, file string) (owner, group string) {
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

// opener opens a file beneath its tree: a link that somebody has put in its place is none.
func (p *packing) opener(tree, file string) func() (io.ReadCloser, error) {
	return func() (io.ReadCloser, error) {
		dir, err := ground.OpenDir(tree)
		if err != nil {
			return nil, err
		}
		defer dir.Close()
		return dir.Open(file)
	}
}

// own adds the tree's own records, which its list of files does not have.
func (p *packing) own(o *ospackage.Package, r *store.Receipt) error {
	dir, err := ground.OpenDir(r.Tree)
	if err != nil {
		return err
	}
	defer dir.Close()
	for d := path.Dir(store.OwnFiles()[0]); d != "."; d = path.Dir(d) {
		o.Files = append(o.Files, ospackage.File{Path: filepath.Join(r.Tree, d), Mode: fs.ModeDir | 0o755})
	}
	for _, name := range store.OwnFiles() {
		info, err := dir.Lstat(name)
		if err != nil {
			return err
		}
		o.Files = append(o.Files, ospackage.File{Path: filepath.Join(r.Tree, name), Mode: 0o644, Size: info.Size, Doc: true, Open: p.opener(r.Tree, name)})
	}
	return nil
}

// configs is the package of the files that the administrator edits. Builds of one package
// have them together, so they are no part of a tree's.
func (p *packing) configs(r *store.Receipt) (*ospackage.Package, error) {
	o, err := p.begin(r, "", "config", "")
	if err != nil {
		return nil, err
	}
	o.Summary, o.Description = r.Summary+", configuration", "The files by which "+r.Name+" is configured. What is edited stays."
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
	for dir := filepath.Join(p.m.Store.Root, "config", r.Name); dir != filepath.Dir(p.m.Store.Root); dir = filepath.Dir(dir) {
		o.Files = append(o.Files, ospackage.File{Path: dir, Mode: fs.ModeDir | 0o755})
	}
	p.document(o, r)
	return o, nil
}

// document adds what packages say of themselves: the licence, where they are from, what
// changed, and a bill of materials.
func (p *packing) document(o *ospackage.Package, r *store.Receipt) {
	dir := "/usr/share/doc/" + o.Name
	add := func(name string, data []byte, license bool) {
		o.Files = append(o.Files, ospackage.File{Path: dir + "/" + name, Mode: 0o644, Size: int64(len(data)), Doc: !license, License: license,
			Open: func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(data)), nil }})
	}
	o.Files = append(o.Files, ospackage.File{Path: dir, Mode: fs.ModeDir | 0o755})
	text := r.Name + " " + r.Version + ", built from source by Fern Ladder.\n\n"
	for _, s := range r.Sources {
		if s.URL != "" {
			text += "Source: " + s.URL + "\n"
			break
		}
	}
	license := r.License
	if license == "" {
		license = "unspecified"
	}
	text += "Copyright: the authors of " + r.Name + ", as its source says\nLicence: " + license + "\n"
	add("copyright", []byte(text), true)
	if p.ask.Format == ospackage.Deb {
		add("changelog.Debian.gz", debChangelog(o), false)
	}
	if bill, err := json.MarshalIndent(billOf(o, r), "", " "); err == nil {
		add("bill-of-materials.spdx.json", append(bill, '\n'), false)
	}
}

func debChangelog(o *ospackage.Package) []byte {
	text := ""
	for _, c := range o.Changes {
		text += fmt.Sprintf("%s (%s) stable; urgency=medium\n\n  * %s\n\n -- %s  %s\n", o.Name, c.Version, strings.Join(c.Lines, "\n  * "), c.By, c.Time.Format("Mon, 02 Jan 2006 15:04:05 -0700"))
	}
	var packed bytes.Buffer
	z, _ := gzip.NewWriterLevel(&packed, gzip.BestCompression)
	io.WriteString(z, text)
	z.Close()
	return packed.Bytes()
}

// billOf is what a package is made of (SPDX 2.3): its source, and the builds it needs.
func billOf(o *ospackage.Package, r *store.Receipt) map[string]any {
	self := map[string]any{"SPDXID": "SPDXRef-Package", "name": r.Name, "versionInfo": r.Version, "licenseDeclared": orNone(r.License), "licenseConcluded": "NOASSERTION", "copyrightText": "NOASSERTION",
		"downloadLocation": "NOASSERTION", "filesAnalyzed": false}
	if len(r.Sources) > 0 {
		s := r.Sources[0]
		self["downloadLocation"] = orNone(s.URL)
		if s.Digest.Hex != "" && s.Commit == "" {
			self["checksums"] = []map[string]string{{"algorithm": strings.ToUpper(s.Digest.Algorithm), "checksumValue": s.Digest.Hex}}
		}
	}
	packages := []map[string]any{self}
	relations := []map[string]string{{"spdxElementId": "SPDXRef-DOCUMENT", "relationshipType": "DESCRIBES", "relatedSpdxElement": "SPDXRef-Package"}}
	for i, need := range r.Needs {
		id := fmt.Sprintf("SPDXRef-Need-%d", i+1)
		packages = append(packages, map[string]any{"SPDXID": id, "name": need.Name, "versionInfo": need.Version, "downloadLocation": "NOASSERTION", "filesAnalyzed": false, "licenseConcluded": "NOASSERTION", "licenseDeclared": "NOASSERTION", "copyrightText": "NOASSERTION", "comment": "build " + need.ID})
		kind := map[string]string{"tool": "BUILD_TOOL_OF", "runtime": "RUNTIME_DEPENDENCY_OF", "library": "DEPENDENCY_OF"}[string(need.Role)]
		relations = append(relations, map[string]string{"spdxElementId": id, "relationshipType": kind, "relatedSpdxElement": "SPDXRef-Package"})
	}
	return map[string]any{"spdxVersion": "SPDX-2.3", "dataLicense": "CC0-1.0", "SPDXID": "SPDXRef-DOCUMENT", "name": o.Name + "-" + o.Whole(),
		"documentNamespace": "urn:fernladder:" + r.Name + ":" + r.Version + ":" + r.ID + ":" + o.Name, "creationInfo": map[string]any{"created": o.Time.Format("2006-01-02T15:04:05Z"), "creators": []string{"Tool: fernladder"}},
		"packages": packages, "relationships": relations}
}

func orNone(text string) string {
	if text == "" {
		return "NOASSERTION"
	}
	return text
}
