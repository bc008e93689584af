package garden

import (
	"encoding/json"
	"time"
)

// AdvisoriesFile is the name of the growers' security advisories, as their site publishes them.
const AdvisoriesFile = "advisories.zip"

// An advisory in the OSV format.
type advisory struct {
	Schema    string              `json:"schema_version"`
	ID        string              `json:"id"`
	Modified  time.Time           `json:"modified"`
	Published time.Time           `json:"published"`
	Withdrawn string              `json:"withdrawn,omitempty"`
	Aliases   []string            `json:"aliases,omitempty"`
	Summary   string              `json:"summary"`
	Details   string              `json:"details"`
	Severity  []map[string]string `json:"severity"`
	Affected  []any               `json:"affected"`
}

// advisories are a hole that a newer release ends, one in an older release, and one that was
// withdrawn.
func advisories() ([]byte, error) {
	published := released.AddDate(0, 0, 40)
	var entries []entry
	for _, a := range []struct{ id, alias, pkg, introduced, fixed, summary, vector, withdrawn string }{
		{"VALE-2026-0003", "CVE-2026-90417", "dewcalc", "1.4.0", "1.4.3", "A reading of forty digits overruns a buffer",
			"CVSS:3.1/AV:N/AC:L/PR:N/UI:N/S:U/C:L/I:L/A:H", ""},
		{"VALE-2026-0002", "CVE-2026-90312", "mistplan", "0", "2.0", "A negative stage is looked up outside of a table",
			"CVSS:3.1/AV:L/AC:L/PR:L/UI:N/S:U/C:L/I:N/A:N", ""},
		{"VALE-2026-0001", "", "loamdb", "0", "1.0", "A record of no fields is lost",
			"CVSS:3.1/AV:L/AC:L/PR:L/UI:N/S:U/C:N/I:L/A:N", "2026-05-02T12:00:00Z"},
	} {
		x := advisory{Schema: "1.7.0", ID: a.id, Modified: published, Published: published, Withdrawn: a.withdrawn,
			Summary: a.summary, Details: a.summary + ".", Severity: []map[string]string{{"type": "CVSS_V3", "score": a.vector}},
			Affected: []any{map[string]any{
				"package": map[string]string{"ecosystem": "OSS-Fuzz", "name": a.pkg, "purl": "pkg:generic/vale/" + a.pkg},
				"ranges": []any{map[string]any{"type": "ECOSYSTEM",
					"events": []any{map[string]string{"introduced": a.introduced}, map[string]string{"fixed": a.fixed}}}},
			}}}
		if a.alias != "" {
			x.Aliases = []string{a.alias}
		}
		data, err := json.MarshalIndent(x, "", "  ")
		if err != nil {
			return nil, err
		}
		entries = append(entries, entry{name: a.id + ".json", mode: 0o644, data: data})
	}
	return pack(entries, ".zip")
}
