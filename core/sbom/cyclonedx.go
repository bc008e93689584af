package sbom

import (
	"slices"
	"strings"

	"fernladder/core/recipe"
	"fernladder/core/store"
)

type cycloneDocument struct {
	Format       string              `json:"bomFormat"`
	Spec         string              `json:"specVersion"`
	Serial       string              `json:"serialNumber,omitempty"`
	Version      int                 `json:"version"`
	Metadata     cycloneMetadata     `json:"metadata"`
	Components   []*cycloneComponent `json:"components"`
	Dependencies []cycloneDependency `json:"dependencies"`
}

type cycloneMetadata struct {
	Timestamp string            `json:"timestamp"`
	Tools     cycloneTools      `json:"tools"`
	Component *cycloneComponent `json:"component"`
}

type cycloneTools struct {
	Components []*cycloneComponent `json:"components"`
}

type cycloneComponent struct {
	Type        string              `json:"type"`
	Ref         string              `json:"bom-ref,omitempty"`
	Name        string              `json:"name"`
	Version     string              `json:"version,omitempty"`
	Description string              `json:"description,omitempty"`
	Scope       string              `json:"scope,omitempty"`
	Hashes      []cycloneHash       `json:"hashes,omitempty"`
	Licences    []cycloneLicence    `json:"licenses,omitempty"`
	CPE         string              `json:"cpe,omitempty"`
	Purl        string              `json:"purl,omitempty"`
	Pedigree    *cyclonePedigree    `json:"pedigree,omitempty"`
	References  []cycloneReference  `json:"externalReferences,omitempty"`
	Components  []*cycloneComponent `json:"components,omitempty"`
	Properties  []cycloneProperty   `json:"properties,omitempty"`
}

type cycloneHash struct {
	Algorithm string `json:"alg"`
	Content   string `json:"content"`
}

type cycloneLicence struct {
	Expression string `json:"expression"`
}

type cyclonePedigree struct {
	Patches []cyclonePatch `json:"patches"`
}

type cyclonePatch struct {
	Type     string         `json:"type"`
	Diff     cycloneDiff    `json:"diff"`
	Resolves []cycloneIssue `json:"resolves,omitempty"`
}

type cycloneDiff struct {
	URL string `json:"url"`
}

type cycloneIssue struct {
	Type string `json:"type"`
	ID   string `json:"id"`
}

type cycloneReference struct {
	Type   string        `json:"type"`
	URL    string        `json:"url"`
	Hashes []cycloneHash `json:"hashes,omitempty"`
}

type cycloneProperty struct {
	Name  string `json:"name"`
	Value string `json:"value"`
}

type cycloneDependency struct {
	Ref       string   `json:"ref"`
	DependsOn []string `json:"dependsOn"`
}

func (b *Bill) cycloneDX() *cycloneDocument {
	tool, version, _ := strings.Cut(b.Tool, " ")
	whole := &cycloneComponent{Type: "application", Ref: "document", Name: b.Name}
	d := &cycloneDocument{Format: "CycloneDX", Spec: "1.6", Version: 1, Metadata: cycloneMetadata{b.time(),
		cycloneTools{[]*cycloneComponent{{Type: "application", Name: tool, Version: version}}}, whole},
		Components: []*cycloneComponent{}, Dependencies: []cycloneDependency{}}
	described := cycloneDependency{whole.Ref, []string{}}
	running := b.running()
	for _, p := range b.Parts {
		if p.Root {
			described.DependsOn = append(described.DependsOn, cycloneRef(p.Ref))
		}
		x := b.component(p)
		if !running[p.Ref] {
			x.Scope = "excluded" // it is needed to build only
		}
		d.Components = append(d.Components, x)
	}
	d.Dependencies = append(d.Dependencies, described)
	for _, p := range b.Parts {
		needs := cycloneDependency{cycloneRef(p.Ref), []string{}}
		for _, need := range p.Needs {
			if b.part(need.Ref) != nil {
				needs.DependsOn = append(needs.DependsOn, cycloneRef(need.Ref))
			}
		}
		for _, h := range p.Hosts {
			needs.DependsOn = append(needs.DependsOn, h.Purl())
		}
		slices.Sort(needs.DependsOn)
		needs.DependsOn = slices.Compact(needs.DependsOn)
		d.Dependencies = append(d.Dependencies, needs)
	}
	for _, h := range b.hosts() {
		d.Components = append(d.Components, &cycloneComponent{Type: "library", Ref: h.Purl(), Name: h.Name,
			Version: h.Version, Purl: h.Purl()})
	}
	d.Serial = "urn:uuid:" + uuid(d)
	return d
}

// running are the builds that are described, and those that they need for more than building.
func (b *Bill) running() map[store.Ref]bool {
	all := map[store.Ref]bool{}
	var run func(*Part)
	run = func(p *Part) {
		if p == nil || all[p.Ref] {
			return
		}
		all[p.Ref] = true
		for _, need := range p.Needs {
			if need.Role != recipe.Tool {
				run(b.part(need.Ref))
			}
		}
	}
	for _, p := range b.Parts {
		if p.Root {
			run(p)
		}
	}
	return all
}

func cycloneRef(r store.Ref) string { return "build:" + r.Name + "/" + r.Version + "/" + r.ID }

func (b *Bill) component(p *Part) *cycloneComponent {
	x := &cycloneComponent{Type: "application", Ref: cycloneRef(p.Ref), Name: p.Name, Version: p.Version,
		Description: p.Summary, Purl: p.purl()}
	if b.isLibrary(p) {
		x.Type = "library"
	}
	if p.KnownAs.CPE != "" {
		x.CPE = wholeCPE(p.KnownAs.CPE, p.Version)
	}
	if licence := p.licence(); licence != "" {
		x.Licences = []cycloneLicence{{licence}}
	}
	if p.Home != "" {
		x.References = append(x.References, cycloneReference{Type: "website", URL: p.Home})
	}
	if p.KnownAs.Git != "" {
		x.References = append(x.References, cycloneReference{Type: "vcs", URL: p.KnownAs.Git})
	}
	for _, s := range p.Sources {
		var hashes []cycloneHash
		if s.Digest.Hex != "" && s.Commit == "" {
			hashes = []cycloneHash{hashOf(s.Digest)}
		}
		from := cycloneReference{Type: "source-distribution", URL: origin(s), Hashes: hashes}
		switch {
		case s.Into != "":
			part := &cycloneComponent{Type: "library", Ref: x.Ref + "/" + s.Into, Name: s.Into, Purl: s.Purl, Hashes: hashes}
			if s.Purl != "" {
				_, part.Version = recipe.SplitPurl(s.Purl)
			}
			if from.URL != "" {
				part.References = []cycloneReference{from}
			}
			x.Components = append(x.Components, part)
		case from.URL != "":
			x.References = append(x.References, from)
		}
	}
	for _, patch := range p.Patches {
		c := cyclonePatch{Type: "unofficial", Diff: cycloneDiff{patch.File}}
		for _, id := range patch.Fixes {
			c.Resolves = append(c.Resolves, cycloneIssue{"security", id})
		}
		if x.Pedigree == nil {
			x.Pedigree = &cyclonePedigree{}
		}
		x.Pedigree.Patches = append(x.Pedigree.Patches, c)
	}
	for _, f := range p.Files {
		x.Components = append(x.Components, &cycloneComponent{Type: "file", Name: f.Path,
			Hashes: []cycloneHash{{"SHA-1", f.SHA1}, {"SHA-256", f.SHA256}}})
	}
	add := func(name, value string) {
		if value != "" {
			x.Properties = append(x.Properties, cycloneProperty{"fernladder:" + name, value})
		}
	}
	add("build", p.ID)
	add("compiler", p.Compiler)
	add("isolation", p.Isolation)
	for _, option := range store.Settings(p.Chosen) {
		add("option", option)
	}
	return x
}

func hashOf(d recipe.Digest) cycloneHash {
	return cycloneHash{map[string]string{"sha256": "SHA-256", "sha512": "SHA-512"}[d.Algorithm], d.Hex}
}
