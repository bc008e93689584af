package session

import (
	"cmp"
	"encoding/hex"
	"encoding/json"
	"slices"
	"strings"

	"github.com/zeebo/blake3"

	"fernladder/core/recipe"
	"fernladder/core/store"
)

// VEX is an OpenVEX document (https://github.com/openvex/spec, 0.2.0).
type VEX struct {
	Context    string         `json:"@context"`
	ID         string         `json:"@id"`
	Author     string         `json:"author"`
	Timestamp  string         `json:"timestamp"`
	Version    int            `json:"version"`
	Tooling    string         `json:"tooling"`
	Statements []VEXStatement `json:"statements"`
}

// A VEXStatement says what a hole means for a product.
type VEXStatement struct {
	Vulnerability VEXVulnerability `json:"vulnerability"`
	Products      []VEXProduct     `json:"products"`
	Status        string           `json:"status"`
	Impact        string           `json:"impact_statement,omitempty"` // of not_affected
	Action        string           `json:"action_statement,omitempty"` // of affected
}

// VEXVulnerability names a hole.
type VEXVulnerability struct {
	Name    string   `json:"name"`
	Aliases []string `json:"aliases,omitempty"`
}

// VEXProduct is a package URL.
type VEXProduct struct {
	ID string `json:"@id"`
}

// VEX is a report as an OpenVEX document. The same report gives the same document: its time is
// the latest of the databases.
func (s *Session) VEX(r *AdvisoriesReport) *VEX {
	v := &VEX{Context: "https://openvex.dev/ns/v0.2.0", Author: cmp.Or(s.Settings.Pack.Maintainer, "fernladder"),
		Version: 1, Tooling: "fernladder", Statements: []VEXStatement{}, Timestamp: "1970-01-01T00:00:00Z"}
	for _, d := range r.Databases {
		v.Timestamp = max(v.Timestamp, d.Newest)
	}
	for _, h := range r.Holes {
		for _, b := range h.Builds {
			v.Statements = append(v.Statements, VEXStatement{VEXVulnerability{h.ID, h.Aliases},
				[]VEXProduct{{s.purlOf(b.Ref)}}, "affected", "", actionOf(b)})
		}
	}
	for _, a := range r.Answered {
		x := VEXStatement{Vulnerability: VEXVulnerability{Name: a.ID}, Products: []VEXProduct{{s.purlOf(a.Build)}},
			Status: a.Status}
		if a.Status == "not_affected" {
			x.Impact = a.Because
		}
		v.Statements = append(v.Statements, x)
	}
	slices.SortStableFunc(v.Statements, func(a, b VEXStatement) int {
		return cmp.Or(cmp.Compare(a.Vulnerability.Name, b.Vulnerability.Name),
			cmp.Compare(a.Products[0].ID, b.Products[0].ID))
	})
	data, _ := json.Marshal(v.Statements) // has nothing without a JSON form
	sum := blake3.Sum256(data)
	v.ID = "urn:fernladder:vex:" + hex.EncodeToString(sum[:16])
	return v
}

func actionOf(b AffectedBuild) string {
	switch {
	case b.Where == whereKept:
		return "Nothing uses it; delete it."
	case b.Where == whereShelf:
		return "It is not built; do not build it."
	case b.Step.Kind == StepRebuild:
		return "Build it again with the patch " + b.Step.Patch + "."
	case b.Step.Kind == StepUpgrade || b.Step.Kind == StepBump:
		return "Upgrade to " + b.Step.Version + "."
	case b.Step.Kind == StepOption:
		return "Build it with " + b.Step.Option + "."
	case b.Step.Kind == StepRemove:
		return "Remove " + b.Step.Build.Name + " " + b.Step.Build.Version + "."
	}
	if len(b.Fixed) > 0 {
		return "Nothing yet; fixed in " + strings.Join(b.Fixed, ", ") + "."
	}
	return "Nothing yet."
}

// purlOf is the package URL of a build.
func (s *Session) purlOf(r store.Ref) string {
	var known recipe.KnownAs
	if receipt, err := s.Store.Receipt(r); err == nil {
		known = receipt.KnownAs
	}
	if found, err := s.Shelves.Find(r.Name); known.Purl == "" && err == nil {
		known = found.KnownAs
	}
	return known.PurlOf(r.Name, r.Version)
}
