package session

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fernladder/core/advisory"
	"fernladder/core/machine"
	"fernladder/core/recipe"
	"fernladder/core/store"
)

// A build from a repository is known by it, and a part of its source by its own name.
func TestPartsOfASourceAreLookedUp(t *testing.T) {
	s := &Session{&machine.Machine{Shelves: recipe.NewShelves(nil)}}
	all := s.holding(&store.Receipt{Ref: store.Ref{Name: "fern", Version: "1.0+3.gabc"}, Sources: []store.Source{
		{URL: "https://vale.example/fern.git", Commit: "abc"},
		{Into: "data/curves", Purl: "pkg:generic/vale/curves@7"}, {Into: "data/moss"}}}, whereUsed)
	require.Len(t, all, 2)
	assert.Equal(t, &advisory.Subject{Name: "fern", Version: "1.0+3.gabc", Commit: "abc",
		Repository: "https://vale.example/fern.git", Known: recipe.KnownAs{Git: "https://vale.example/fern.git"}}, all[0].subject)
	assert.Equal(t, "data/curves", all[1].part)
	assert.Equal(t, &advisory.Subject{Name: "data/curves", Version: "7", Known: recipe.KnownAs{Purl: "pkg:generic/vale/curves"}},
		all[1].subject)
}
