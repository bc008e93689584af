package store

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// An edited file stays, with the newer sample beside it; the sample is removed when the file
// equals a sample again, unless the sample was edited, too.
func TestSamplesBesideEditedFiles(t *testing.T) {
	s := &Store{Root: t.TempDir()}
	require.NoError(t, s.Prepare())
	file := s.ConfigFile("fern", "etc/fern.conf")
	put := func(name, text string) { require.NoError(t, os.WriteFile(name, []byte(text), 0o644)) }
	is := func(name string) string {
		data, _ := os.ReadFile(name)
		return string(data)
	}
	update := func(version string) []ConfigChange {
		r := &Receipt{Ref: Ref{"fern", version, "0123456789ab"}, Configs: []Config{{File: "etc/fern.conf", Sample: "sample"}}}
		stage := filepath.Join(t.TempDir(), "stage")
		require.NoError(t, os.Mkdir(stage, 0o755))
		put(filepath.Join(stage, "sample"), version)
		_, _, err := s.Place(stage, r.Ref, nil)
		require.NoError(t, err)
		require.NoError(t, s.Commit(r))
		changes, err := s.UpdateConfigs(r)
		require.NoError(t, err)
		again, err := s.UpdateConfigs(r)
		require.NoError(t, err)
		assert.Empty(t, again, "once")
		return changes
	}
	assert.Equal(t, ConfigMade, update("1.0")[0].What)
	put(file, "mine")
	kept := update("2.0")
	assert.Equal(t, []any{ConfigKept, file + ".sample-2.0"}, []any{kept[0].What, kept[0].Laid})
	assert.Equal(t, []string{"mine", "2.0"}, []string{is(file), is(kept[0].Laid)})

	put(file, "2.0")
	assert.Equal(t, ConfigRenewed, update("3.0")[0].What)
	assert.Equal(t, "3.0", is(file))
	assert.NoFileExists(t, kept[0].Laid, "it is of no use any more")

	put(file, "mine")
	put(file+".sample-4.0", "a person's own")
	assert.Empty(t, update("4.0")[0].Laid)
	assert.Equal(t, "a person's own", is(file+".sample-4.0"))
	put(file, "5.0")
	assert.Empty(t, update("5.0"), "it is as the new sample already")
	status, err := s.Configs(&Receipt{Ref: Ref{"fern", "5.0", "0123456789ab"},
		Configs: []Config{{File: "etc/fern.conf", Sample: "sample"}}})
	require.NoError(t, err)
	assert.False(t, status[0].Edited)
	assert.Equal(t, "a person's own", is(file+".sample-4.0"))
	assert.Equal(t, ConfigRenewed, update("6.0")[0].What)

	put(file, "mine")
	kept = update("7.0")
	put(kept[0].Laid, "changed")
	put(file, "7.0")
	update("8.0")
	assert.Equal(t, "changed", is(kept[0].Laid))

	changes, err := s.UpdateConfigs(&Receipt{Ref: Ref{"moss", "8.0", "0123456789ab"}, Prefix: "/opt/moss",
		Configs: []Config{{File: "etc/moss.conf", Sample: "sample"}}})
	require.NoError(t, err)
	assert.Empty(t, changes, "what has a directory of its own has its files there")
	damaged := s.ConfigFile("fern", samplesFile)
	put(damaged, "{")
	put(file, "mine")
	_, err = s.UpdateConfigs(&Receipt{Ref: Ref{"fern", "8.0", "0123456789ab"},
		Configs: []Config{{File: "etc/fern.conf", Sample: "sample"}}})
	assert.ErrorContains(t, err, "list of samples is damaged")
	assert.Equal(t, []string{"mine", "{"}, []string{is(file), is(damaged)})
}
