package term

import (
	"bytes"
	"encoding/json"
	"strings"
	"testing"
	"unicode"
	"unicode/utf8"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestNothingActsOnTheTerminal(t *testing.T) {
	s, out, errOut := screen(false)
	s.colourOut = true
	s.Print("%s and %s", s.Bad("fern\x1b[31m"), "a\x1b]0;title\x07b\u009b2Jc\u202egp.exe\x7f\xff\ttab\r\nnext\rline")
	assert.Equal(t,
		"\x1b[31mfern\\x1b[31m\x1b[0m and a\\x1b]0;title\\x07b\\u009b2Jc\\u202egp.exe\\u007f\\xff\ttab\nnext\\x0dline\n",
		out.String())
	s.Fail("it says \x1b[2J")
	assert.Equal(t, "fernladder: it says \\x1b[2J\n", errOut.String())
	out.Reset()
	require.NoError(t, s.Log(strings.NewReader("10%\r20%\r\ndone \x1b[1mgreen")))
	assert.Equal(t, "10%\n20%\ndone \\x1b[1mgreen", out.String())
	assert.Equal(t, `a\x0ab`, OneLine("a\nb"))
}

// For any text in any pieces, no control sequence gets through, and plain text is unchanged.
// JSON stays the same JSON.
func TestFilterProperties(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		written := rapid.SliceOf(rapid.Byte()).Draw(r, "bytes")
		if rapid.Bool().Draw(r, "text") {
			written = []byte(rapid.String().Draw(r, "string"))
		}
		var whole, pieces bytes.Buffer
		(&filter{w: &whole, mark: "42"}).Write(written)
		f := &filter{w: &pieces, mark: "42"}
		cut := rapid.IntRange(0, len(written)).Draw(r, "cut")
		f.Write(written[:cut])
		f.Write(written[cut:])
		shown := whole.String()
		assert.True(r, utf8.ValidString(shown))
		assert.False(r, strings.ContainsFunc(shown, func(c rune) bool { return acts(c) && c != '\n' && c != '\t' }),
			"%q", shown)
		if text := string(written); utf8.ValidString(text) &&
			!strings.ContainsFunc(text, func(c rune) bool { return acts(c) || unicode.IsControl(c) }) {
			assert.Equal(r, text, shown)
			assert.Equal(r, text, pieces.String())
		}
		value := strings.ToValidUTF8(string(written), "?")
		var encoded, filtered bytes.Buffer
		require.NoError(r, json.NewEncoder(&encoded).Encode(value))
		(&filter{w: &filtered}).Write(encoded.Bytes())
		var back string
		require.NoError(r, json.Unmarshal(filtered.Bytes(), &back))
		assert.Equal(r, value, back)
	})
}

func TestOnlyOurOwnColoursAreShown(t *testing.T) {
	s, out, _ := screen(false)
	other, _, _ := screen(false)
	s.Print("%s%s", s.paint(true, "ours", text.Bold), other.paint(true, "theirs", text.Bold))
	assert.True(t, strings.HasPrefix(out.String(), "\x1b[1mours\x1b[0m\\x1b[1;"), out.String())
}
