package compare

import (
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fernladder/core/store"
)

// plant installs a build with a library, and files with these contents; TREE in them is the path
// of the tree.
func plant(t *testing.T, s *store.Store, r store.Receipt, exports string, files map[string]string) Side {
	stage := filepath.Join(t.TempDir(), "stage")
	require.NoError(t, os.MkdirAll(filepath.Join(stage, "lib"), 0o755))
	source := filepath.Join(t.TempDir(), "x.c")
	require.NoError(t, os.WriteFile(source, []byte(exports), 0o644))
	out, err := exec.Command("cc", "-shared", "-fPIC", "-Wl,-soname,libfern.so.1", "-Wl,-rpath,"+s.Tree(r.Ref),
		"-Wl,--build-id", "-o", filepath.Join(stage, "lib/libfern.so.1"), source).CombinedOutput()
	require.NoError(t, err, string(out))
	for name, text := range files {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(stage, name)), 0o755))
		if text == "TREE" {
			text = s.Tree(r.Ref)
		}
		require.NoError(t, os.WriteFile(filepath.Join(stage, name), []byte(text), 0o644))
	}
	r.Files, r.Size, err = s.Place(stage, r.Ref, nil)
	require.NoError(t, err)
	require.NoError(t, s.Commit(&r))
	side, err := Installed(s, &r)
	require.NoError(t, err)
	return side
}

func TestTwoBuildsSideBySide(t *testing.T) {
	s := &store.Store{Root: t.TempDir()}
	require.NoError(t, s.Prepare())
	water := store.Ref{Name: "water", Version: "1.0", ID: "aaaaaaaaaaaa"}
	a := plant(t, s, store.Receipt{Ref: store.Ref{Name: "fern", Version: "1.0", ID: "111111111111"},
		Options: map[string]string{"tall": "off", "old": "on"},
		Needs:   []store.Link{{Ref: water, Role: "library"}}, Compiler: "cc 12", Seconds: 2, Memory: 10,
		Stages: []store.StageTime{{Stage: "compile", Seconds: 2}}},
		"int grow(void) { return 1; } int wither(void) { return 0; }",
		map[string]string{"share/same": "x", "share/itself": "TREE", "share/gone": "12", "share/grown": "1"})
	b := plant(t, s, store.Receipt{Ref: store.Ref{Name: "fern", Version: "2.0", ID: "222222222222"},
		Options:  map[string]string{"tall": "on"},
		Compiler: "cc 13", Seconds: 3, Memory: 20, Stages: []store.StageTime{{Stage: "compile", Seconds: 3}}},
		"int grow(void) { return 1; } int bloom(void) { return 0; }",
		map[string]string{"share/same": "x", "share/itself": "TREE", "share/came": "123", "share/grown": "12"})
	r, err := Compare(a, b)
	require.NoError(t, err)
	assert.Equal(t, []Changed{{"old", "on", ""}, {"tall", "off", "on"}}, r.Options)
	assert.Equal(t, []Changed{{"water", "1.0 (aaaaaaaaaaaa), library", ""}}, r.Needs)
	assert.Equal(t, []Changed{{"compiler", "cc 12", "cc 13"}}, r.Around)
	assert.Equal(t, Files{Same: 2, Came: []FileSize{{"share/came", -1, 3}}, Gone: []FileSize{{"share/gone", 2, -1}},
		Changed: []FileSize{{"lib/libfern.so.1", a.files[1].Size, b.files[1].Size}, {"share/grown", 1, 2}}}, r.Files)
	assert.Equal(t, []Symbols{{Library: "lib/libfern.so.1", Came: []string{"bloom"}, Gone: []string{"wither"}}}, r.Symbols)
	assert.Equal(t, []Measure{{"compile", 2, 3}}, r.Stages)

	// A copy equals its original, wherever it is.
	dir := filepath.Join(t.TempDir(), "copy")
	require.NoError(t, exec.Command("cp", "-r", b.Tree, dir).Run())
	elsewhere, err := Elsewhere(dir)
	require.NoError(t, err)
	r, err = Compare(b, elsewhere)
	require.NoError(t, err)
	assert.Empty(t, slices.Concat(r.Options, r.Features, r.Sources, r.Patches, r.Needs, r.Around, r.Tries))
	assert.Empty(t, slices.Concat(r.Files.Came, r.Files.Gone, r.Files.Changed))
	_, err = Elsewhere(t.TempDir())
	assert.ErrorIs(t, err, os.ErrNotExist)
}

// The name of a tree is no difference, even if it is hidden in a digest of everything else.
func TestTheNameOfATreeIsNoDifference(t *testing.T) {
	s := &store.Store{Root: t.TempDir()}
	require.NoError(t, s.Prepare())
	const code = "int grow(void) { return 1; }"
	files := map[string]string{"share/itself": "TREE"}
	a := plant(t, s, store.Receipt{Ref: store.Ref{Name: "fern", Version: "1.0", ID: "111111111111"}}, code, files)
	b := plant(t, s, store.Receipt{Ref: store.Ref{Name: "fern", Version: "1.0", ID: "222222222222"}}, code, files)
	r, err := Compare(a, b)
	require.NoError(t, err)
	assert.Empty(t, r.Files.Changed)
	assert.Equal(t, []string{"other instructions"}, r.Made)
	different, err := Trees(Place{a.Tree, a.Tree}, Place{b.Tree, b.Tree})
	require.NoError(t, err)
	assert.Empty(t, different)
	require.NoError(t, os.WriteFile(filepath.Join(b.Tree, "share/itself"), []byte("moss"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(b.Tree, "share/more"), nil, 0o644))
	different, err = Trees(Place{a.Tree, a.Tree}, Place{b.Tree, b.Tree})
	require.NoError(t, err)
	assert.Equal(t, []Different{{"share/itself", "its contents differ"}, {"share/more", "it is new"}}, different)
}
