package pack

import (
	"bytes"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"slices"
	"strings"

	"github.com/klauspost/compress/gzip"

	"fernladder/core/ospackage"
	"fernladder/core/safefs"
	"fernladder/core/sbom"
	"fernladder/core/store"
)

// document adds information about the package and its builds: licences, origins, a bill of
// materials, and receipts if the package does not contain the trees that have them.
func (p *packing) document(o *ospackage.Package, builds []*store.Receipt) error {
	dir := "/usr/share/doc/" + o.Name
	add := func(name string, data []byte, license bool) {
		file := ospackage.Holding(dir+"/"+name, data)
		file.Doc, file.License = true, license
		o.Files = append(o.Files, file)
	}
	o.Files = append(o.Files, ospackage.File{Path: dir, Mode: fs.ModeDir | 0o755})
	text := "Built from source by Fern Ladder.\n"
	for _, r := range builds {
		licences, err := licencesOf(r)
		if err != nil {
			return err
		}
		text += "\n" + licences
	}
	add("copyright", []byte(text), true)
	if p.ask.Format == ospackage.Deb {
		add("changelog.Debian.gz", debChangelog(o), false)
	}
	parts, err := sbom.Gather(p.m.Store, builds)
	if err != nil {
		return err
	}
	bill := &sbom.Bill{Name: o.Name + "-" + o.Whole(), Tool: "fernladder", Parts: parts}
	for _, format := range sbom.Formats {
		data, err := bill.Write(format)
		if err != nil {
			return err
		}
		add("bill-of-materials."+format.Extension(), data, false)
	}
	if p.ask.Prefix == "" {
		return nil
	}
	o.Files = append(o.Files, ospackage.File{Path: dir + "/receipts", Mode: fs.ModeDir | 0o755})
	for _, r := range builds {
		receipt, err := ownFile(r, store.OwnFiles()[0])
		if err != nil {
			return err
		}
		add("receipts/"+r.Ref.String()+".json", receipt, false)
	}
	return nil
}

// ownFile reads a record that a tree has of itself.
func ownFile(r *store.Receipt, name string) ([]byte, error) {
	dir, err := safefs.OpenDir(r.Tree)
	if err != nil {
		return nil, err
	}
	defer dir.Close()
	const most = 64 << 20
	return dir.ReadFile(name, most)
}

// licencesOf returns the origin and licence of a build, with the licence texts of its source.
// They have to be unchanged since the build.
func licencesOf(r *store.Receipt) (string, error) {
	text := r.Name + " " + r.Version + "\n"
	for _, s := range r.Sources {
		if s.URL != "" {
			text += "Source: " + s.URL + "\n"
		}
	}
	text += "Licence: " + orElse(r.License, "not stated in its recipe") + "\nCopyright: the authors of " + r.Name +
		"; its source says who they are\n"
	for _, l := range r.Licences {
		data, err := ownFile(r, l.Path())
		if err != nil || l.SHA256 != store.Digest(data) {
			return "", &ospackage.Changed{Files: []string{r.Tree + "/" + l.Path()}}
		}
		text += "\n--- " + l.File + " of " + r.Name + "\n\n" + strings.TrimRight(strings.ToValidUTF8(string(data), "?"),
			"\n") + "\n"
	}
	return text, nil
}

// changesOf describes a build, so that a comparison of two packages shows the differences.
func changesOf(r *store.Receipt) []string {
	lines := []string{fmt.Sprintf("%s %s, build %s", r.Name, r.Version, r.ID)}
	for _, option := range slices.Sorted(maps.Keys(r.Chosen)) {
		lines = append(lines, "option "+option+" = "+r.Chosen[option])
	}
	for _, patch := range r.Patches {
		lines = append(lines, "patch "+patch.File)
	}
	for _, need := range r.Needs {
		lines = append(lines, fmt.Sprintf("with %s %s, build %s", need.Name, need.Version, need.ID))
	}
	return lines
}

func debChangelog(o *ospackage.Package) []byte {
	text := ""
	for _, c := range o.Changes {
		text += fmt.Sprintf("%s (%s) stable; urgency=medium\n\n  * %s\n\n -- %s  %s\n", o.Name, c.Version,
			strings.Join(c.Lines, "\n  * "), c.By, c.Time.Format("Mon, 02 Jan 2006 15:04:05 -0700"))
	}
	var packed bytes.Buffer
	z, _ := gzip.NewWriterLevel(&packed, gzip.BestCompression)
	io.WriteString(z, text)
	z.Close()
	return packed.Bytes()
}

func orElse(text, instead string) string {
	if text == "" {
		return instead
	}
	return text
}
