package sbom

import (
	"bytes"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fernladder/core/recipe"
	"fernladder/core/store"
)

func schema(t *testing.T, name string) *jsonschema.Schema {
	c := jsonschema.NewCompiler()
	c.AssertFormat()
	files, err := filepath.Glob("testdata/*.json")
	require.NoError(t, err)
	for _, file := range files {
		data, err := os.ReadFile(file)
		require.NoError(t, err)
		document, err := jsonschema.UnmarshalJSON(bytes.NewReader(data))
		require.NoError(t, err)
		base := strings.Replace(filepath.Base(file), ".schema.json", ".SNAPSHOT.schema.json", 1)
		require.NoError(t, c.AddResource("http://cyclonedx.org/schema/"+base, document))
	}
	s, err := c.Compile("http://cyclonedx.org/schema/" + name + ".SNAPSHOT.schema.json")
	require.NoError(t, err)
	return s
}

func digest(c string) recipe.Digest {
	return recipe.Digest{Algorithm: "sha256", Hex: strings.Repeat(c, 64)}
}

// garden is a bill with everything that one can have.
func garden() *Bill {
	ref := func(name, version string) store.Ref {
		return store.Ref{Name: name, Version: version, ID: "0123456789ab"}
	}
	dewcalc, sporegen, gone := ref("dewcalc", "1.4.2+7.gabc"), ref("sporegen", "2.0"), ref("gone", "1")
	return &Bill{Name: "garden", Tool: "fernladder 1.0", Parts: []*Part{
		{Root: true, Receipt: &store.Receipt{Ref: ref("mistplan", "2.1.0"), Summary: "Plans \"misting\"\nruns", License: "MIT AND (Zlib OR Apache-2.0+)",
			Home: "https://growers.example/mist plan", Began: time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC), Tree: "/t",
			KnownAs: recipe.KnownAs{Purl: "pkg:generic/vale/mistplan", Git: "https://vale.example/m.git", CPE: "cpe:2.3:a:vale:mistplan"},
			Chosen:  map[string]string{"plots": "off", "beds": "a,b"}, Compiler: "gcc 14", Isolation: "sealed",
			Sources: []store.Source{{URL: "https://growers.example/m.tar.gz", Digest: digest("a")},
				{URL: "https://growers.example/curves-7.zip", Digest: digest("b"), Into: "data/curves", Purl: "pkg:generic/curves@7"},
				{Digest: digest("c"), Into: "vendor"}},
			Patches: []store.Source{{File: "patches/a.patch", Digest: digest("d"), Fixes: []string{"CVE-2026-1"}}},
			Needs: []store.Link{{Ref: dewcalc, Role: recipe.Library}, {Ref: sporegen, Role: recipe.Tool},
				{Ref: gone, Role: recipe.Runtime}}},
			Files: []File{{"bin/mist plan", strings.Repeat("1", 40), strings.Repeat("2", 64)}},
			Hosts: []HostPackage{{"libstdc++6", "14.2.0-19~x", "deb", "debian"}}},
		{Receipt: &store.Receipt{Ref: dewcalc, License: "see LICENCE", Began: time.Date(2026, 2, 1, 0, 0, 0, 0, time.UTC),
			Sources: []store.Source{{URL: "https://vale.example/d.git", Commit: strings.Repeat("e", 40)}}},
			Hosts: []HostPackage{{"libstdc++6", "14.2.0-19~x", "deb", "debian"}}},
		{Receipt: &store.Receipt{Ref: sporegen, Sources: []store.Source{{URL: "https://vale.example/svn", Commit: "12"}}}},
		{Receipt: &store.Receipt{Ref: gone}},
	}}
}

func TestDocumentsFulfilTheirSchemas(t *testing.T) {
	for format, name := range map[Format]string{SPDX: "spdx-2.3", CycloneDX: "bom-1.6"} {
		s := schema(t, name)
		for _, b := range []*Bill{garden(), {Name: "nothing", Tool: "fernladder"}} {
			data, err := b.Write(format)
			require.NoError(t, err)
			document, err := jsonschema.UnmarshalJSON(bytes.NewReader(data))
			require.NoError(t, err)
			assert.NoError(t, s.Validate(document), "%s", data)
			again, err := b.Write(format)
			require.NoError(t, err)
			assert.Equal(t, string(data), string(again))
		}
		assert.Error(t, s.Validate(map[string]any{"name": 1}), "the schema is one")
	}
}

func TestWhatIsInADocument(t *testing.T) {
	data, err := garden().Write(SPDX)
	require.NoError(t, err)
	var spdx spdxDocument
	require.NoError(t, json.Unmarshal(data, &spdx))
	assert.Equal(t, "2026-03-01T00:00:00Z", spdx.Creation.Created, "of the latest build")
	byID, relations := map[string]*spdxPackage{}, map[string]bool{}
	for _, p := range spdx.Packages {
		assert.Nil(t, byID[p.ID], "an identifier is given once: %s", p.ID)
		byID[p.ID] = p
	}
	for _, r := range spdx.Relations {
		relations[r.From+" "+r.How+" "+r.To] = true
	}
	const mistplan, dewcalc = "SPDXRef-mistplan-2.1.0-0123456789ab", "SPDXRef-dewcalc-1.4.2-7.gabc-0123456789ab"
	for _, want := range []string{"SPDXRef-DOCUMENT DESCRIBES " + mistplan, dewcalc + " DEPENDENCY_OF " + mistplan,
		"SPDXRef-sporegen-2.0-0123456789ab BUILD_TOOL_OF " + mistplan, "SPDXRef-gone-1-0123456789ab RUNTIME_DEPENDENCY_OF " + mistplan,
		mistplan + " GENERATED_FROM " + mistplan + "-source-1", mistplan + " CONTAINS " + mistplan + "-source-2",
		mistplan + "-patch-1 PATCH_APPLIED " + mistplan + "-source-1", mistplan + " CONTAINS " + mistplan + "-file-1",
		"SPDXRef-host-libstdc--6-14.2.0-19-x DEPENDENCY_OF " + dewcalc} {
		assert.Contains(t, relations, want)
	}
	assert.Equal(t, "MIT AND (Zlib OR Apache-2.0+)", byID[mistplan].Declared)
	assert.Equal(t, noAssertion, byID[dewcalc].Declared, "which is no expression")
	assert.Equal(t, "git+https://vale.example/d.git@"+strings.Repeat("e", 40), byID[dewcalc+"-source-1"].Location)
	assert.Equal(t, []spdxReference{{"PACKAGE-MANAGER", "purl", "pkg:generic/vale/mistplan@2.1.0"},
		{"SECURITY", "cpe23Type", "cpe:2.3:a:vale:mistplan:2.1.0:*:*:*:*:*:*:*"}}, byID[mistplan].Elsewhere)
	assert.True(t, byID[mistplan].Analyzed)

	data, err = garden().Write(CycloneDX)
	require.NoError(t, err)
	var cyclone cycloneDocument
	require.NoError(t, json.Unmarshal(data, &cyclone))
	x := cyclone.Components[0]
	assert.Equal(t, []cyclonePatch{{"unofficial", cycloneDiff{"patches/a.patch"}, []cycloneIssue{{"security", "CVE-2026-1"}}}}, x.Pedigree.Patches)
	assert.Equal(t, "excluded", cyclone.Components[2].Scope, "a tool")
	assert.Equal(t, "", cyclone.Components[1].Scope)
	assert.Equal(t, "library", cyclone.Components[1].Type)
	assert.Equal(t, "pkg:generic/dewcalc@1.4.2%2B7.gabc", cyclone.Components[1].Purl)
	assert.Equal(t, []string{"build:dewcalc/1.4.2+7.gabc/0123456789ab", "build:gone/1/0123456789ab", "build:sporegen/2.0/0123456789ab",
		"pkg:deb/debian/libstdc%2B%2B6@14.2.0-19~x"}, cyclone.Dependencies[1].DependsOn)
}
