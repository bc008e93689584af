package lock

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fernladder/core/recipe"
	"fernladder/core/version"
)

func tipOf(name, branch string) *recipe.Recipe {
	return &recipe.Recipe{Name: name,
		Releases: []*recipe.Release{{Track: recipe.Tip, Git: "https://vale.example/" + name + ".git", Branch: branch}}}
}

func TestPinsAreKept(t *testing.T) {
	path := filepath.Join(t.TempDir(), FileName)
	f, err := Read(path, FileName)
	require.NoError(t, err, "one that is not there is empty")
	v, _ := version.Parse("1.4+3.gabc")
	pin := recipe.Pin{Commit: "abc", Version: v}
	f.SetTip(tipOf("moss", "main"), recipe.Pin{Commit: "old", Version: v})
	f.SetTip(tipOf("moss", "main"), pin)
	f.SetTip(tipOf("fern", "shade"), pin)
	require.NoError(t, f.Write())
	data, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Contains(t, string(data),
		"\n[[tip]]\nname       = \"fern\"\nrepository = \"https://vale.example/fern.git\"\nbranch     = \"shade\"\ncommit "+
			"    = \"abc\"\nversion    = \"1.4+3.gabc\"\n\n[[tip]]\nname       = \"moss\"")
	f, err = Read(path, FileName)
	require.NoError(t, err)
	got, known := f.Pin(tipOf("moss", "main"))
	assert.True(t, known)
	assert.Equal(t, pin, got)
	for _, other := range []*recipe.Recipe{tipOf("moss", "another"), tipOf("sage", "main"), {Name: "moss"}} {
		_, known := f.Pin(other)
		assert.False(t, known)
	}
	require.NoError(t,
		os.WriteFile(path,
			append(data,
				data[len(data)-len("[[tip]]\nname       = \"moss\"\nrepository = \"https://vale.example/moss.git\"\nbranch     "+
					"= \"main\"\ncommit     = \"abc\"\nversion    = \"1.4+3.gabc\"\n"):]...), 0o644))
	_, err = Read(path, FileName)
	assert.ErrorContains(t, err, "the tip of moss is pinned twice")
}

// Build ids are only valid for one kind of machine: on another, or with another compiler, they
// are not compared with a ladder.
func TestIdsCountForTheirMachine(t *testing.T) {
	v := version.MustParse("1")
	f := &File{Arch: "x86_64", Compilers: []string{"cc 12", "cc 13"},
		Builds: []*Build{{Name: "fern", Version: v, ID: "aaaa", Asked: true, Needs: []string{"soil"}},
			{Name: "soil", Version: v, ID: "bbbb"}, {Name: "moss", Version: v, ID: "cccc"}}}
	other := []*Build{{Name: "fern", Version: v, ID: "dddd"}}
	assert.ErrorContains(t, f.Compare(other, "x86_64", []string{"cc 12"}), "would be built differently")
	assert.NoError(t, f.Compare(other, "aarch64", []string{"cc 12"}))
	assert.NoError(t, f.Compare(other, "x86_64", []string{"cc 12", "cc 14"}))
	assert.Error(t, f.Compare([]*Build{{Name: "sage", Version: v}}, "aarch64", nil),
		"what is not locked is not, on any machine")

	f.Drop([]string{"moss"})
	assert.Len(t, f.Builds, 2)
	f.Drop([]string{"fern"})
	assert.Empty(t, f.Builds, "what only it needs goes with it")
}

// Any lock file is read or rejected; what is read survives being written and read again.
func FuzzLockFile(f *testing.F) {
	f.Add("format = 1\narch = \"x86_64\"\n[[build]]\nname = \"fern\"\nversion = \"1.0\"\nid = \"0123456789ab\"\nsource " +
		"= [\"sha256:00\"]\noptions = [\"tall=on\"]\n")
	f.Add("format = 1\n[[tip]]\nname = \"fern\"\nrepository = \"https://vale.example/fern.git\"\ncommit = " +
		"\"00\"\nversion = \"1+2\"\n")
	f.Fuzz(func(t *testing.T, text string) {
		path := filepath.Join(t.TempDir(), FileName)
		require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
		file, err := Read(path, FileName)
		if err != nil {
			return
		}
		written := file.text()
		require.NoError(t, os.WriteFile(path, []byte(written), 0o644))
		again, err := Read(path, FileName)
		require.NoError(t, err, written)
		require.Equal(t, written, again.text())
	})
}
