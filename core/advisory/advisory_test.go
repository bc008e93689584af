package advisory

import (
	"encoding/json"
	"errors"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"fernladder/core/recipe"
)

// fern is known in all the ways that advisories name packages.
var fern = recipe.KnownAs{Purl: "pkg:generic/fern", Git: "https://vale.example/fern.git",
	Names: []recipe.EcosystemName{{Ecosystem: "Debian", Name: "fern"}, {Ecosystem: "PyPI", Name: "fern_py"},
		{Ecosystem: "Red Hat", Name: "fern"}, {Ecosystem: "Alpine", Name: "fern"}, {Ecosystem: "npm", Name: "fern"}}}

func TestJudge(t *testing.T) {
	const generic = `"package":{"ecosystem":"OSS-Fuzz","name":"fern","purl":"pkg:generic/fern@1.0"}`
	in := func(ecosystem, name, rest string) string {
		return fmt.Sprintf(`"package":{"ecosystem":%q,"name":%q},%s`, ecosystem, name, rest)
	}
	ranged := func(kind, events string) string {
		return `"ranges":[{"type":"` + kind + `","repo":"https://vale.example/fern","events":[` + events + `]}]`
	}
	const fixed13 = `{"introduced":"0"},{"fixed":"1.3"}`
	for name, c := range map[string]struct {
		affected string // the contents of one affected package
		version  string
		verdict  Verdict
		doubt    bool
	}{
		"before the fix":                {generic + "," + ranged("ECOSYSTEM", fixed13), "1.2", Vulnerable, false},
		"the fix":                       {generic + "," + ranged("ECOSYSTEM", fixed13), "1.3.0", Unaffected, false},
		"a preview of the fix":          {generic + "," + ranged("ECOSYSTEM", fixed13), "1.3-rc1", Vulnerable, false},
		"events in any order":           {generic + "," + ranged("ECOSYSTEM", `{"fixed":"1.3"},{"introduced":"1.1"}`), "1.2", Vulnerable, false},
		"before it was introduced":      {generic + "," + ranged("ECOSYSTEM", `{"fixed":"1.3"},{"introduced":"1.1"}`), "1.0", Unaffected, false},
		"introduced again":              {generic + "," + ranged("ECOSYSTEM", fixed13+`,{"introduced":"1.5"}`), "1.6", Vulnerable, false},
		"the last affected":             {generic + "," + ranged("ECOSYSTEM", `{"introduced":"0"},{"last_affected":"1.3"}`), "1.3", Vulnerable, false},
		"after the last affected":       {generic + "," + ranged("ECOSYSTEM", `{"introduced":"0"},{"last_affected":"1.3"}`), "1.3.1", Unaffected, false},
		"outside the limit":             {generic + "," + ranged("ECOSYSTEM", `{"introduced":"0"},{"limit":"1.3"}`), "1.4", Unaffected, false},
		"listed":                        {generic + `,"versions":["1.1","v1.2"]`, "1.2.0", Vulnerable, false},
		"not listed":                    {generic + `,"versions":["1.1"]`, "1.2", Unaffected, false},
		"listed, against the range":     {generic + `,"versions":["1.4"],` + ranged("ECOSYSTEM", fixed13), "1.4", Vulnerable, false},
		"no versions at all":            {generic, "1.2", Vulnerable, true},
		"a version of no order":         {generic + "," + ranged("ECOSYSTEM", `{"introduced":"0"},{"fixed":"snow"}`), "1.2", Vulnerable, true},
		"semantic, a preview of none":   {in("npm", "fern", ranged("SEMVER", `{"introduced":"0"},{"fixed":"1.3.0"}`)), "1.3.0-dev", Vulnerable, false},
		"semantic, by our order":        {in("npm", "fern", ranged("SEMVER", `{"introduced":"0"},{"fixed":"1.3.0"}`)), "1.2.9.1", Vulnerable, false},
		"a name as PyPI compares it":    {in("PyPI", "Fern-Py", ranged("ECOSYSTEM", fixed13)), "1.2", Vulnerable, false},
		"another package":               {in("PyPI", "moss", ranged("ECOSYSTEM", fixed13)), "1.2", Elsewhere, false},
		"the name in another ecosystem": {in("Hex", "fern", ranged("ECOSYSTEM", fixed13)), "1.2", Elsewhere, false},

		"a distribution's patch does not reach upstream's release": {in("Debian:13", "fern",
			ranged("ECOSYSTEM", `{"introduced":"0"},{"fixed":"1:1.2-3+deb13u1"}`)), "1.2", Vulnerable, false},
		"a distribution's first package of the release": {in("Debian:13", "fern",
			ranged("ECOSYSTEM", `{"introduced":"0"},{"fixed":"1.2+dfsg-1"}`)), "1.2", Unaffected, false},
		"a distribution's later release": {in("Debian", "fern",
			ranged("ECOSYSTEM", `{"introduced":"0"},{"fixed":"1.3~rc1-1"}`)), "1.2", Vulnerable, false},
		"the preview that it took": {in("Debian", "fern",
			ranged("ECOSYSTEM", `{"introduced":"0"},{"fixed":"1.3~rc1-1"}`)), "1.3-rc1", Unaffected, false},
		"listed by a distribution": {in("Debian", "fern", `"versions":["1.2-1","1.2-2"]`), "1.2", Vulnerable, false},
		"rpm": {in("Red Hat:enterprise_linux:9", "fern",
			ranged("ECOSYSTEM", `{"introduced":"0"},{"fixed":"0:1.2-4.el9"}`)), "1.2", Vulnerable, false},
		"apk": {in("Alpine:v3.22", "fern", ranged("ECOSYSTEM", `{"introduced":"0"},{"fixed":"1.2_p1-r2"}`)), "1.2", Vulnerable, false},

		"a tag of a range of commits":    {`"versions":["fern-1_2"],` + ranged("GIT", `{"introduced":"0"},{"fixed":"abc"}`), "1.2", Vulnerable, false},
		"a tag outside of it":            {`"versions":["v1.1"],` + ranged("GIT", `{"introduced":"0"},{"fixed":"abc"}`), "1.2", Unaffected, false},
		"newer than all, no fix":         {`"versions":["v1.1"],` + ranged("GIT", `{"introduced":"0"}`), "1.2", Vulnerable, true},
		"a tag as other letters have it": {`"versions":["R_1_2_0"],` + ranged("GIT", `{"introduced":"abc"}`), "1.2.0", Vulnerable, false},
		"a tag of no order":              {`"versions":["snow-1"],` + ranged("GIT", `{"introduced":"abc"}`), "1.2.0", Vulnerable, true},
		"a word that is no version":      {`"versions":["snow","v1.3"],` + ranged("GIT", `{"introduced":"abc"}`), "1.2.0", Unaffected, false},
		"a mirror's name of the release": {in("Debian", "fern", ranged("ECOSYSTEM", `{"introduced":"0"},{"fixed":"1:1.2.dfsg-2"}`)),
			"1.2.dfsg", Vulnerable, false},
		"a version that was taken back": {in("Debian", "fern", ranged("ECOSYSTEM",
			`{"introduced":"0"},{"fixed":"1.4.dfsg+really1.2.1-1"}`)), "1.2.1", Unaffected, false},
		"commits alone": {ranged("GIT", `{"introduced":"0"},{"fixed":"abc"}`), "1.2", Vulnerable, true},
	} {
		e, err := parse([]byte(`{"id":"VALE-2026-1","affected":[{` + c.affected + `}]}`))
		require.NoError(t, err, name)
		o := e.judge(&Subject{Name: "fern", Version: c.version, Known: fern}, nil)
		assert.Equal(t, c.verdict, o.Verdict, name)
		assert.Equal(t, c.doubt, o.Doubt != "", "%s: %s", name, o.Doubt)
	}
}

func TestFixedReleases(t *testing.T) {
	e, err := parse([]byte(`{"id":"VALE-2026-1","affected":[{"package":{"ecosystem":"Debian:12","name":"fern"},
		"ranges":[{"type":"ECOSYSTEM","events":[{"introduced":"0"},{"fixed":"1:1.2.dfsg-1+deb12u1"}]}]},
		{"package":{"ecosystem":"Debian:14","name":"fern"},
		"ranges":[{"type":"ECOSYSTEM","events":[{"introduced":"0"},{"fixed":"1:1.3.dfsg+really1.3.1-1"}]}]}]}`))
	require.NoError(t, err)
	assert.Equal(t, Opinion{Vulnerable, "", []string{"1.3.1"}}, e.judge(&Subject{Name: "fern", Version: "1.2", Known: fern}, nil),
		"what only a distribution has patched is no release")
}

func TestCommitsAreAskedOfTheClone(t *testing.T) {
	e, err := parse([]byte(`{"id":"VALE-2026-1","affected":[{"ranges":[{"type":"GIT","repo":"https://VALE.example/fern/",
		"events":[{"introduced":"b"},{"fixed":"d"}]}]}]}`))
	require.NoError(t, err)
	history := "abcde"
	judge := func(commit string, ask Ancestry) Opinion {
		return e.judge(&Subject{Name: "fern", Version: "1.0+3.gabc", Commit: commit, Known: fern}, ask)
	}
	ask := func(s *Subject, before string) (bool, error) { return before <= s.Commit, nil }
	for _, c := range history {
		want := Unaffected
		if c == 'b' || c == 'c' {
			want = Vulnerable
		}
		assert.Equal(t, want, judge(string(c), ask).Verdict, string(c))
	}
	o := judge("c", func(*Subject, string) (bool, error) { return false, errors.New("no history") })
	assert.Equal(t, Opinion{Vulnerable, "no history", nil}, o)
	assert.Equal(t, Vulnerable, judge("c", nil).Verdict)
}

func TestSeverity(t *testing.T) {
	for text, want := range map[string]Score{
		`"severity":[{"type":"CVSS_V3","score":"CVSS:3.1/AV:N/AC:L/PR:N/UI:N/S:U/C:H/I:H/A:H"}]`: {Critical, 9.8,
			"CVSS:3.1/AV:N/AC:L/PR:N/UI:N/S:U/C:H/I:H/A:H"},
		`"severity":[{"type":"CVSS_V4","score":"CVSS:4.0/AV:L/AC:L/AT:N/PR:L/UI:N/VC:L/VI:N/VA:N/SC:N/SI:N/SA:N"}]`: {Medium, 4.8,
			"CVSS:4.0/AV:L/AC:L/AT:N/PR:L/UI:N/VC:L/VI:N/VA:N/SC:N/SI:N/SA:N"},
		`"severity":[{"type":"Ubuntu","score":"negligible"}]`:       {Level: Low},
		`"database_specific":{"severity":"IMPORTANT"}`:              {Level: High},
		`"affected":[{"ecosystem_specific":{"severity":"MEDIUM"}}]`: {Level: Medium},
		`"database_specific":{"severity":{"no":"text"}}`:            {Level: Unknown},
		`"severity":[{"score":"CVSS:3.1/AV:N"}]`:                    {Level: Unknown},
	} {
		e, err := parse([]byte(`{"id":"VALE-2026-1",` + text + `}`))
		require.NoError(t, err, text)
		assert.Equal(t, want, e.score(), text)
	}
	assert.Greater(t, Unknown.Rank(), Critical.Rank(), "what is unknown counts")
}

// The index finds whatever a parser finds, however it is written.
func TestKeysOfAnEntry(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		text := rapid.StringMatching(`[a-z"\\/ :é\x01-]{1,12}`)
		e := Entry{ID: text.Draw(t, "id"), Summary: text.Draw(t, "summary"), Details: `"name": "trap`, Modified: "2026-01-02T03:04:05Z",
			Affected: []AffectedPackage{{Package: Package{"Debian", text.Draw(t, "name"), "pkg:generic/" + text.Draw(t, "purl")},
				Ranges: []Range{{Repo: "https://vale.example/" + text.Draw(t, "repo")}}}}}
		data, err := json.MarshalIndent(e, "", rapid.SampledFrom([]string{"", "  "}).Draw(t, "indent"))
		require.NoError(t, err)
		keys, newest := map[string]bool{}, ""
		keysOf(data, func(key string) { keys[key] = true }, func(m string) { newest = m })
		a := e.Affected[0]
		for _, key := range []string{keyID + e.ID, keyName + a.Package.Name, keyPurl + plainPurl(a.Package.Purl),
			keyRepo + plainURL(a.Ranges[0].Repo)} {
			assert.Contains(t, keys, key)
		}
		assert.Equal(t, e.Modified, newest)
	})
	escaped := `{"\u006eame": "f\u0065rn"}`
	keysOf([]byte(escaped), func(key string) { assert.Equal(t, "n:fern", key) }, nil)
}

func FuzzEntry(f *testing.F) {
	f.Add([]byte(`{"id":"VALE-2026-1","affected":[{"package":{"ecosystem":"Debian","name":"fern"},"ranges":[{"type":"ECOSYSTEM",` +
		`"events":[{"introduced":"0"},{"fixed":"1:1-1"}]}],"versions":["1"]}]}`))
	f.Add([]byte(`{"\"name\\`))
	f.Fuzz(func(t *testing.T, data []byte) {
		keysOf(data, func(string) {}, func(string) {})
		if e, err := parse(data); err == nil {
			e.score()
			e.judge(&Subject{Name: "fern", Version: "1.2", Known: fern}, nil)
		}
	})
}
