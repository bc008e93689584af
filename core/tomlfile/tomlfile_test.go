package tomlfile

import (
	"errors"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

type plant struct {
	Position
	Name, Light string
	Leaves      []string
	Hardy       bool
	Height      int
}

type bed struct {
	title   string
	plants  []*plant
	soils   []*plant
	labels  []Pair
	lists   []Pair
	choices []Pair
}

func (b *bed) keys() []Key {
	plantKeys := func(p *plant) []Key {
		return []Key{
			Text("name", &p.Name, "What it is called.").Must().Check(func(text string) error {
				if i := strings.IndexByte(text, '!'); i >= 0 {
					return &At{Offset: i, Err: errors.New("no exclamations")}
				}
				return nil
			}),
			OneOrMore("leaves", &p.Leaves, "Its leaves."),
			Flag("hardy", &p.Hardy, "Whether it survives frost."),
			Number("height", &p.Height, 1, 300, "In centimetres."),
			Choice("light", &p.Light, "How much."),
		}
	}
	named := func(name string, p *plant) []Key { p.Name = name; return plantKeys(p)[1:] }
	anyName := func(string) error { return nil }
	return []Key{
		Text("title", &b.title, "The bed's title.").Must(),
		Tables("plant", &b.plants, plantKeys, "A plant."),
		Named("soil", &b.soils, named, anyName, "A soil."),
		Pairs("label", &b.labels, false, anyName, "Labels."),
		Pairs("list", &b.lists, true, anyName, "Lists."),
		Choices("choice", &b.choices, "Choices."),
	}
}

func TestReadFillsWhatKeysAreBoundTo(t *testing.T) {
	b := &bed{}
	problems := Read("bed.toml", []byte(`
title = "Ferns"
label.east = "sun"
choice = { shade = true, tone = "dark" }
[[plant]]
name   = "maidenhair"
leaves = ["one", "two"]
hardy  = true
height = 30
light  = false
[[plant]]
name   = "hart's tongue"
leaves = "one"
[soil.loam]
height = 0x10
[list]
a = ["x", "y"]
`), b.keys())
	require.Empty(t, problems)
	assert.Equal(t, "Ferns", b.title)
	require.Len(t, b.plants, 2)
	assert.Equal(t, plant{Position{"bed.toml", 5, 3}, "maidenhair", "off", []string{"one", "two"}, true, 30}, *b.plants[0])
	assert.Equal(t, []string{"one"}, b.plants[1].Leaves)
	assert.Equal(t, plant{Position: Position{"bed.toml", 14, 7}, Name: "loam", Height: 16}, *b.soils[0])
	assert.Equal(t, Pair{Position{"bed.toml", 3, 7}, "east", []string{"sun"}}, b.labels[0])
	assert.Equal(t, []string{"x", "y"}, b.lists[0].Values)
	assert.Equal(t, []string{"on"}, b.choices[0].Values)
	assert.Equal(t, []string{"dark"}, b.choices[1].Values)
}

// All mistakes are found, in the order of the file, with their places.
func TestReadFindsEveryMistake(t *testing.T) {
	problems := Read("bed.toml", []byte(`titel = "Ferns"
[[plant]]
name = "mint!"
hardy = "yes"
height = 301
leaves = [1]
[[plant]]
light = 3.5
name = 1.30
[[plant]]
[label]
x = "1"
x = "2"
[[label]]
[soil.loam]
[soil.loam]
`), (&bed{}).keys())
	var got []string
	for _, p := range problems {
		line, _, _ := strings.Cut(p.String(), "\n")
		got = append(got, line+" | "+p.Advice)
	}
	assert.Equal(t, []string{
		`bed.toml:1:1: "titel" is not a key of the file | did you mean "title"?`,
		`bed.toml:3:13: no exclamations | `,
		`bed.toml:4:9: "hardy" takes true or false, not a text | `,
		`bed.toml:5:10: "height" is from 1 to 300 | `,
		`bed.toml:6:11: "leaves" takes a text, not a whole number | put it in quotes: "1"`,
		`bed.toml:8:9: "light" takes true or false, a text, a whole number or a list, not a value of another type ` +
			`| put it in quotes: "3.5"`,
		`bed.toml:9:8: "name" takes a text, not a value of another type | put it in quotes: "1.30"`,
		`bed.toml:10:3: [[plant]] lacks the key "name" | name: What it is called`,
		`bed.toml:13:1: "x" is already given in line 12 | `,
		`bed.toml:14:3: "label" is already given in line 11 | `,
		`bed.toml:16:7: "loam" is already given in line 15 | `,
	}, got)
}

func TestCaretStandsBelowThePlace(t *testing.T) {
	problems := Read("b.toml", []byte("title = \"é\"\n[[plant]]\n\tname = \"größe!\"\n"), (&bed{}).keys())
	require.Len(t, problems, 1)
	assert.Equal(t, "b.toml:3:15: no exclamations\n    3 | \tname = \"größe!\"\n      | \t             ^",
		problems[0].String())
}

func TestReadRefusesWhatIsNotTOML(t *testing.T) {
	for text, want := range map[string]string{
		"title = \"a\nb\"":             "b.toml:1:",
		"title = ":                     "this is not TOML",
		"title = \"\xff\"":             "byte 0xff is not UTF-8",
		"title \"x\"":                  "this is not TOML",
		strings.Repeat("#", maxSize+1): "at most",
	} {
		problems := Read("b.toml", []byte(text), (&bed{}).keys())
		require.NotEmpty(t, problems)
		assert.Contains(t, problems.Error(), want)
	}
}

func TestSchemaSaysWhatReadTakes(t *testing.T) {
	s := Schema("A bed", (&bed{}).keys())
	assert.Equal(t, []string{"title"}, s["required"])
	assert.Equal(t, false, s["additionalProperties"])
	plants := s["properties"].(map[string]any)["plant"].(map[string]any)
	plant := plants["items"].(map[string]any)
	assert.Equal(t, []any{"array", "object", []string{"name"}}, []any{plants["type"], plant["type"], plant["required"]})
	kinds := map[string]any{}
	for name, key := range plant["properties"].(map[string]any) {
		kinds[name] = key.(map[string]any)["type"]
	}
	assert.Equal(t, map[string]any{"name": "string", "leaves": nil, "hardy": "boolean", "height": "integer",
		"light": []string{"boolean", "string", "integer", "array"}}, kinds)
}

func TestNearest(t *testing.T) {
	names := []string{"summary", "license", "home", "in_tree"}
	for word, want := range map[string]string{"sumary": "summary", "licence": "license", "intree": "in_tree",
		"hoem": "home", "xyz": "", "colour": ""} {
		got, _ := Nearest(word, names)
		assert.Equal(t, want, got, word)
	}
}

func FuzzRead(f *testing.F) {
	f.Add("title = 'x'\n[[plant]]\nname = \"a\"\nleaves = ['''\nx''']\n[soil.a]\n[choice]\nx = true")
	f.Add("a.b.c = {x = [{y = 1}]}\n[[a.b]]\n[a]\nb = 1979-05-27T07:32:00Z")
	f.Add("[[plant]]\n[[plant.name]]\n[plant]\n\"\" = \"\\u00e9\"")
	f.Fuzz(func(t *testing.T, text string) {
		for _, p := range Read("f.toml", []byte(text), (&bed{}).keys()) {
			if p.Line < 1 || p.Column < 1 || p.String() == "" {
				t.Fatalf("%+v", p)
			}
		}
	})
}
