package machine_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fernladder/core/machine"
	"fernladder/core/settings"
)

// Opening a machine changes nothing, whatever is wrong with the credentials; their mistakes are
// reported to the user who fetches.
func TestOpenWritesNothing(t *testing.T) {
	dir := t.TempDir()
	place := settings.Place{Working: dir, Getenv: func(string) string { return "" }}
	s, err := settings.Read("", place)
	require.NoError(t, err)
	s.Root, s.Credentials = dir+"/root", dir+"/none"
	m, err := machine.Open(machine.Config{Settings: s, Place: place})
	require.NoError(t, err)
	assert.NoDirExists(t, m.Store.Root)
	_, err = m.Archives.FetchSmall(t.Context(), "https://vale.example/x")
	assert.ErrorContains(t, err, "these credentials cannot be read")
	assert.Positive(t, m.Slots.Number())

	for _, root := range []string{dir + "/a b", dir + "/a:b", dir + "/$HOME", dir + "/a'b"} {
		_, err := m.With(func(c *machine.Config) { c.Settings.Root = root })
		assert.ErrorIs(t, err, machine.BadRoot, root)
	}
}
