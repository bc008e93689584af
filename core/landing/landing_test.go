package landing

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fernladder/core/store"
)

func ref(name, version string) store.Ref {
	return store.Ref{Name: name, Version: version, ID: "0123456789ab"}
}

// plant installs a build with these files.
func plant(t *testing.T, s *store.Store, r store.Ref, needs []store.Link, files ...string) store.Ref {
	stage := filepath.Join(t.TempDir(), "stage")
	require.NoError(t, os.Mkdir(stage, 0o755))
	for _, name := range files {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(stage, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(stage, name), []byte(r.Version), 0o755))
	}
	_, _, err := s.Place(stage, r, nil)
	require.NoError(t, err)
	require.NoError(t, s.Commit(&store.Receipt{Ref: r, Needs: needs}))
	return r
}

func open(t *testing.T) *store.Store {
	s := &store.Store{Root: t.TempDir()}
	require.NoError(t, s.Prepare())
	return s
}

func read(t *testing.T, s *store.Store, name string) string {
	data, err := os.ReadFile(filepath.Join(Directory(s), name))
	if err != nil {
		return "not there"
	}
	return string(data)
}

func TestLandingChangesInOneStep(t *testing.T) {
	s := open(t)
	one := plant(t, s, ref("fern", "1.0"), nil, "bin/fern", "share/fern/a/b", "share/info/dir")
	two := plant(t, s, ref("fern", "2.0"), nil, "bin/fern", "bin/frond")
	moss := plant(t, s, ref("moss", "1.0"), nil, "bin/moss", "share/info/dir")
	now := time.Date(2026, 3, 20, 12, 0, 0, 0, time.UTC)

	first, err := Change(s, []Member{{one, true}, {moss, true}}, now)
	require.NoError(t, err)
	assert.Equal(t, 1, first.Number)
	assert.Equal(t, "1.0", read(t, s, "share/fern/a/b"))
	assert.Equal(t, "not there", read(t, s, "share/fernladder/receipt.json"))
	assert.Equal(t, "not there", read(t, s, "share/info/dir"), "which both have, and neither may own")

	same, err := Change(s, []Member{{one, true}, {moss, true}}, now)
	require.NoError(t, err)
	assert.Equal(t, 1, same.Number, "nothing to do")

	second, err := Change(s, []Member{{two, true}, {moss, true}}, now)
	require.NoError(t, err)
	assert.Equal(t, 2, second.Number)
	assert.Equal(t, "2.0", read(t, s, "bin/fern"))
	current, err := Current(s)
	require.NoError(t, err)
	assert.Equal(t, second, current)

	forgotten, err := Forget(s, one)
	require.NoError(t, err)
	assert.Equal(t, []int{1}, forgotten)
	forgotten, err = Forget(s, two)
	require.NoError(t, err)
	assert.Empty(t, forgotten, "the state in use stays")
}

func TestConflictsAreRefusedWithBothNames(t *testing.T) {
	s := open(t)
	fern := plant(t, s, ref("fern", "1.0"), nil, "bin/grow")
	moss := plant(t, s, ref("moss", "1.0"), nil, "bin/grow")
	stone := plant(t, s, ref("stone", "1.0"), nil, "bin/grow/slowly")
	_, err := Change(s, []Member{{fern, true}}, time.Now())
	require.NoError(t, err)
	for _, other := range []store.Ref{moss, stone} {
		for _, members := range [][]Member{{{fern, true}, {other, true}}, {{other, true}, {fern, true}}} {
			_, err := Change(s, members, time.Now())
			var conflict *Conflict
			require.ErrorAs(t, err, &conflict)
			assert.Equal(t, "bin/grow", conflict.Path)
			assert.ElementsMatch(t, []store.Ref{fern, other}, []store.Ref{conflict.First, conflict.Second})
		}
	}
	assert.Equal(t, "1.0", read(t, s, "bin/grow"), "the landing stays as it was")
}

func TestMembersAreWhatIsAskedForAndWhatItRunsWith(t *testing.T) {
	s := open(t)
	water := plant(t, s, ref("water", "1.0"), nil)
	soil := plant(t, s, ref("soil", "1.0"), []store.Link{{Ref: water, Role: "runtime"}})
	spade := plant(t, s, ref("spade", "1.0"), nil)
	fern := plant(t, s, ref("fern", "1.0"), []store.Link{{Ref: soil, Role: "runtime"}, {Ref: spade, Role: "tool"}})
	members, err := Members([]store.Ref{fern, water}, s.Needs)
	require.NoError(t, err)
	assert.Equal(t, []Member{{fern, true}, {soil, false}, {water, true}}, members)

	_, err = Members([]store.Ref{fern, ref("water", "2.0")}, s.Needs)
	var clash *Clash
	require.Error(t, err)
	plant(t, s, ref("water", "2.0"), nil)
	_, err = Members([]store.Ref{fern, ref("water", "2.0")}, s.Needs)
	require.ErrorAs(t, err, &clash)
	assert.Equal(t, Clash{Wanted: ref("water", "2.0"), Needed: water, By: soil}, *clash)
}

// A program that ended between two steps has left nothing that is in the way.
func TestLeftoversDoNoHarm(t *testing.T) {
	s := open(t)
	fern := plant(t, s, ref("fern", "1.0"), nil, "bin/fern")
	require.NoError(t, os.MkdirAll(filepath.Join(s.Root, "landings", "1", "bin", "half"), 0o755))
	state, err := Change(s, []Member{{fern, true}}, time.Now())
	require.NoError(t, err)
	assert.Equal(t, 1, state.Number)
	assert.NoDirExists(t, filepath.Join(Directory(s), "bin", "half"))

	require.NoError(t, os.Remove(Directory(s)))
	require.NoError(t, os.Symlink("/elsewhere", Directory(s)))
	_, err = Current(s)
	assert.ErrorContains(t, err, "should be a link to a numbered state")
}
