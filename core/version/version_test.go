package version

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// Each line is in ascending order; "=" joins equal versions.
var ascending = []string{
	"1.6-alpha2 1.6-beta.3 1.6-pre1 1.6-rc1 1.6-rc2 1.6=1.6.0=1.06 1.6+7.gabc 1.6+12 1.6a 1.6b 1.6.1 1.10",
	"1.0.2 1.0.2a 1.0.2k 1.0.2.1 1.0.3",
	"3.98 3.99.5 3.100",
	"2023d 2024=2024.0 2024a 2024b 20240115",
	"9 9d 9e 10",
	"5.0.0-beta.3=5.0-beta.3=5-beta3 5.0.0-rc1 5.0 5.0.1-rc1 5.0.1",
	"25.0.7 25.0.7+108.gabc1234 25.0.7+109.gabc1234 25.0.8",
	"1 1+1.2.3 1+2 1+10 1a",
	"1.2-RC1=1.2-rc1=1.2_rc.1 1.2",
	"1.99999999999999999999998 1.99999999999999999999999",
	"1.0-rc1 1.0.0.1",
}

func TestOrder(t *testing.T) {
	for _, line := range ascending {
		var groups [][]Version
		for _, group := range strings.Fields(line) {
			var equal []Version
			for _, text := range strings.Split(group, "=") {
				equal = append(equal, MustParse(text))
			}
			groups = append(groups, equal)
		}
		for i, a := range groups {
			for j, b := range groups {
				for _, v := range a {
					for _, w := range b {
						assert.Equal(t, sign(i-j), v.Compare(w), "%s against %s", v, w)
					}
				}
			}
		}
	}
}

func TestParseRefuses(t *testing.T) {
	for text, reason := range map[string]string{
		"":                             "cannot be empty",
		"v1.2":                         `write "1.2"`,
		"latest":                       "begin with a digit",
		"1.2/../..":                    "'/' at character 4",
		"1.2 3":                        "' ' at character 4",
		"1+2+3":                        "more than one '+'",
		"1.2+":                         "nothing after the '+'",
		"1.2é":                         "'é' at character 4",
		"1" + strings.Repeat(".1", 60): "at most 100",
	} {
		_, err := Parse(text)
		require.Error(t, err, text)
		assert.Contains(t, err.Error(), reason)
	}
}

func TestRangeContains(t *testing.T) {
	for _, c := range []struct{ text, in, out string }{
		{">= 1.4, < 2", "1.4 1.4.0 1.4a 1.9.9 2.0-rc1", "1.4-rc1 1.3.9 2 2.0.0 2.0+1"},
		{"2.*", "2 2.0 2.7.3 2.0-rc1 2k 2.1+5", "20 1.9 3.0-rc1"},
		{"2.0.*", "2.0-rc1 2.0.7 2 2.0+1", "2.1 2.01.5"},
		{"2.0.1.*", "2.0.1 2.0.1+7", "2.0+1 2+0.1"},
		{"1.9.4", "1.9.4 1.9.4.0", "1.9.4+1 1.9.4a 1.9.40"},
		{">=1,!=1.3", "1 1.2 1.4 1.3.1", "1.3 1.3.0 0.9"},
		{"> 1, <= 1.5", "1.0.1 1.5", "1 1.0 1.5.0.1"},
		{"2.*, != 2.3", "2.2 2.4", "2.3 3"},
	} {
		r, err := ParseRange(c.text)
		require.NoError(t, err)
		for _, v := range strings.Fields(c.in) {
			assert.True(t, r.Contains(MustParse(v)), "%s holds %s", c.text, v)
		}
		for _, v := range strings.Fields(c.out) {
			assert.False(t, r.Contains(MustParse(v)), "%s does not hold %s", c.text, v)
		}
	}
	assert.True(t, Range{}.Contains(MustParse("0")), "the zero range holds everything")
}

func TestParseRangeRefuses(t *testing.T) {
	for text, reason := range map[string]string{
		"":         "range is missing",
		">= 1.4,":  "range is missing",
		">= 2.*":   "mixes a comparison with a series",
		"2+1.*":    "a series cannot contain '+'",
		"=> 1":     "does not begin with a digit",
		"~1.2":     "does not begin with a digit",
		">= 1 < 2": "' '",
	} {
		_, err := ParseRange(text)
		require.Error(t, err, text)
		assert.Contains(t, err.Error(), reason, text)
	}
}

// anyVersion draws versions that are likely to be close to each other.
func anyVersion() *rapid.Generator[Version] {
	return rapid.Custom(func(t *rapid.T) Version {
		pieces := rapid.SliceOfN(rapid.SampledFrom([]string{
			"0", "1", "2", "10", "00", "a", "b", "k", "alpha", "beta", "pre", "rc", "RC", ".", "-", "_",
		}), 0, 6).Draw(t, "pieces")
		text := rapid.SampledFrom([]string{"0", "1", "2"}).Draw(t, "first") + strings.Join(pieces, "")
		if rapid.Bool().Draw(t, "plus") {
			text += "+" + rapid.SampledFrom([]string{"0", "1", "2.g1", "rc", "k"}).Draw(t, "after")
		}
		return MustParse(text)
	})
}

func TestOrderIsTotal(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		a, b, c := anyVersion().Draw(t, "a"), anyVersion().Draw(t, "b"), anyVersion().Draw(t, "c")
		assert.Zero(t, a.Compare(a))
		assert.Equal(t, a.Compare(b), -b.Compare(a), "antisymmetric")
		if a.Compare(b) <= 0 && b.Compare(c) <= 0 {
			assert.LessOrEqual(t, a.Compare(c), 0, "transitive")
		}
		if a.Compare(b) == 0 {
			assert.Equal(t, a.Compare(c), b.Compare(c), "equal versions compare alike with a third")
			exactly, err := ParseRange(a.String())
			require.NoError(t, err)
			assert.True(t, exactly.Contains(b))
		}
	})
}

func FuzzParse(f *testing.F) {
	for _, line := range ascending {
		for _, text := range strings.FieldsFunc(line, func(c rune) bool { return c == ' ' || c == '=' }) {
			f.Add(text, "1.2")
		}
	}
	f.Add("1..--__", "1.+.")
	f.Fuzz(func(t *testing.T, a, b string) {
		v, errV := Parse(a)
		w, errW := Parse(b)
		if errV != nil || errW != nil {
			return
		}
		again := MustParse(v.String())
		if again.Compare(v) != 0 || v.Compare(w) != -w.Compare(v) {
			t.Fatalf("%q and %q", a, b)
		}
		if r, err := ParseRange(">= " + a); err != nil || !r.Contains(v) {
			t.Fatalf(">= %s does not hold %s: %v", a, a, err)
		}
	})
}

// Any range is read or rejected, and its text is read as the same range.
func FuzzRange(f *testing.F) {
	for _, text := range []string{">= 1.4, < 2", "2.*", "1.9.4", "!= 1", ">=", ", ,", "*", "1.*.2", "> 1.6-rc1, != 1.6"} {
		f.Add(text, "1.6")
	}
	f.Fuzz(func(t *testing.T, text, number string) {
		r, err := ParseRange(text)
		v, err2 := Parse(number)
		if err != nil || err2 != nil {
			return
		}
		again, err := ParseRange(r.String())
		if r.String() != "any" && (err != nil || again.Contains(v) != r.Contains(v)) {
			t.Fatalf("%q says %q: %v", text, r, err)
		}
	})
}

func TestPreviewsAreToldByTheirNames(t *testing.T) {
	for text, want := range map[string]bool{"2.0-beta3": true, "1.6-RC1": true, "5.0.0-alpha.1": true, "2.0pre": true,
		"2.0": false, "1.0.2k": false, "2.0+3.rc": false, "2024a": false} {
		assert.Equal(t, want, MustParse(text).Preview(), text)
	}
}
