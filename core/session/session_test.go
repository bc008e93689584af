package session_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fernladder/core/machine"
	"fernladder/core/problem"
	"fernladder/core/session"
)

func open(t *testing.T, c session.Config) (*session.Session, error) {
	t.Chdir(t.TempDir())
	_, err := session.NewFolder(".")
	require.NoError(t, err)
	c.Root = filepath.Join(t.TempDir(), "root")
	return session.Open(c)
}

// Requests with wrong values are rejected as such, before anything is written.
func TestOpen(t *testing.T) {
	s, err := open(t, session.Config{})
	require.NoError(t, err)
	assert.NoDirExists(t, s.Store.Root)
	for _, wrong := range []machine.Config{{Jobs: -1}, {Level: "shut"}} {
		_, err := open(t, session.Config{Config: wrong})
		assert.Equal(t, problem.Usage, problem.KindOf(err))
	}
}

// Existing files stay unchanged; reports of no-ops have empty lists, not null.
func TestAnEmptyFolder(t *testing.T) {
	s, err := open(t, session.Config{})
	require.NoError(t, err)
	before, err := os.ReadFile("fernladder.toml")
	require.NoError(t, err)
	_, err = session.NewFolder(".")
	assert.Equal(t, problem.Usage, problem.KindOf(err))
	after, err := os.ReadFile("fernladder.toml")
	require.NoError(t, err)
	assert.Equal(t, before, after)

	list, err := s.List(session.ListRequest{})
	require.NoError(t, err)
	assert.NotNil(t, list.Builds)
	report, err := s.Clean(t.Context(), session.CleanRequest{})
	require.NoError(t, err)
	assert.NotNil(t, report.Trees)
	assert.False(t, report.Deleted)
	_, err = s.Plan(t.Context(), session.LadderRequest{})
	assert.Error(t, err)
	_, err = s.Remove(t.Context(), session.RemoveRequest{Names: []string{"fern"}, Archives: true})
	assert.Equal(t, []problem.Remedy{problem.Do(problem.DeleteTrees), problem.Do(problem.CleanArchives, "fern")},
		problem.Remedies(err))
	assert.NoDirExists(t, s.Store.Root)
}
