package ospackage

import (
	"bytes"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"fernladder/core/version"
)

// need is a program of the operating system; the test is skipped without it.
func need(t *testing.T, program string) string {
	path, err := exec.LookPath(program)
	if err != nil {
		t.Skip(program + " is not here")
	}
	return path
}

func run(t require.TestingT, name string, args ...string) string {
	out, err := exec.Command(name, args...).CombinedOutput()
	require.NoError(t, err, "%s %s\n%s", name, strings.Join(args, " "), out)
	return string(out)
}

// plainVersion draws typical versions of releases.
func plainVersion(t *rapid.T, label string) version.Version {
	text := fmt.Sprint(rapid.IntRange(0, 12).Draw(t, label))
	for range rapid.IntRange(0, 3).Draw(t, label) {
		text += "." + fmt.Sprint(rapid.IntRange(0, 11).Draw(t, label))
	}
	switch rapid.IntRange(0, 5).Draw(t, label) {
	case 0:
		text += rapid.SampledFrom([]string{"-rc1", "-rc2", "rc10", ".beta.3", "-alpha", "_pre1", "-beta"}).Draw(t, label)
	case 1:
		text += rapid.SampledFrom([]string{"a", "b", "k", "p1", "p12"}).Draw(t, label)
	case 2:
		text += rapid.SampledFrom([]string{"+7.gabc1234", "+108.g00f", "+9"}).Draw(t, label)
	}
	return version.MustParse(text)
}

// Our order of dpkg's and rpm's versions is theirs, for any versions.
func TestTheOrderOfOthers(t *testing.T) {
	dpkg, rpm := need(t, "dpkg"), need(t, "rpm")
	letters := rapid.StringMatching(`[0-9]{1,3}[0-9a-zA-Z.+~]{0,8}`)
	var deb, lua strings.Builder
	var pairs [][2]string
	rapid.Check(t, func(t *rapid.T) {
		pairs = append(pairs, [2]string{letters.Draw(t, "a"), letters.Draw(t, "b")},
			[2]string{DebVersion(plainVersion(t, "c")), DebVersion(plainVersion(t, "d"))},
			[2]string{RPMVersion(plainVersion(t, "e")), RPMVersion(plainVersion(t, "f"))})
	})
	pairs = pairs[:min(len(pairs), 400)]
	for _, p := range pairs {
		fmt.Fprintf(&deb,
			"if %[1]s --compare-versions '%[2]s' lt '%[3]s'; then echo -1; elif %[1]s --compare-versions '%[2]s' eq '%[3]s'; "+
				"then echo 0; else echo 1; fi\n", dpkg, p[0], p[1])
		fmt.Fprintf(&lua, "print(rpm.vercmp('%s', '%s') .. ' ') ", p[0], p[1])
	}
	debSays := strings.Fields(run(t, "sh", "-c", strings.ReplaceAll(deb.String(), "^", "+")))
	rpmSays := strings.Fields(run(t, rpm, "--eval", "%{lua: "+lua.String()+"}"))
	for i, p := range pairs {
		assert.Equal(t, debSays[i],
			fmt.Sprint(CompareDeb(strings.ReplaceAll(p[0], "^", "+"), strings.ReplaceAll(p[1], "^", "+"))), "dpkg: %q", p)
		assert.Equal(t, rpmSays[i], fmt.Sprint(CompareRPM(p[0], p[1])), "rpm: %q", p)
	}
}

// Releases of a package keep their order, except for reported pairs: versions written in more
// than one way.
func TestOurOrderSurvives(t *testing.T) {
	numbers := regexp.MustCompile(`^\d+(\.\d+)*`)
	parts := func(v version.Version) int { return strings.Count(numbers.FindString(v.String()), ".") }
	rapid.Check(t, func(t *rapid.T) {
		a, b := plainVersion(t, "a"), plainVersion(t, "b")
		if parts(a) != parts(b) ||
			strings.ContainsAny(a.String()+b.String(), "+") && strings.ContainsAny(a.String()+b.String(), "abkp") {
			return // told, where it matters
		}
		pair := []version.Version{a, b}
		wrong, is := Disorder(pair, DebVersion, CompareDeb)
		assert.False(t, is, "dpkg: %v", wrong)
		wrong, is = Disorder(pair, RPMVersion, CompareRPM)
		assert.False(t, is, "rpm: %v", wrong)
	})
	mixed := []version.Version{version.MustParse("1.6"), version.MustParse("1.6+7.gabc"), version.MustParse("1.6b")}
	wrong, is := Disorder(mixed, DebVersion, CompareDeb)
	assert.True(t, is)
	assert.Equal(t, [2]string{"1.6+7.gabc", "1.6b"}, [2]string{wrong.Older.String(), wrong.Newer.String()})
	_, is = Disorder(mixed, RPMVersion, CompareRPM)
	assert.False(t, is)
}

// Reading foreign files is harmless, whatever is in them.
func FuzzRead(f *testing.F) {
	for _, format := range []Format{Deb, RPM} {
		f.Add(bytesOf(f, f.TempDir(), fern(), format))
	}
	f.Add([]byte("!<arch>\ncontrol.tar     0           0     0     100644  -1        `\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		file, err := os.CreateTemp(t.TempDir(), "")
		require.NoError(t, err)
		defer file.Close()
		_, err = file.Write(data)
		require.NoError(t, err)
		_, err = file.Seek(0, io.SeekStart)
		require.NoError(t, err)
		if control, err := ReadDeb(file); err == nil {
			Fields(control)
		}
		_, err = file.Seek(0, io.SeekStart)
		require.NoError(t, err)
		if r, err := ReadRPM(file); err == nil {
			assert.NotEmpty(t, r.Text(TagName))
			r.Number(TagEpoch)
		}
	})
}

func fern() *Package {
	text := func(t string) func() (io.ReadCloser, error) {
		return func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(t)), nil }
	}
	long := "/opt/fern/" + strings.Repeat("frond/", 40) + "leaf"
	return &Package{Name: "vale-fern", Version: "2.1~rc1", Release: "1.vale", Arch: "x86_64", Summary: "A fern",
		Description: "Grows.\n\nIn the shade.", Home: "https://vale.example/fern", License: "MIT",
		Maintainer: "Vale Growers <growers@vale.example>",
		Changes: []Change{{Version: "2.1~rc1-1.vale", By: "Vale Growers <growers@vale.example>",
			Lines: []string{"The first one"}, Time: time.Unix(1774008000, 0)}}, Time: time.Unix(1774008000, 0).UTC(),
		Files: []File{
			{Path: "/opt/fern", Mode: fs.ModeDir | 0o755}, {Path: "/opt/fern/bin", Mode: fs.ModeDir | 0o755},
			{Path: "/opt/fern/bin/fern", Mode: 0o755, Size: 19, Open: text("#!/bin/sh\necho fern")},
			{Path: "/opt/fern/bin/frond", Target: "fern"},
			{Path: "/opt/fern/etc/fern.conf", Mode: 0o640, Size: 5, Config: true, Open: text("a = 1")},
			{Path: long, Mode: 0o644, Size: 0, Open: text("")},
			{Path: "/opt/fern/näme with space", Mode: 0o4755, Size: 1, Open: text("x")},
		}}
}

// bytesOf writes a package, and returns it.
func bytesOf(t require.TestingT, dir string, p *Package, f Format) []byte {
	out, err := os.Create(filepath.Join(dir, p.FileName(f)))
	require.NoError(t, err)
	defer out.Close()
	if f == Deb {
		require.NoError(t, p.WriteDeb(out, dir))
	} else {
		require.NoError(t, p.WriteRPM(out, dir))
	}
	data, err := os.ReadFile(out.Name())
	require.NoError(t, err)
	return data
}

func TestDpkgTakesIt(t *testing.T) {
	need(t, "dpkg")
	dir, root := t.TempDir(), t.TempDir()
	data := bytesOf(t, dir, fern(), Deb)
	assert.True(t, bytes.Equal(data, bytesOf(t, t.TempDir(), fern(), Deb)), "the same is the same bytes")
	file := filepath.Join(dir, "vale-fern_2.1~rc1-1.vale_amd64.deb")
	for _, d := range []string{"var/lib/dpkg/info", "var/lib/dpkg/updates"} {
		require.NoError(t, os.MkdirAll(filepath.Join(root, d), 0o755))
	}
	require.NoError(t, os.WriteFile(filepath.Join(root, "var/lib/dpkg/status"), nil, 0o644))
	dpkg := func(args ...string) string {
		return run(t, "dpkg", append([]string{"--root=" + root, "--force-not-root", "--force-bad-path", "--log=/dev/null"},
			args...)...)
	}
	assert.Contains(t, run(t, "dpkg", "-I", file), "Description: A fern\n  Grows.\n  .\n  In the shade.\n")
	if os.Geteuid() != 0 {
		return
	}
	dpkg("-i", file)
	assert.Equal(t, "fern\n", run(t, filepath.Join(root, "opt/fern/bin/frond")))
	assert.Empty(t, dpkg("--verify", "vale-fern"))
	require.NoError(t, os.WriteFile(filepath.Join(root, "opt/fern/etc/fern.conf"), []byte("mine"), 0o640))
	newer := fern()
	newer.Version = "2.1"
	bytesOf(t, dir, newer, Deb)
	dpkg("-i", filepath.Join(dir, "vale-fern_2.1-1.vale_amd64.deb"))
	edited, err := os.ReadFile(filepath.Join(root, "opt/fern/etc/fern.conf"))
	require.NoError(t, err)
	assert.Equal(t, "mine", string(edited))
	dpkg("--purge", "vale-fern")
	assert.NoDirExists(t, filepath.Join(root, "opt"))
}

func TestRPMTakesIt(t *testing.T) {
	need(t, "rpm")
	dir, root := t.TempDir(), t.TempDir()
	data := bytesOf(t, dir, fern(), RPM)
	assert.True(t, bytes.Equal(data, bytesOf(t, t.TempDir(), fern(), RPM)), "the same is the same bytes")
	file := filepath.Join(dir, "vale-fern-2.1~rc1-1.vale.x86_64.rpm")
	assert.Contains(t, run(t, "rpm", "-K", "--nosignature", file), "digests OK")
	assert.Contains(t, run(t, "rpm", "-qpi", "--nosignature", file), "Summary     : A fern")
	if os.Geteuid() != 0 {
		return
	}
	rpm := func(args ...string) string {
		return run(t, "rpm", append([]string{"--root=" + root, "--nosignature"}, args...)...)
	}
	rpm("--initdb")
	rpm("-i", "--nodeps", file)
	assert.Equal(t, "fern\n", run(t, filepath.Join(root, "opt/fern/bin/frond")))
	rpm("-V", "--nodeps", "vale-fern")
	require.NoError(t, os.WriteFile(filepath.Join(root, "opt/fern/etc/fern.conf"), []byte("mine"), 0o640))
	newer := fern()
	newer.Version = "2.1"
	bytesOf(t, dir, newer, RPM)
	rpm("-U", "--nodeps", filepath.Join(dir, "vale-fern-2.1-1.vale.x86_64.rpm"))
	edited, err := os.ReadFile(filepath.Join(root, "opt/fern/etc/fern.conf"))
	require.NoError(t, err)
	assert.Equal(t, "mine", string(edited))
	rpm("-e", "vale-fern")
	assert.NoFileExists(t, filepath.Join(root, "opt/fern/bin/fern"))
}

// A file that is not as it was built makes no package.
func TestChangedFiles(t *testing.T) {
	for _, f := range []Format{Deb, RPM} {
		p := fern()
		p.Files[2].SHA256 = strings.Repeat("0", 64)
		p.Files[4].Size = 9
		out, err := os.Create(filepath.Join(t.TempDir(), "x"))
		require.NoError(t, err)
		defer out.Close()
		if f == Deb {
			err = p.WriteDeb(out, t.TempDir())
		} else {
			err = p.WriteRPM(out, t.TempDir())
		}
		var changed *Changed
		require.ErrorAs(t, err, &changed)
		assert.Equal(t, []string{"/opt/fern/bin/fern", "/opt/fern/etc/fern.conf"}, changed.Files)
	}
}

// What a recipe says cannot become a field of its own.
func TestFieldsAreOneLine(t *testing.T) {
	p := fern()
	p.Home, p.Summary, p.Description = "https://vale.example\nEssential: yes", "Fern\n\nPackage: moss",
		"Grows\n\nProtected: yes"
	names, _ := Fields(p.control())
	assert.NotContains(t, names, "Essential")
	assert.NotContains(t, names, "Protected")
	assert.Len(t, names, len(slices.Compact(slices.Sorted(slices.Values(names)))), "none is there twice")
	assert.NotContains(t, p.control(), "\n\n")
}

// A header whose values share their bytes is refused: it could have thousands of them, of
// sixty megabytes each.
func TestValuesDoNotOverlap(t *testing.T) {
	raw := []byte{0x8e, 0xad, 0xe8, 1, 0, 0, 0, 0, 0, 0, 0, 2, 0, 0, 0, 8}
	for tag := range byte(2) {
		raw = append(raw, 0, 0, 3, 0xe8+tag, 0, 0, 0, kindText, 0, 0, 0, 0, 0, 0, 0, 1)
	}
	raw = append(raw, "moss\x00\x00\x00\x00"...)
	_, _, err := readHeader(bytes.NewReader(raw))
	assert.ErrorContains(t, err, "overlap")
}
