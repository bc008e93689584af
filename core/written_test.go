package core_test

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"fernladder/core/draft"
	"fernladder/core/host"
	"fernladder/core/inspect"
	"fernladder/core/lock"
	"fernladder/core/recipe"
	"fernladder/core/settings"
	"fernladder/core/store"
	"fernladder/core/tomlfile"
	"fernladder/core/version"
)

// For any names and texts from sources, repositories and trees: the program can read what it
// writes, or it writes nothing and the file stays as it was.
func TestWhatIsWrittenCanBeRead(t *testing.T) {
	hostile := rapid.OneOf(rapid.String(),
		rapid.SampledFrom([]string{"[", `a"b\`, "'''", "a\nb\x00", "\xff\xfe", "a\u202eb\ufeff", "-x", "../x", "$FL_NAME",
			strings.Repeat("x", 300)}),
		rapid.Map(rapid.SliceOf(rapid.Byte()), func(b []byte) string { return string(b) }))
	base := t.TempDir()
	shelf := filepath.Join(base, "shelf", "fern")
	require.NoError(t, os.MkdirAll(shelf, 0o755))
	s := &store.Store{Root: filepath.Join(base, "root")}
	require.NoError(t, s.Prepare())
	const plain = "format = 1\n[package]\nname = \"fern\"\nsummary = \"Grows\"\n[[release]]\nversion = " +
		"\"1.0\"\narchive = \"https://vale.example/fern.tar\"\nsha256 = " +
		"\"0000000000000000000000000000000000000000000000000000000000000000\"\n[build]\nmethod = \"make\"\n"
	write := func(t *rapid.T, name, text string) string {
		file := filepath.Join(base, name)
		require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
		return file
	}
	rapid.Check(t, func(t *rapid.T) {
		a, b := hostile.Draw(t, "a"), hostile.Draw(t, "b")

		var list []string
		require.Empty(t, tomlfile.Read("x.toml", []byte("k = "+tomlfile.QuoteList([]string{"x" + a, "x" + b})),
			[]tomlfile.Key{tomlfile.Texts("k", &list, "")}), "%q", a)

		read := func() *recipe.Recipe {
			r, err := recipe.Read(shelf, "fern")
			require.NoError(t, err, "%q %q", a, b)
			return r
		}
		write(t, "shelf/fern/recipe.toml", plain)
		r := read()
		if offers := draft.Offered("",
			[]store.File{{Path: "bin/" + a}, {Path: "lib/pkgconfig/" + b + ".pc"}}); !offers.Empty() {
			require.NoError(t, r.Change(func(e *tomlfile.Edit) { recipe.SetOffers(e, offers) }), "%q %q", a, b)
		}
		for _, text := range []string{recipe.NeedEntry{Recipe: a, Version: b, Role: recipe.Tool, Remark: "x"}.Text(),
			recipe.HostEntry{Question: host.Question{Kind: host.Header, Name: a}, When: b}.Text()} {
			_ = r.Change(func(e *tomlfile.Edit) { e.Append(text) }) // which may be refused
			read()
		}

		file := write(t, "fernladder.toml", "jobs = 1\n")
		place := settings.Place{Working: base, Getenv: func(string) string { return "" }}
		_ = settings.Decide(file, place, settings.Link{Package: a, File: b, Off: true})
		_ = settings.Want(file, place, "fern", []settings.Choice{{Option: a, Value: tomlfile.Quote(b)}})
		_, err := settings.Read(file, place)
		require.NoError(t, err, "%q %q", a, b)

		locked, err := lock.Read(filepath.Join(base, lock.FileName), lock.FileName)
		require.NoError(t, err)
		locked.Builds = []*lock.Build{{Name: "fern", Version: version.MustParse("1.0"), ID: "0123456789ab",
			Source: []string{a}, Options: []string{"x=" + b}}}
		locked.Accept(a, b, "c"+a)
		_ = locked.Write()
		_, err = lock.Read(locked.Path, locked.Shown)
		require.NoError(t, err, "%q %q", a, b)

		built := store.Ref{Name: "fern", Version: "1.0", ID: "0123456789ab"}
		require.NoError(t, s.Remove(built))
		stage := filepath.Join(base, "stage")
		require.NoError(t, os.MkdirAll(stage, 0o755))
		name := filepath.Base("x" + a)
		placed := os.WriteFile(filepath.Join(stage, name), nil, 0o644) == nil
		_, _, err = s.Place(stage, built, nil)
		require.NoError(t, err)
		require.NoError(t,
			s.Commit(&store.Receipt{Ref: built, Summary: a, Options: map[string]string{a: b},
				Remarks: []inspect.Remark{{File: a, Text: b}}}))
		_, err = s.Receipt(built)
		require.NoError(t, err, "%q %q", a, b)
		files, err := s.Files(built)
		require.NoError(t, err, "%q %q", a, b)
		require.Equal(t, placed, slices.ContainsFunc(files, func(f store.File) bool { return f.Path == name }), "%q", a)
	})
}
