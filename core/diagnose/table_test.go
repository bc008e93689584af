package diagnose

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// Each entry of the table does what its example says.
func TestTable(t *testing.T) {
	table := Own()
	for i := range table.rules {
		r := &table.rules[i]
		got, by := table.diagnose(cleaned(r.Example))
		assert.Equal(t, r.Means, described(got), r.Example)
		assert.Same(t, r, by, "%s: %s", r.Match, r.Example)
		assert.NotEmpty(t, needs(r.Match), r.Match)
	}
	for i := range table.marks {
		m := &table.marks[i]
		assert.NotEmpty(t, needs(m.Match), m.Match)
		assert.True(t, m.pattern.MatchString(m.Example), m.Example)
		want := went
		if m.Failed {
			want = failed
		}
		assert.Equal(t, want, table.ending(strings.Split(m.Example, "\n")).how, m.Example)
	}
}

// described is everything a cause says, in one line.
func described(c Cause) string {
	text := string(c.Kind) + ": " + c.String()
	if c.Place != "" {
		text += " (" + c.Place + ")"
	}
	if c.Without != "" {
		text += "; or " + c.Without
	}
	return text
}

// Additions of terminals, other encodings and callers are removed from lines; their number does
// not change.
func TestCleaned(t *testing.T) {
	for name, c := range map[string]struct{ text, want string }{
		"colours":            {"\x1b[1;31merror:\x1b[0m no moss\x1b]0;title\x07\n", "error: no moss"},
		"written over":       {"10%\r50%\r100%\nnext\r\n", "100%|next"},
		"UTF-16":             {"\xff\xfee\x00r\x00\n\x00f\x00", "er|f"},
		"UTF-16, big end":    {"\xfe\xff\x00e\x00r", "er"},
		"control characters": {"a\x00b\x07c\n", "abc"},
		"times": {strings.Repeat("2026-11-30T04:00:01.123Z make: x\n", 5),
			"make: x|make: x|make: x|make: x|make: x"},
		"some times": {"2026-11-30T04:00:01Z a\nb\nc\nd\n", "2026-11-30T04:00:01Z a|b|c|d"},
		"frames": {"  ╰─> [2 lines of output]\n      a\n        b\n      [end of output]\n      c",
			"  ╰─> [2 lines of output]|a|  b|      [end of output]|      c"},
		"a line without end": {strings.Repeat("x", 2*longestLine), strings.Repeat("x", longestLine)},
	} {
		assert.Equal(t, c.want, strings.Join(cleaned(c.text), "|"), name)
	}
}

// The last messages of tools decide; output before the end of a phase does not matter.
func TestEnding(t *testing.T) {
	for text, want := range map[string]string{
		"configure: error: no moss\nBUILD SUCCESSFUL":             "it did not fail",
		"100% tests passed\nsoil: empty\nmake: *** [all] Error 2": "it says: soil: empty",
		"a.c:1:1: fatal error: moss.h: No such file or directory\n-- Build files have been written to: /b\nfern: no " +
			"soil\nninja: build stopped: subcommand failed.": "it says: fern: no soil",
		"cc -c a.c\ncc -o a a.o":             "it did not fail",
		"growing":                            "the cause is not clear",
		"ld: no soil for moss, cannot go on": "it says: ld: no soil for moss, cannot go on",
		"checking for moss... not found":     "the cause is not clear",
		"make: [clean] Error 1 (ignored)":    "it did not fail",
		"error: 0 failures":                  "the cause is not clear",
		"thread 'x' panicked at a.rs:1:1:\nno soil\nerror: test failed": "a program of the build gave up: no soil",
	} {
		assert.Equal(t, want, Own().Log(text).String(), text)
	}
}

// Mistakes in a shelf's table are reported; its valid entries come before ours.
func TestOtherTables(t *testing.T) {
	entry := "[[cause]]\nmatch = 'no (?P<name>\\w+) left'\nsays = \"the {name} is used up\"\nexample = 'no soil left'\n"
	table, err := Own().With([]byte(entry))
	assert.NoError(t, err)
	assert.Equal(t, "site: the soil is used up", described(table.Log("no soil left\nmake: *** [all] Error 1")))
	for text, want := range map[string]string{
		"[[mark]]\nmatch = '('":                    "marks are for the table of the program itself",
		entry + "kind = \"fine\"\n":                "there is no kind \"fine\"",
		entry + "names = [\"\\u001b[2J\"]\n":       "one line each",
		"[[cause":                                  "line 1: ",
		"[[cause]]\nmach = 'x'":                    "line 2: there is no key cause.mach",
		strings.Replace(entry, "\\w+)", "\\w+", 1): "cause 1: match: ",
		strings.Replace(strings.ReplaceAll(entry, "no ", ""), " left", "", 2): "no text of at least three letters",
		entry + "then = \"said\"\n":                        "then is for causes of the program itself",
		entry + "kind = \"soil\"\n":                        "there is no kind \"soil\"; kinds are compile_error, ",
		strings.Replace(entry, "says", "helps", 1):         "says is missing",
		strings.Replace(entry, "is used", "\\u001b is", 1): "one line each",
		"[[cause]]\nmatch = 'no soil'\nsays = 'x'\n":       "example is missing",
	} {
		_, err := Own().With([]byte(text))
		assert.ErrorContains(t, err, want, text)
	}
	assert.Equal(t, "[[cause]]\nmatch   = '\\S+:\\d+: no soil for \\d+ plants'\n",
		Frame("/srv/a.c:7: no soil for 12 plants")[:54])
}

// The argument that a message asks for is found, unless the message is about doing without.
func TestAsksFor(t *testing.T) {
	for text, want := range map[string]string{
		"configure: error: moss is GPL and --enable-gpl is not specified.":                                     "--enable-gpl",
		"configure: error: no leaf; pass --with-internal-leaf to use the bundled copy":                         "--with-internal-leaf",
		"CMake Error at CMakeLists.txt:3 (message):\n  leaf not found.  Use -DBUILD_LEAF=ON to build it here.": "-DBUILD_LEAF=ON",
		"configure: error: leaf not found, use --disable-leaf for a build without":                             "",
		"configure: error: leaf not found":                                                                     "",
	} {
		assert.Equal(t, want, Own().Log(text).Asks, text)
	}
}
