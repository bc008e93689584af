package tomlfile

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestEdits(t *testing.T) {
	const before = "# top\nformat = 1   # first\r\n\n[offers]  # what it has\nnames = [ 'a', # one\n  \"b\\\"]\" ]  # " +
		"after\ntext = '''x\n[y]'''\n\n# the newest\n[[release]]\nversion   = \"1\"\nsha256    = \"0\"\n[last]"
	for name, c := range map[string]struct {
		edit      func(e *Edit)
		old, want string
	}{
		"before the first, above its comment": {func(e *Edit) {
			e.InsertBefore("release", "[[release]]\nversion = \"2\"\n")
		}, "# the newest\n", "[[release]]\nversion = \"2\"\n\n# the newest\n"},
		"before none": {func(e *Edit) {
			e.InsertBefore("absent", "[[absent]]\n")
		}, "[last]", "[last]\n\n[[absent]]\n"},
		"a value over two lines": {func(e *Edit) {
			e.SetTable("offers", []string{"names"}, map[string]string{"names": `["c"]`})
		}, "[ 'a', # one\n  \"b\\\"]\" ]", `["c"]`},
		"a text over two lines": {func(e *Edit) {
			e.SetTable("offers", []string{"text"}, map[string]string{"text": `"z"`})
		}, "'''x\n[y]'''", `"z"`},
		"a key that is not there": {func(e *Edit) {
			e.SetTable("offers", []string{"new"}, map[string]string{"new": "1"})
		}, "[y]'''\n", "[y]'''\nnew = 1\n"},
		"a key in an empty table": {func(e *Edit) {
			e.SetTable("last", []string{"new"}, map[string]string{"new": "1"})
		}, "[last]", "[last]\nnew = 1"},
		"a table in a table": {func(e *Edit) {
			e.SetTable("last.one", []string{"new"}, map[string]string{"new": "1"})
			e.SetTable("last.one", []string{"new"}, map[string]string{"new": "2"})
		}, "[last]", "[last]\n\n[last.one]\nnew = 2\n"},
		"a table that has one below it": {func(e *Edit) {
			e.SetTable("last.one", []string{"new"}, map[string]string{"new": "1"})
			e.SetTable("last", []string{"more"}, map[string]string{"more": "2"})
		}, "[last]", "[last]\nmore = 2\n\n[last.one]\nnew = 1\n"},
		"a table that is not there": {func(e *Edit) {
			e.SetTable("more", []string{"new"}, map[string]string{"new": "1"})
		}, "[last]", "[last]\n\n[more]\nnew = 1\n"},
	} {
		t.Run(name, func(t *testing.T) {
			e, err := Parse("x.toml", []byte(before))
			require.NoError(t, err)
			c.edit(e)
			got, err := e.Bytes()
			require.NoError(t, err)
			assert.Equal(t, strings.Replace(before, c.old, c.want, 1), string(got))
		})
	}
	e, err := Parse("x.toml", []byte(before))
	require.NoError(t, err)
	assert.Equal(t, 10, e.Style("release"))
	_, err = Parse("x.toml", []byte("a = \n"))
	assert.Error(t, err)
}

// An option of a wanted package is written where a person would write it, whatever the form of
// the others, and removed without a trace.
func TestSetAndRemove(t *testing.T) {
	for name, c := range map[string]struct{ before, after string }{
		"an empty file": {"# mine\n", "# mine\n\n[wanted.moss]\noptions = { plots = true }\n"},
		"others are wanted": {"[wanted.fern]   # x\n",
			"[wanted.fern]   # x\n\n[wanted.moss]\noptions = { plots = true }\n"},
		"wanted without options": {"[wanted.moss]\nversion = \"2.*\"  # why\n\n# more\n[x]\n",
			"[wanted.moss]\nversion = \"2.*\"  # why\noptions = { plots = true }\n\n# more\n[x]\n"},
		"wanted as it is": {"[wanted.moss]\n[x]\n", "[wanted.moss]\noptions = { plots = true }\n[x]\n"},
		"options in one line": {"[wanted.moss]\noptions = { a = 1, b = \"}\" }  # c\n",
			"[wanted.moss]\noptions = { a = 1, b = \"}\", plots = true }  # c\n"},
		"no options in one line": {"[wanted.moss]\noptions = {}\n", "[wanted.moss]\noptions = { plots = true }\n"},
		"options with a header": {"[wanted.moss.options]\na = 1  # one\n\n[x]\n",
			"[wanted.moss.options]\na = 1  # one\nplots = true\n\n[x]\n"},
		"options with dots": {"[wanted.moss]\noptions.a = 1\nversion = \"2\"\n",
			"[wanted.moss]\noptions.a = 1\nversion = \"2\"\noptions.plots = true\n"},
		"wanted in one line": {"[wanted]\nmoss = { version = \"2\" }\n",
			"[wanted]\nmoss = { version = \"2\", options.plots = true }\n"},
		"a value that is there": {"[wanted.moss]\noptions = { plots = [\"a\", \"b\"], z = 1 }\n",
			"[wanted.moss]\noptions = { plots = true, z = 1 }\n"},
		"a key in quotes": {"[wanted.moss.options]\n'plots' = false # x\n",
			"[wanted.moss.options]\n'plots' = true # x\n"},
		"a table that has a header": {"[wanted.moss.options]\n[wanted.moss.options.deep]\n",
			"[wanted.moss.options]\nplots = true\n[wanted.moss.options.deep]\n"},
	} {
		t.Run(name, func(t *testing.T) {
			e, err := Parse("x.toml", []byte(c.before))
			require.NoError(t, err)
			e.Set("true", "wanted", "moss", "options", "plots")
			got, err := e.Bytes()
			require.NoError(t, err)
			assert.Equal(t, c.after, string(got))
			e.Remove("wanted", "moss", "options", "plots")
			got, err = e.Bytes()
			require.NoError(t, err)
			assert.NotContains(t, string(got), "plots")
			assert.NotContains(t, string(got), ", }")
		})
	}
	e, err := Parse("x.toml", []byte("wanted = 1\n"))
	require.NoError(t, err)
	e.Set("true", "wanted", "moss", "options", "plots")
	_, err = e.Bytes()
	assert.ErrorContains(t, err, "wanted is not a table")
}

// For any file, an edit changes its own subject and nothing else.
func FuzzEdit(f *testing.F) {
	f.Add("a = 1\n[t]\nk = [1, [2]] # x\n", "k")
	f.Add("[t]\nk = \"\"\"a\\\"\"\"\"\n", "k")
	f.Add("[t.u]\nx = {a = '}'}\n", "x")
	f.Fuzz(func(t *testing.T, text, key string) {
		e, err := Parse("x.toml", []byte(text))
		table := e.root.get("t")
		if err != nil || key == "" || strings.Trim(key, "abcdefghijklmnopqrstuvwxyz") != "" || table == nil ||
			table.kind != aTable || !table.sealed || len(table.entries) == 0 {
			return
		}
		old := table.get(key)
		if old == nil || old.kind == aTable {
			return
		}
		e.SetTable("t", []string{key}, map[string]string{key: `"new"`})
		_, err = e.Bytes()
		require.NoError(t, err)
		assert.Equal(t, "new", e.root.get("t").get(key).text, text)
		assert.Len(t, e.root.get("t").entries, len(table.entries), text)
	})
}

func TestQuote(t *testing.T) {
	for _, text := range []string{"", "a", `a"b\c`, "a\nb\x00\x7f", "é", "'''"} {
		e, err := Parse("x.toml", []byte("k = "+Quote(text)))
		require.NoError(t, err)
		assert.Equal(t, text, e.root.get("k").text)
	}
}
