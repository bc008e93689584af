package repository

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"fernladder/core/ospackage"
)

// The requested number of versions of each package stays, for each kind of machine; a tree is
// removed with the last package that needs it, and its development package with it.
func TestHowManyVersionsStay(t *testing.T) {
	e := func(name, version, arch string, needs ...string) Entry {
		return Entry{Format: ospackage.Deb, Suite: "stable", Name: name, Version: version, Arch: arch, File: "pool/" + name +
			"_" + version + "_" + arch, Needs: needs}
	}
	const one, two, three = "vale-fern-000000000001", "vale-fern-000000000002", "vale-fern-000000000003"
	entries := []Entry{
		e("vale-fern", "1.0", "all", one), e("vale-fern", "2.0", "all", two),
		e("vale-fern", "10.0", "all", three, "vale-fern-config"), e("vale-fern-config", "10.0", "all"),
		e(one, "1.0", "amd64"), e(one+"-dev", "1.0", "amd64", one), e(two, "2.0", "amd64"),
		e(three, "10.0", "amd64", "vale-moss-0000000000aa"), e("vale-moss-0000000000aa", "1.0", "amd64"),
		// Whose shape has changed.
		e("vale-reed", "1.0", "all"), e("vale-reed", "2.0", "amd64"), e("vale-reed", "2.0", "arm64"),
		e("vale-reed", "3.0", "arm64"),
	}
	for keep, wants := range map[int][]string{
		0: nil,
		2: {"vale-fern 1.0 all", "vale-reed 1.0 all", one + " 1.0 amd64", one + "-dev 1.0 amd64"},
		1: {"vale-fern 1.0 all", "vale-fern 2.0 all", "vale-reed 1.0 all", "vale-reed 2.0 arm64", one + " 1.0 amd64",
			one + "-dev 1.0 amd64", two + " 2.0 amd64"},
	} {
		left, gone := trimmed(append([]Entry{}, entries...), keep)
		var names []string
		for _, g := range gone {
			names = append(names, g.Name+" "+g.Version+" "+g.Arch)
		}
		assert.ElementsMatch(t, wants, names, "keep %d", keep)
		assert.Len(t, left, len(entries)-len(gone))
	}
}
