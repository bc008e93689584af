package resolve

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fernladder/core/host"
	"fernladder/core/recipe"
)

// write makes a shelf of short descriptions, one line per package or release:
//
//	NAME VERSION[!] ...                  a package with its releases, ! for a preview
//	needs NAME[|NAME] RANGE [when CONDITION] [with OPTION=VALUE]    a library
//	tool NAME[|NAME] RANGE [when CONDITION] [with OPTION=VALUE]
//	option NAME                        an option that is off
//	option NAME since VERSION on OTHER the same, which earlier releases lack, and which is on in one
func write(t require.TestingT, dir, shelf string) *recipe.Shelves {
	recipes := map[string]string{}
	name := ""
	for line := range strings.Lines(shelf) {
		words := strings.Fields(line)
		switch {
		case len(words) == 0:
		case words[0] == "needs" || words[0] == "tool":
			text := "[[need]]\nrole = \"library\"\n"
			if words[0] == "tool" {
				text = "[[need]]\nrole = \"tool\"\n"
			}
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
		case words[0] == "host": // the operating system may have a copy
			recipes[name] += "[host_copy]\nmodule = \"x\"\n"
		case words[0] == "option":
			recipes[name] += fmt.Sprintf("[option.%s]\nabout = \"x\"\ndefault = false\n", words[1])
			if len(words) > 2 {
				recipes[name] += fmt.Sprintf("when = \"version >= %s\"\n", words[3])
				release := fmt.Sprintf("version = %q\n", words[5])
				recipes[name] = strings.Replace(recipes[name], release,
					release+fmt.Sprintf("defaults = { %s = true }\n", words[1]), 1)
			}
		default:
			name = words[0]
			recipes[name] = fmt.Sprintf("format = 1\n[package]\nname = %q\nsummary = \"x\"\n[build]\nmethod = \"make\"\n", name)
			for _, v := range words[1:] {
				recipes[name] += fmt.Sprintf("[[release]]\nversion = %q\nsha256 = %q\narchive = \"file:///x\"\n",
					strings.TrimSuffix(v, "!"), strings.Repeat("0", 64))
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
		{"newest that everyone accepts", gardenShelf, "glasshouse", nil,
			"1 dewcalc-1.4 loamdb-0.9[shared=on] 2 mistplan-2.1 3 glasshouse-1.0"},
		{"an older one on request takes its needs along", gardenShelf, "glasshouse mistplan:1.*", nil,
			"1 dewcalc-1.3 loamdb-0.9[shared=on] 2 mistplan-1.9 3 glasshouse-1.0"},
		{"a preview by its exact version", gardenShelf, "mistplan:2.2-rc1", nil,
			"1 dewcalc-1.4 loamdb-0.9[shared=on] 2 mistplan-2.2-rc1"},
		{"a range alone finds no preview", gardenShelf, "mistplan:<=2.2", nil,
			"1 dewcalc-1.4 loamdb-0.9[shared=on] 2 mistplan-2.1"},
		{"an option brings another package", gardenShelf, "mistplan",
			[]Setting{{Package: "mistplan", Option: "plots", Value: "on"}},
			"1 dewcalc-1.4 frondplot-1.2 loamdb-0.9[shared=on] 2 mistplan-2.1[plots=on]"},
		{"the first of either that can be had", "a 1\n needs gone|b|c\nb 1\nc 1", "a", nil, "1 b-1 2 a-1"},
		{"either falls back when the first does not fit", "a 1\n needs b|c\n needs d < 2\nb 1\n needs d >= 2\nc 1\nd 1 2",
			"a", nil, "1 c-1 d-1 2 a-1"},
		{"an older dependant frees a need", "a 1\n needs b\n needs c < 2\nb 1 2\n needs c >= 2 when version >= 2\nc 1 2", "a",
			nil, "1 b-1 c-1 2 a-1"},
		{"an old tool holds no other package back",
			"top 1\n needs a\n needs b\na 1\n tool gen < 2\nb 1\n tool gen\ngen 1 2\n needs base\nbase 1 3", "top", nil,
			"1 base-3 2 gen-2 gen-1 3 a-1 b-1 4 top-1"},
		{"a tool of all is one build",
			"top 1\n needs a\n needs b\na 1\n tool gen\nb 1\n tool gen with fast=true\ngen 1 2\n option fast", "top", nil,
			"1 gen-2[fast=on] 2 a-1 b-1 3 top-1"},
		{"options that tools cannot share", "top 1\n tool gen with fast=true\n tool gen with fast=false\ngen 1\n option fast",
			"top", nil, "1 gen-1 gen-1[fast=on] 2 top-1"},
		{"an older release of itself is its tool", "cc 1 2\n tool cc < 2 when version >= 2", "cc", nil, "1 cc-1 2 cc-2"},
		{"what a tool apart needs is shared where it fits",
			"a 1\n needs base < 3\n tool gen < 2\n needs gen >= 2\ngen 1 2\n needs base\nbase 1 2 3", "a", nil,
			"1 base-2 2 gen-2 gen-1 3 a-1"},
		{"backing out of a circle", "a 1\n needs b\nb 1 2\n needs a when version >= 2", "a", nil, "1 b-1 2 a-1"},
	} {
		t.Run(c.name, func(t *testing.T) {
			got, err := solve(t, c.shelf, strings.Fields(c.wanted), c.options...)
			require.NoError(t, err)
			assert.Equal(t, c.want, got)
		})
	}
}

// Impossible requests are explained in sentences that name recipes and lines.
func TestNoLadder(t *testing.T) {
	for _, c := range []struct {
		name, shelf, wanted string
		options             []Setting
		want                string
	}{
		{"missing", "a 1\n needs dewclac\ndewcalc 1", "a", nil, `No shelf has a recipe "dewclac".
    you asked for a
    a 1 needs dewclac (s/a/recipe.toml:11)
    no shelf has a recipe dewclac (searched: s)
  Did you mean "dewcalc"?`},
		{"range", gardenShelf, "mistplan:3.*", nil, `mistplan has no release that is 3.*.
    you asked for mistplan 3.*
    mistplan has 2.1, 1.9, and as previews 2.2-rc1 (s/mistplan/recipe.toml)
  mistplan 2.1 is the newest that everything else allows: ask for mistplan:2.1.`},
		{"preview would do", gardenShelf, "mistplan:>2.1", nil, `mistplan has no release that is >2.1.
    you asked for mistplan >2.1
    mistplan has 2.1, 1.9, and as previews 2.2-rc1 (s/mistplan/recipe.toml)
  The preview 2.2-rc1 would do: ask for mistplan:2.2-rc1.
  mistplan 2.1 is the newest that everything else allows: ask for mistplan:2.1.`},
		{"two ranges", "a 1\n needs b\n needs c >= 2\nb 1\n needs c < 2\nc 1 2", "a", nil,
			`No release of c satisfies all needs.
    you asked for a
    a 1 needs b (s/a/recipe.toml:11)
    a 1 needs c >= 2 (s/a/recipe.toml:14)
    b 1 needs c < 2 (s/b/recipe.toml:11)
    c has 1, 2 (s/c/recipe.toml)
  If b works with c 2, change its need in s/b/recipe.toml:11.
  If a works with c 1, change its need in s/a/recipe.toml:14.`},
		{"circle", "a 1\n needs b\nb 1\n needs c\nc 1\n needs a", "a", nil,
			`These packages need each other in a circle: a → b → c → a.
    you asked for a
    a 1 needs b (s/a/recipe.toml:11)
    b 1 needs c (s/b/recipe.toml:11)
    c 1 needs a (s/c/recipe.toml:11)
  Break the circle: remove one of these needs, or make it depend on an option that is off (when = …).`},
		{"options", "a 1\n needs b\n needs c with shared=true\nb 1\n needs c with shared=false\nc 1\n option shared", "a",
			nil, `c.shared cannot be both on and off.
    you asked for a
    a 1 needs b (s/a/recipe.toml:11)
    a 1 needs c with shared=on (s/a/recipe.toml:14)
    b 1 needs c with shared=off (s/b/recipe.toml:11)
  If b works without shared=off, remove that from s/b/recipe.toml:11.
  If a works without shared=on, remove that from s/a/recipe.toml:14.`},
		{"option set by a person", gardenShelf, "mistplan", []Setting{{Package: "loamdb", Option: "shared", Value: "off"}},
			`loamdb.shared cannot be both on and off.
    you asked for mistplan
    mistplan needs loamdb with shared=on (s/mistplan/recipe.toml:37)
    you set loamdb.shared=off
  Leave loamdb.shared as it is: without loamdb.shared=off there is a ladder.`},
		{"an option that not all releases have", "a 1\n needs b with x=true\nb 1 2\n option x since 2 on 9", "a b:1", nil,
			`No release of b satisfies all needs.
    you asked for a
    you asked for b 1
    a 1 needs b with x=on (s/a/recipe.toml:11)
    b has 1, 2; with the option x when version >= 2 (s/b/recipe.toml)
  b 2 is the newest that everything else allows: ask for b:2.
  If a works without x=on, remove that from s/a/recipe.toml:11.`},
		{"no such option", "a 1\n needs b with shard=true\nb 1\n option shared", "a", nil, `b has no option "shard".
    you asked for a
    a 1 needs b with shard=on (s/a/recipe.toml:11)
    b has the options: shared, debug (s/b/recipe.toml)
  Add it to s/b/recipe.toml, or remove it from the need.`},
		{"the newest that fits", gardenShelf, "mistplan:2.* dewcalc:1.3", nil, `No release of dewcalc satisfies all needs.
    you asked for mistplan 2.*
    you asked for dewcalc 1.3
    mistplan has 2.1, 1.9, and as previews 2.2-rc1 (s/mistplan/recipe.toml)
    mistplan 2.1 needs dewcalc >= 1.4, < 2 (s/mistplan/recipe.toml:23)
    dewcalc has 1.3, 1.4, 2.0 (s/dewcalc/recipe.toml)
  mistplan 1.9 is the newest that everything else allows: ask for mistplan:1.9.
  dewcalc 1.4 is the newest that everything else allows: ask for dewcalc:1.4.`},
		{"a tool that needs itself", "a 1 2\n tool a < 2", "a", nil, `These packages need each other in a circle: a → a.
    you asked for a
    a needs a < 2 as a tool (s/a/recipe.toml:15)
  Break the circle: remove one of these needs, or make it depend on an option that is off (when = …).`},
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
		`dewcalc has no option "plots"`:       {Package: "dewcalc", Option: "plots", Value: "on"},
		`plots of mistplan cannot be "maybe"`: {Package: "mistplan", Option: "plots", Value: "maybe"},
		`glasshouse is not on this ladder`:    {Package: "glasshouse", Option: "x", Value: "on"},
		`no shelf has a recipe "mistplam"`:    {Package: "mistplam", Option: "x", Value: "on"},
	} {
		_, err := solve(t, gardenShelf, []string{"mistplan"}, set)
		assert.ErrorContains(t, err, want)
	}
}

// Hard shelves are decided without trying all combinations, of which each has more than could be
// tried.
func TestHardShelves(t *testing.T) {
	far := "top 1\n"
	for i := range 20 {
		far += fmt.Sprintf(" needs p%d\n", i)
	}
	far += " needs q >= 9\nq 1\n"
	for i := range 20 {
		far += fmt.Sprintf("p%d 1 2 3 4 5\n", i)
	}
	deep := "" // each release needs one below that is exactly as old; the bottom has none that old
	for i := range 40 {
		deep += fmt.Sprintf("d%d 1 2 3 4 5\n", i)
		for v := 1; v <= 5; v++ {
			deep += fmt.Sprintf(" needs d%d == %d when version == %d\n", i+1, v, v)
		}
	}
	deep += "d40 6\n"
	diamonds := "" // only the oldest release of each fits those above
	for i := range 15 {
		for _, side := range []string{"l", "r"} {
			diamonds += fmt.Sprintf("%s%d 1 2 3 4 5\n needs l%d\n needs r%d < 5 when version == 5\n needs r%d < 2\n", side, i,
				i+1, i+1, i+1)
		}
	}
	diamonds += "l15 1 2 3\n needs r15 > 1\nr15 1 2 3\n"
	circles := "" // the newest release of each needs the one above
	for i := range 30 {
		circles += fmt.Sprintf("c%d 1 2\n needs c%d\n", i, i+1)
		if i > 0 {
			circles += fmt.Sprintf(" needs c%d when version == 2\n", i-1)
		}
	}
	circles += "c30 1\n"
	pigeons := "top 1\n" // six that want one of five holes for themselves
	for i := range 6 {
		pigeons += fmt.Sprintf(" needs pigeon%d\n", i)
	}
	for i := range 6 {
		pigeons += fmt.Sprintf("pigeon%d 1 2 3 4 5\n", i)
		for v := 1; v <= 5; v++ {
			pigeons += fmt.Sprintf(" needs hole%d == %d when version == %d\n", v, i+1, v)
		}
	}
	for h := 1; h <= 5; h++ {
		pigeons += fmt.Sprintf("hole%d 1 2 3 4 5 6\n", h)
	}
	for _, c := range []struct{ name, shelf, wanted, says string }{
		{"a conflict that most have no part in", far, "top", "q has no release that is >= 9"},
		{"a conflict far below", deep, "d0", "No release of d40 satisfies all needs"},
		{"diamonds", diamonds, "l0", "No release of r15 satisfies all needs"},
		{"nearly circles", circles, "c0", ""},
		{"pigeons", pigeons, "top", "satisfies all needs"},
	} {
		t.Run(c.name, func(t *testing.T) {
			began := time.Now()
			_, err := solve(t, c.shelf, []string{c.wanted})
			t.Logf("%s", time.Since(began))
			if c.says == "" {
				assert.NoError(t, err)
			} else {
				assert.ErrorContains(t, err, c.says)
			}
		})
	}
}
