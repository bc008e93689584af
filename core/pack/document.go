package pack

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"slices"
	"strings"

	"github.com/klauspost/compress/gzip"

	"fernladder/core/ospackage"
	"fernladder/core/safefs"
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
	bill, err := json.MarshalIndent(billOf(o, builds), "", " ")
	if err != nil {
		return err
	}
	add("bill-of-materials.spdx.json", append(bill, '\n'), false)
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

// bill is a bill of materials in the making (SPDX 2.3).
type bill struct {
	packages  []map[string]any
	relations []map[string]string
	known     map[store.Ref]string // builds to their identifiers
}

// billOf lists what a package is made of: builds with their sources and needs.
func billOf(o *ospackage.Package, builds []*store.Receipt) map[string]any {
	b := &bill{known: map[store.Ref]string{}}
	for i, r := range builds {
		id := "SPDXRef-Package"
		if len(builds) > 1 {
			id += fmt.Sprintf("-%d", i+1)
		}
		self := b.add(id, r.Ref)
		self["licenseDeclared"] = orElse(r.License, noAssertion)
		if len(r.Sources) > 0 {
			s := r.Sources[0]
			self["downloadLocation"] = orElse(s.URL, noAssertion)
			if s.Digest.Hex != "" && s.Commit == "" {
				self["checksums"] = []map[string]string{{"algorithm": strings.ToUpper(s.Digest.Algorithm),
					"checksumValue": s.Digest.Hex}}
			}
		}
		b.relate("SPDXRef-DOCUMENT", "DESCRIBES", id)
	}
	for _, r := range builds {
		for _, need := range r.Needs {
			id := b.known[need.Ref]
			if id == "" {
				id = fmt.Sprintf("SPDXRef-Need-%d", len(b.packages)-len(builds)+1)
				b.add(id, need.Ref)["comment"] = "build " + need.ID
			}
			b.relate(id, map[string]string{"tool": "BUILD_TOOL_OF", "runtime": "RUNTIME_DEPENDENCY_OF",
				"library": "DEPENDENCY_OF"}[string(need.Role)], b.known[r.Ref])
		}
	}
	first := builds[0].Ref
	return map[string]any{"spdxVersion": "SPDX-2.3", "dataLicense": "CC0-1.0", "SPDXID": "SPDXRef-DOCUMENT",
		"name":              o.Name + "-" + o.Whole(),
		"documentNamespace": "urn:fernladder:" + first.Name + ":" + first.Version + ":" + first.ID + ":" + o.Name,
		"creationInfo": map[string]any{"created": o.Time.Format("2006-01-02T15:04:05Z"),
			"creators": []string{"Tool: fernladder"}},
		"packages": b.packages, "relationships": b.relations}
}

func (b *bill) add(id string, r store.Ref) map[string]any {
	entry := map[string]any{"SPDXID": id, "name": r.Name, "versionInfo": r.Version, "licenseDeclared": noAssertion,
		"licenseConcluded": noAssertion, "copyrightText": noAssertion,
		"downloadLocation": noAssertion, "filesAnalyzed": false}
	b.packages, b.known[r] = append(b.packages, entry), id
	return entry
}

func (b *bill) relate(from, how, to string) {
	b.relations = append(b.relations, map[string]string{"spdxElementId": from, "relationshipType": how,
		"relatedSpdxElement": to})
}

const noAssertion = "NOASSERTION"

func orElse(text, instead string) string {
	if text == "" {
		return instead
	}
	return text
}
