package pack

import (
	"io/fs"
	"slices"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"fernladder/core/landing"
	"fernladder/core/machine"
	"fernladder/core/store"
)

// A path of another build's file is found anywhere in a file of any form; no build is found
// whose files are not named.
func TestMentions(t *testing.T) {
	moss, reed, sage := store.Ref{Name: "moss", Version: "1", ID: "aaaaaaaaaaaa"},
		store.Ref{Name: "reed", Version: "2", ID: "bbbbbbbbbbbb"}, store.Ref{Name: "sage", Version: "3", ID: "cccccccccccc"}
	entry := func(build store.Ref, path string, mode fs.FileMode) landing.UnionEntry {
		return landing.UnionEntry{File: store.File{Path: path, Mode: mode}, Build: build}
	}
	union := landing.Union{entry(moss, "bin", fs.ModeDir), entry(moss, "bin/moss", 0o755), entry(moss, "lib", fs.ModeDir),
		entry(moss, "lib/reed", fs.ModeDir), entry(reed, "lib/reed/leaf", 0o644), entry(sage, "share", fs.ModeDir)}
	trees := func(text string, r *store.Receipt, prefix string) []store.Ref {
		p := &packing{m: &machine.Machine{Store: &store.Store{Root: "/R"}}, union: union}
		r.Prefix = prefix
		n := &requires{named: true, trees: map[store.Ref]bool{}, dirs: map[string]bool{}}
		require.NoError(t, p.mentions(n, r, iotest.HalfReader(strings.NewReader(text))))
		var all []store.Ref
		for _, ref := range []store.Ref{moss, reed, sage} {
			if n.trees[ref] {
				all = append(all, ref)
			}
		}
		return all
	}
	for named, wants := range map[string][]store.Ref{
		"/opt/vale/bin/moss":    {moss},
		"/opt/vale/bin//moss":   {moss},
		"/opt/vale/lib/reed":    {reed}, // what is in a directory
		"/opt/vale/lib/reed/x":  nil,
		"/opt/vale/lib":         nil, // every package has one
		"/opt/vale/share":       nil,
		"/opt/valet/bin/moss":   nil,
		"/opt/vale/../bin/moss": nil,
	} {
		rapid.Check(t, func(t *rapid.T) {
			before := rapid.SampledFrom([]int{0, 1, 5, 255<<10 + rapid.IntRange(0, 2<<10).Draw(t, "at"), 256<<10 - 4096 - 3,
				512 << 10}).Draw(t, "before")
			end := rapid.SampledFrom([]string{"", " ", "\x00", ":", "\"", "\n"}).Draw(t, "end")
			text := strings.Repeat("x", before) + named + end + strings.Repeat("=", rapid.SampledFrom([]int{0, 1, 300 << 10}).
				Draw(t, "after"))
			assert.Equal(t, wants, trees(text, &store.Receipt{Ref: sage}, "/opt/vale"), named)
		})
	}
	text := "a /R/trees/moss/1-aaaaaaaaaaaa/share x\x00/R/trees/reed/2-bbbbbbbbbbbb/R/trees/sage/3-cccccccccccc"
	assert.Equal(t, []store.Ref{moss, reed}, slices.DeleteFunc(trees(text, &store.Receipt{Ref: sage}, ""),
		func(r store.Ref) bool { return r == sage }))
}
