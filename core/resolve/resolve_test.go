package resolve

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"fernladder/core/host"
	"fernladder/core/recipe"
	"fernladder/core/version"
)

// write makes a shelf of short descriptions, one line per package or release:
//
//	NAME VERSION[!] ...                  a package with its releases, ! for a preview
//	  needs NAME[|NAME] RANGE [ROLE] [when CONDITION] [with OPTION=VALUE]
//	  option NAME                        an option that is off
func write(t require.TestingT, dir, shelf string) *recipe.Shelves {
	recipes := map[string]string{}
	name := ""
	for line := range strings.Lines(shelf) {
		words := strings.Fields(line)
		switch {
		case len(words) == 0:
		case words[0] == "needs":
			text := "[[need]]\nrole = \"library\"\n"
			if names := strings.Split(words[1], "|"); len(names) > 1 {
				text += fmt.Sprintf("either = [\"%s\"]\n", strings.Join(names, `", "`))
			} else {
				text += fmt.Sprintf("recipe = %q\n", words[1])
			}
			rest := strings.Join(words[2:], " ")
			if before, with, found := strings.Cut(rest, "with "); found {
				option, value, _ := strings.Cut(with, "=")
				text += fmt.Sprintf("options = { %s = %s }\n", option, value)
				rest = before
			}
			if before, when, found := strings.Cut(rest, "when "); found {
				text += fmt.Sprintf("when = %q\n", strings.TrimSpace(when))
				rest = before
			}
			if rest = strings.TrimSpace(rest); rest != "" {
				text += fmt.Sprintf("version = %q\n", rest)
			}
			recipes[name] += text
		case words[0] == "option":
			recipes[name] += fmt.Sprintf("[option.%s]\nabout = \"x\"\ndefault = false\n", words[1])
		default:
			name = words[0]
			recipes[name] = fmt.Sprintf("format = 1\n[package]\nname = %q\nsummary = \"x\"\n[build]\nmethod = \"make\"\n", name)
			for _, v := range words[1:] {
				recipes[name] += fmt.Sprintf("[[release]]\nversion = %q\nsha256 = %q\narchive = \"file:///x\"\n", strings.TrimSuffix(v, "!"), strings.Repeat("0", 64))
				if strings.HasSuffix(v, "!") {
					recipes[name] += "track = \"preview\"\n"
				}
			}
		}
	}
	for name, text := range recipes {
		require.NoError(t, os.MkdirAll(filepath.Join(dir, name), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name, recipe.FileName), []byte(text), 0o644))
	}
	return recipe.NewShelves([]recipe.Shelf{{Dir: dir, Shown: "s"}})
}

func solve(t *testing.T, shelf string, wanted []string, options ...Setting) (string, error) {
	request := Request{Options: options, Machine: host.Machine{Arch: "x86_64", Family: "debian"}}
	for _, text := range wanted {
		w, err := ParseWanted(text)
		require.NoError(t, err)
		request.Wanted = append(request.Wanted, w)
	}
	ladder, err := Solve(context.Background(), write(t, t.TempDir(), shelf), request)
	if err != nil {
		return "", err
	}
	return describe(ladder), nil
}

// describe puts a ladder in one line: "1 dewcalc-1.4 loamdb-0.9[shared=on] 2 …".
func describe(l *Ladder) string {
	var words []string
	rung := 0
	for _, p := range l.Packages {
		if p.Rung != rung {
			rung = p.Rung
			words = append(words, fmt.Sprint(rung))
		}
		word := p.Name() + "-" + p.Release.Version.String()
		if changed := p.Changed(); len(changed) > 0 {
			word += "[" + strings.Join(changed, ",") + "]"
		}
		words = append(words, word)
	}
	return strings.Join(words, " ")
}

const gardenShelf = `
glasshouse 1.0
  needs mistplan
  needs dewcalc >= 1.3
mistplan 2.2-rc1! 2.1 1.9
  option plots
  needs dewcalc >= 1.4, < 2 when version >= 2
  needs dewcalc < 1.4 when version < 2
  needs frondplot when plots
  needs loamdb with shared=true
frondplot 1.2
loamdb 0.9
  option shared
dewcalc 1.3 1.4 2.0
`

func TestSolve(t *testing.T) {
	for _, c := range []struct {
		name    string
		shelf   string
		wanted  string
		options []Setting
		want    string
	}{
		{"newest that everyone accepts", gardenShelf, "glasshouse", nil, "1 dewcalc-1.4 loamdb-0.9[shared=on] 2 mistplan-2.1 3 glasshouse-1.0"},
		{"an older one on request takes its needs along", gardenShelf, "glasshouse mistplan:1.*", nil, "1 dewcalc-1.3 loamdb-0.9[shared=on] 2 mistplan-1.9 3 glasshouse-1.0"},
		{"a preview by its exact version", gardenShelf, "mistplan:2.2-rc1", nil, "1 dewcalc-1.4 loamdb-0.9[shared=on] 2 mistplan-2.2-rc1"},
		{"a range alone finds no preview", gardenShelf, "mistplan:<=2.2", nil, "1 dewcalc-1.4 loamdb-0.9[shared=on] 2 mistplan-2.1"},
		{"an option brings another package", gardenShelf, "mistplan", []Setting{{"mistplan", "plots", "on"}}, "1 dewcalc-1.4 frondplot-1.2 loamdb-0.9[shared=on] 2 mistplan-2.1[plots=on]"},
		{"the first of either that can be had", "a 1\n needs gone|b|c\nb 1\nc 1", "a", nil, "1 b-1 2 a-1"},
		{"either falls back when the first does not fit", "a 1\n needs b|c\n needs d < 2\nb 1\n needs d >= 2\nc 1\nd 1 2", "a", nil, "1 c-1 d-1 2 a-1"},
		{"an older dependant frees a need", "a 1\n needs b\n needs c < 2\nb 1 2\n needs c >= 2 when version >= 2\nc 1 2", "a", nil, "1 b-1 c-1 2 a-1"},
		{"backing out of a circle", "a 1\n needs b\nb 1 2\n needs a when version >= 2", "a", nil, "1 b-1 2 a-1"},
	} {
		t.Run(c.name, func(t *testing.T) {
			got, err := solve(t, c.shelf, strings.Fields(c.wanted), c.options...)
			require.NoError(t, err)
			assert.Equal(t, c.want, got)
		})
	}
}

// What cannot be is explained in sentences that name recipes and lines.
func TestNoLadder(t *testing.T) {
	for _, c := range []struct {
		name, shelf, wanted string
		options             []Setting
		want                string
	}{
		{"missing", "a 1\n needs dewclac\ndewcalc 1", "a", nil, `No shelf has a recipe "dewclac" (searched: s).
    a 1 needs it (s/a/recipe.toml:11)
  Did you mean "dewcalc"?`},
		{"range", gardenShelf, "mistplan:3.*", nil, `mistplan has no release that is 3.*.
    you asked for 3.*
    s/mistplan/recipe.toml has 2.1, 1.9, and as previews 2.2-rc1
  Add a release that fits to s/mistplan/recipe.toml, or ask for another.`},
		{"preview would do", gardenShelf, "mistplan:>2.1", nil, `mistplan has no release that is >2.1.
    you asked for >2.1
    s/mistplan/recipe.toml has 2.1, 1.9, and as previews 2.2-rc1
  The preview would do: ask for mistplan:2.2-rc1.`},
		{"two ranges", "a 1\n needs b\n needs c >= 2\nb 1\n needs c < 2\nc 1 2", "a", nil, `No release of c is what everyone needs.
    a 1 needs >= 2 (s/a/recipe.toml:14)
    b 1 needs < 2 (s/b/recipe.toml:11)
    s/c/recipe.toml has 1, 2
  Widen one of these ranges, or add a release that fits them all to s/c/recipe.toml.`},
		{"circle", "a 1\n needs b\nb 1\n needs c\nc 1\n needs a", "a", nil, `These packages need each other in a circle: c → a → b → c.
    c needs a as library (s/c/recipe.toml:11)
    a needs b as library (s/a/recipe.toml:11)
    b needs c as library (s/b/recipe.toml:11)
  Break the circle: take one of these needs out, or put it under an option that is off (when = …).`},
		{"options", "a 1\n needs b\n needs c with shared=true\nb 1\n needs c with shared=false\nc 1\n option shared", "a", nil, `The option shared of c cannot be both on and off.
    a 1 needs it with shared=on (s/a/recipe.toml:14)
    b 1 needs it with shared=off (s/b/recipe.toml:11)
  Change one of the two needs.`},
		{"option set by a person", gardenShelf, "mistplan", []Setting{{"loamdb", "shared", "off"}}, `The option shared of loamdb cannot be both off and on.
    you set shared=off
    mistplan 2.1 needs it with shared=on (s/mistplan/recipe.toml:37)
  Leave out -o loamdb.shared=off, or set what needs it otherwise.`},
		{"no such option", "a 1\n needs b with shard=true\nb 1\n option shared", "a", nil, `b has no option "shard".
    a 1 needs it with shard=on (s/a/recipe.toml:11)
    s/b/recipe.toml has the options: shared`},
	} {
		t.Run(c.name, func(t *testing.T) {
			_, err := solve(t, c.shelf, strings.Fields(c.wanted), c.options...)
			var none *NoLadder
			require.ErrorAs(t, err, &none)
			assert.Equal(t, c.want, none.Reasons[0].String())
		})
	}
}

func TestSettingsThatCannotMatterAreRefused(t *testing.T) {
	for want, set := range map[string]Setting{
		`dewcalc has no option "plots"`:       {"dewcalc", "plots", "on"},
		`plots of mistplan cannot be "maybe"`: {"mistplan", "plots", "maybe"},
		`glasshouse is not on this ladder`:    {"glasshouse", "x", "on"},
		`no shelf has a recipe "mistplam"`:    {"mistplam", "x", "on"},
	} {
		_, err := solve(t, gardenShelf, []string{"mistplan"}, set)
		assert.ErrorContains(t, err, want)
	}
}

// A search that failed must not try again what cannot matter: 20 packages of
// 5 releases each stand between the top and the conflict.
func TestConflictFarBelowIsFoundAtOnce(t *testing.T) {
	shelf := "top 1\n"
	for i := range 20 {
		shelf += fmt.Sprintf(" needs p%d\n", i)
	}
	shelf += " needs q >= 9\nq 1\n"
	for i := range 20 {
		shelf += fmt.Sprintf("p%d 1 2 3 4 5\n", i)
	}
	_, err := solve(t, shelf, []string{"top"})
	assert.ErrorContains(t, err, "q has no release that is >= 9")
}

// Small random shelves, without circles, are solved when and only when trying
// every combination of releases finds an answer; and the answer is one.
func TestSolveIsComplete(t *testing.T) {
	dir := t.TempDir()
	n := 0
	rapid.Check(t, func(t *rapid.T) {
		const packages, releases = 5, 3
		shelf := ""
		for i := range packages {
			shelf += fmt.Sprintf("p%d 1 2 3\n", i)
			for j := i + 1; j < packages; j++ {
				for v := 1; v <= releases; v++ {
					if rapid.IntRange(0, 3).Draw(t, "need") == 0 {
						shelf += fmt.Sprintf(" needs p%d %s %d when version == %d\n", j,
							rapid.SampledFrom([]string{">=", "<=", "==", "!="}).Draw(t, "operator"), rapid.IntRange(0, 4).Draw(t, "bound"), v)
					}
				}
			}
		}
		n++
		shelves := write(t, filepath.Join(dir, fmt.Sprint(n)), shelf)
		top, err := ParseWanted("p0")
		require.NoError(t, err)
		ladder, err := Solve(context.Background(), shelves, Request{Wanted: []Wanted{top}})
		possible := bruteForce(t, shelves, packages, releases)
		if err != nil {
			assert.False(t, possible, "there is an answer:\n%s\n%v", shelf, err)
			return
		}
		assert.True(t, possible, "there is none:\n%s\n%s", shelf, describe(ladder))
		for _, p := range ladder.Packages {
			for _, link := range p.Needs {
				assert.True(t, link.Need.Range.Contains(link.Package.Release.Version))
				assert.Less(t, link.Package.Rung, p.Rung)
			}
		}
	})
}

// bruteForce tells whether any choice of a release for each package meets all
// needs of p0 and of what it needs.
func bruteForce(t *rapid.T, shelves *recipe.Shelves, packages, releases int) bool {
	choice := make([]int, packages)
	for {
		if meets(t, shelves, choice, 0) {
			return true
		}
		i := 0
		for ; i < packages; i++ {
			if choice[i]++; choice[i] < releases {
				break
			}
			choice[i] = 0
		}
		if i == packages {
			return false
		}
	}
}

func meets(t *rapid.T, shelves *recipe.Shelves, choice []int, i int) bool {
	r, err := shelves.Find(fmt.Sprintf("p%d", i))
	require.NoError(t, err)
	v := r.Releases[choice[i]].Version
	return !slices.ContainsFunc(r.Needs, func(n *recipe.Need) bool {
		if !n.When.Holds(recipe.Facts{Version: v}) {
			return false
		}
		var j int
		fmt.Sscanf(n.Recipe, "p%d", &j)
		return !n.Range.Contains(version.MustParse(fmt.Sprint(choice[j]+1))) || !meets(t, shelves, choice, j)
	})
}
