package sbom

import (
	"crypto/sha1"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"

	"fernladder/core/recipe"
	"fernladder/core/store"
)

const (
	noAssertion = "NOASSERTION"
	document    = "SPDXRef-DOCUMENT"
)

type spdxDocument struct {
	Version   string         `json:"spdxVersion"`
	Licence   string         `json:"dataLicense"`
	ID        string         `json:"SPDXID"`
	Name      string         `json:"name"`
	Namespace string         `json:"documentNamespace"`
	Creation  spdxCreation   `json:"creationInfo"`
	Packages  []*spdxPackage `json:"packages"`
	Files     []spdxFile     `json:"files,omitempty"`
	Relations []spdxRelation `json:"relationships"`
}

type spdxCreation struct {
	Created  string   `json:"created"`
	Creators []string `json:"creators"`
}

type spdxPackage struct {
	ID        string          `json:"SPDXID"`
	Name      string          `json:"name"`
	Version   string          `json:"versionInfo,omitempty"`
	Purpose   string          `json:"primaryPackagePurpose,omitempty"`
	Location  string          `json:"downloadLocation"`
	Analyzed  bool            `json:"filesAnalyzed"`
	Verified  *spdxVerified   `json:"packageVerificationCode,omitempty"`
	Checksums []spdxChecksum  `json:"checksums,omitempty"`
	Home      string          `json:"homepage,omitempty"`
	Summary   string          `json:"summary,omitempty"`
	Declared  string          `json:"licenseDeclared"`
	Concluded string          `json:"licenseConcluded"`
	Copyright string          `json:"copyrightText"`
	Elsewhere []spdxReference `json:"externalRefs,omitempty"`
	Comment   string          `json:"comment,omitempty"`
}

type spdxVerified struct {
	Value string `json:"packageVerificationCodeValue"`
}

type spdxChecksum struct {
	Algorithm string `json:"algorithm"`
	Value     string `json:"checksumValue"`
}

type spdxReference struct {
	Category string `json:"referenceCategory"`
	Type     string `json:"referenceType"`
	Locator  string `json:"referenceLocator"`
}

type spdxFile struct {
	ID        string         `json:"SPDXID"`
	Name      string         `json:"fileName"`
	Checksums []spdxChecksum `json:"checksums"`
	Concluded string         `json:"licenseConcluded"`
	Copyright string         `json:"copyrightText"`
	Comment   string         `json:"comment,omitempty"`
}

type spdxRelation struct {
	From string `json:"spdxElementId"`
	How  string `json:"relationshipType"`
	To   string `json:"relatedSpdxElement"`
}

func (b *Bill) spdx() *spdxDocument {
	d := &spdxDocument{Version: "SPDX-2.3", Licence: "CC0-1.0", ID: document, Name: b.Name,
		Creation:  spdxCreation{b.time(), []string{"Tool: " + strings.ReplaceAll(b.Tool, " ", "-")}},
		Relations: []spdxRelation{}, Packages: []*spdxPackage{}}
	for _, p := range b.Parts {
		d.build(p)
	}
	for _, p := range b.Parts {
		if p.Root {
			d.relate(document, "DESCRIBES", buildID(p.Ref))
		}
		for _, need := range p.Needs {
			if b.part(need.Ref) == nil {
				continue
			}
			how := map[recipe.Role]string{recipe.Tool: "BUILD_TOOL_OF", recipe.Runtime: "RUNTIME_DEPENDENCY_OF",
				recipe.Library: "DEPENDENCY_OF"}[need.Role]
			d.relate(buildID(need.Ref), how, buildID(p.Ref))
		}
		for _, h := range p.Hosts {
			d.relate(hostID(h), "DEPENDENCY_OF", buildID(p.Ref))
		}
	}
	for _, h := range b.hosts() {
		x := newPackage(hostID(h), h.Name, h.Version)
		x.Elsewhere = []spdxReference{{"PACKAGE-MANAGER", "purl", h.Purl()}}
		d.Packages = append(d.Packages, x)
	}
	d.Namespace = "urn:uuid:" + uuid(d)
	return d
}

func newPackage(id, name, version string) *spdxPackage {
	return &spdxPackage{ID: id, Name: name, Version: version, Location: noAssertion, Declared: noAssertion,
		Concluded: noAssertion, Copyright: noAssertion}
}

func (d *spdxDocument) relate(from, how, to string) {
	d.Relations = append(d.Relations, spdxRelation{from, how, to})
}

// build adds a build, its sources, patches and files.
func (d *spdxDocument) build(p *Part) {
	id := buildID(p.Ref)
	x := newPackage(id, p.Name, p.Version)
	x.Summary, x.Home = p.Summary, p.Home
	if licence := p.licence(); licence != "" {
		x.Declared = licence
	}
	x.Elsewhere = []spdxReference{{"PACKAGE-MANAGER", "purl", p.purl()}}
	if p.KnownAs.CPE != "" {
		x.Elsewhere = append(x.Elsewhere, spdxReference{"SECURITY", "cpe23Type", wholeCPE(p.KnownAs.CPE, p.Version)})
	}
	var comment []string
	if p.ID != "" {
		comment = append(comment, "build "+p.ID)
	}
	if options := store.Settings(p.Chosen); len(options) > 0 {
		comment = append(comment, "options "+strings.Join(options, " "))
	}
	x.Comment = strings.Join(comment, ", ")
	d.Packages = append(d.Packages, x)
	source := ""
	for i, s := range p.Sources {
		at := fmt.Sprintf("%s-source-%d", id, i+1)
		from := newPackage(at, p.Name, p.Version)
		how := "GENERATED_FROM"
		if s.Into != "" {
			from.Name, from.Version, how = s.Into, "", "CONTAINS"
			if s.Purl != "" {
				_, from.Version = recipe.SplitPurl(s.Purl)
				from.Elsewhere = []spdxReference{{"PACKAGE-MANAGER", "purl", s.Purl}}
			}
		} else {
			source = at
		}
		from.Purpose = "SOURCE"
		if url := origin(s); url != "" {
			from.Location = url
		}
		if s.Digest.Hex != "" && s.Commit == "" {
			from.Checksums = []spdxChecksum{{strings.ToUpper(s.Digest.Algorithm), s.Digest.Hex}}
		}
		d.Packages = append(d.Packages, from)
		d.relate(id, how, at)
	}
	for i, patch := range p.Patches {
		at := fmt.Sprintf("%s-patch-%d", id, i+1)
		comment := ""
		if len(patch.Fixes) > 0 {
			comment = "fixes " + strings.Join(patch.Fixes, ", ")
		}
		d.Files = append(d.Files, spdxFile{at, "./" + patch.File, []spdxChecksum{{strings.ToUpper(patch.Digest.Algorithm),
			patch.Digest.Hex}}, noAssertion, noAssertion, comment})
		if source != "" {
			d.relate(at, "PATCH_APPLIED", source)
		}
	}
	if len(p.Files) == 0 {
		return
	}
	var sums []string
	for i, f := range p.Files {
		at := fmt.Sprintf("%s-file-%d", id, i+1)
		d.Files = append(d.Files, spdxFile{at, "./" + f.Path, []spdxChecksum{{"SHA1", f.SHA1}, {"SHA256", f.SHA256}},
			noAssertion, noAssertion, ""})
		d.relate(id, "CONTAINS", at)
		sums = append(sums, f.SHA1)
	}
	slices.Sort(sums) // SPDX 2.3, 7.9
	sum := sha1.Sum([]byte(strings.Join(sums, "")))
	x.Analyzed, x.Verified = true, &spdxVerified{hex.EncodeToString(sum[:])}
}

// spdxName is text in an identifier, which has letters, digits, dots and hyphens.
func spdxName(text string) string {
	return strings.Map(func(c rune) rune {
		if 'a' <= c && c <= 'z' || 'A' <= c && c <= 'Z' || '0' <= c && c <= '9' || c == '.' || c == '-' {
			return c
		}
		return '-'
	}, text)
}

func buildID(r store.Ref) string { return "SPDXRef-" + spdxName(r.Name+"-"+r.Version+"-"+r.ID) }

func hostID(h HostPackage) string { return "SPDXRef-host-" + spdxName(h.Name+"-"+h.Version) }

// wholeCPE is a CPE name with a version and all its components.
func wholeCPE(cpe, version string) string {
	const components = 13
	parts := strings.Split(cpe, ":")
	for len(parts) < components {
		parts = append(parts, "*")
	}
	var escaped strings.Builder
	for _, c := range []byte(version) {
		if strings.IndexByte("+!\"#$%&'()*,/:;<=>@[]^`{|}~", c) >= 0 {
			escaped.WriteByte('\\')
		}
		escaped.WriteByte(c)
	}
	parts[5] = escaped.String()
	return strings.Join(parts, ":")
}
