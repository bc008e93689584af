package inspect

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"fernladder/core/host"
	"fernladder/core/safefs"
)

// bench is a stage in which a tree is assembled.
type bench struct {
	*testing.T
	Look
	placed string
}

func newBench(t *testing.T) bench {
	work := t.TempDir()
	l := Look{Work: work, Stage: filepath.Join(work, "stage"), Tree: "/trees/fern/1.0", Loader: host.SystemLibraries()}
	placed := filepath.Join(l.Stage, l.Tree)
	require.NoError(t, os.MkdirAll(placed, 0o755))
	return bench{t, l, placed}
}

func (b bench) put(name, text string, mode os.FileMode) string {
	path := filepath.Join(b.placed, name)
	require.NoError(b, os.MkdirAll(filepath.Dir(path), 0o755))
	require.NoError(b, os.WriteFile(path, []byte(text), 0o644))
	require.NoError(b, os.Chmod(path, mode))
	return path
}

func (b bench) cc(output string, args ...string) {
	path := filepath.Join(b.placed, output)
	require.NoError(b, os.MkdirAll(filepath.Dir(path), 0o755))
	source := filepath.Join(b.Work, "leaf.c")
	require.NoError(b,
		os.WriteFile(source,
			[]byte("int leaf(void); \n#ifdef MAIN\nint main(void) { return leaf(); }\n#else\nint leaf(void) { return 0; "+
				"}\n#endif\n"), 0o644))
	out, err := exec.Command("cc", append([]string{"-o", path, source}, args...)...).CombinedOutput()
	require.NoError(b, err, string(out))
}

// says inspects what was placed, and returns the findings.
func (b *bench) says() []string {
	b.Staged = filepath.Join(b.TempDir(), "copy")
	placed, err := safefs.OpenDir(b.placed)
	require.NoError(b, err)
	defer placed.Close()
	found, err := Take(placed, b.Look)
	require.NoError(b, err)
	var lines []string
	for _, library := range found.Libraries {
		lines = append(lines, "uses "+library)
	}
	for _, r := range found.Remarks {
		lines = append(lines, string(r.Grade)+" "+r.String())
	}
	return lines
}

func TestWhatIsRemarked(t *testing.T) {
	b := newBench(t)
	assert.Equal(t, []string{"refused only empty directories were placed"}, b.says())
	lib := filepath.Join(b.placed, "lib")
	b.cc("lib/libleaf.so", "-shared", "-fPIC", "-Wl,-soname,libleaf.so")
	b.cc("bin/good", "-DMAIN", "-L"+lib, "-lleaf", "-Wl,-rpath,"+b.Tree+"/lib")
	b.cc("bin/near", "-DMAIN", "-L"+lib, "-lleaf", "-Wl,-rpath,$ORIGIN/../lib")
	assert.Empty(t, b.says(), "nothing is wrong with these")
	b.Loader = append(b.Loader, lib)
	b.cc("bin/user", "-DMAIN", "-L"+lib, "-lleaf")
	assert.Equal(t, []string{"uses libleaf.so"}, b.says())
	b.Loader = host.SystemLibraries()
	require.NoError(t, os.Remove(filepath.Join(b.placed, "bin/user")))
	b.cc("bin/lost", "-DMAIN", "-L"+lib, "-lleaf")
	b.cc("bin/work", "-DMAIN", "-L"+lib, "-lleaf", "-Wl,-rpath,"+b.Work+"/build:"+b.Tree+"/lib")
	b.put("lib/pkgconfig/fern.pc", "prefix="+b.Stage+b.Tree+"\nlibdir="+b.Tree+"/lib\nincludedir="+b.Tree+
		"/include\n", 0o644)
	b.put("share/note", "built in "+b.Work+"/build\n", 0o644)
	b.put("bin/door", "#!/bin/sh\n", 0o755|os.ModeSetuid)
	b.put("var/open", "x", 0o666)
	require.NoError(t, os.Symlink("gone", filepath.Join(b.placed, "bin/link")))
	require.NoError(t, os.Symlink(b.Stage+b.Tree+"/bin/work", filepath.Join(b.placed, "bin/staged-link")))
	require.NoError(t, os.Symlink(b.Work+"/x", filepath.Join(b.placed, "bin/work-link")))
	assert.Equal(t, []string{
		"mended bin/door: its setuid and setgid bits were removed",
		"warned bin/link: it is a link to nothing: gone",
		"refused bin/lost: the library libleaf.so will not be found: it is in /trees/fern/1.0/lib, which the run path " +
			"does not name; link with -Wl,-rpath,/trees/fern/1.0/lib",
		"mended bin/staged-link: it led into the staging directory, and now leads into the tree",
		"warned bin/work: it names the build directory, which will be deleted",
		"warned bin/work: its run path names the build directory: " + b.Work + "/build",
		"refused bin/work-link: it is a link into the build directory: " + b.Work + "/x",
		"mended lib/pkgconfig/fern.pc: it named the staging directory, and now names the tree",
		"warned lib/pkgconfig/fern.pc: it names a missing file: /trees/fern/1.0/include",
		"warned share/note: it names the build directory, which will be deleted",
		"mended var/open: write permission for everyone was removed",
	}, b.says())
	data, err := os.ReadFile(filepath.Join(b.Staged, "lib/pkgconfig/fern.pc"))
	require.NoError(t, err)
	assert.Contains(t, string(data), "prefix=/trees/fern/1.0\n")
	for name, mode := range map[string]os.FileMode{"bin/door": 0o755, "var/open": 0o644} {
		info, err := os.Stat(filepath.Join(b.Staged, name))
		require.NoError(t, err)
		assert.Equal(t, mode, info.Mode(), name)
	}
}

// What a hostile build places is refused or harmless, and nothing outside is read.
func TestHostileTrees(t *testing.T) {
	secret := filepath.Join(t.TempDir(), "secret")
	require.NoError(t, os.WriteFile(secret, []byte("seed"), 0o600))
	b := newBench(t)
	b.put("bin/fern", "leaf", 0o755)
	b.put("bin/shut", "leaf", 0o111)
	b.put("var/sticky", "x", 0o666|os.ModeSticky)
	require.NoError(t, os.Chmod(filepath.Join(b.placed, "var"), 0o777|os.ModeSetgid|os.ModeSticky))
	require.NoError(t, os.Link(filepath.Join(b.placed, "bin/fern"), filepath.Join(b.placed, "bin/frond")))
	require.NoError(t, os.Symlink(secret, filepath.Join(b.placed, "out")))
	require.NoError(t, os.Symlink(filepath.Dir(secret), filepath.Join(b.placed, "dir")))
	assert.Equal(t, []string{
		"mended var: its setuid and setgid bits were removed",
		"mended var/sticky: write permission for everyone was removed",
	}, b.says())
	for name, mode := range map[string]os.FileMode{"var": os.ModeDir | 0o755, "var/sticky": 0o644, "bin/shut": 0o511} {
		info, err := os.Lstat(filepath.Join(b.Staged, name))
		require.NoError(t, err)
		assert.Equal(t, mode, info.Mode(), name)
	}
	first, err := os.Stat(filepath.Join(b.Staged, "bin/fern"))
	require.NoError(t, err)
	second, err := os.Stat(filepath.Join(b.Staged, "bin/frond"))
	require.NoError(t, err)
	assert.True(t, os.SameFile(first, second), "files with two names still have them")
	original, err := os.Stat(filepath.Join(b.placed, "bin/fern"))
	require.NoError(t, err)
	assert.False(t, os.SameFile(first, original), "a file that the build may still hold open")
	target, err := os.Readlink(filepath.Join(b.Staged, "out"))
	require.NoError(t, err)
	assert.Equal(t, secret, target, "links are taken as they are")

	for name, make := range map[string]func(*bench){
		"it is neither a file nor": func(b *bench) {
			require.NoError(t, syscall.Mkfifo(filepath.Join(b.placed, "pipe"), 0o644))
		},
		"share/fernladder: this directory belongs": func(b *bench) { b.put("share/fernladder/receipt.json", "{}", 0o644) },
		"share/fernladder: this directory belongs ": func(b *bench) {
			require.NoError(t, os.Mkdir(filepath.Join(b.placed, "share"), 0o755))
			require.NoError(t, os.Symlink(filepath.Dir(secret), filepath.Join(b.placed, "share/fernladder")))
		},
		"share: it must be a directory": func(b *bench) {
			require.NoError(t, os.Symlink(filepath.Dir(secret), filepath.Join(b.placed, "share")))
		},
		"more than 64 MiB": func(b *bench) {
			require.NoError(t, os.Truncate(b.put("sparse", "", 0o644), 500<<30))
			b.Largest = 64 << 20
		},
		"nested more than": func(b *bench) {
			for dir, i := b.placed, 0; i < safefs.DeepestPath+5; i++ {
				dir = filepath.Join(dir, "d")
				require.NoError(t, os.Mkdir(dir, 0o755))
			}
		},
	} {
		b := newBench(t)
		make(&b)
		said := strings.Join(b.says(), "\n")
		assert.Contains(t, said, "refused ")
		assert.Contains(t, said, strings.TrimRight(name, " "))
	}
}

// A text is found at any position in what is written.
func TestFinder(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		what := rapid.StringMatching(`[ab]{1,4}`).Draw(r, "what")
		parts := rapid.SliceOf(rapid.StringMatching(`[ab]{0,5}`)).Draw(r, "parts")
		f := &finder{what: []byte(what)}
		for _, p := range parts {
			f.Write([]byte(p))
		}
		if f.found != strings.Contains(strings.Join(parts, ""), what) {
			r.Fatalf("%q in %q: %v", what, parts, f.found)
		}
	})
}

func FuzzElf(f *testing.F) {
	f.Add([]byte("\x7fELF\x02\x01\x01"), uint16(1))
	data, err := os.ReadFile("/bin/true")
	require.NoError(f, err)
	f.Add(data, uint16(3))
	f.Fuzz(func(t *testing.T, data []byte, sections uint16) {
		b := newBench(t)
		if len(data) > 62 {
			data[60], data[61] = byte(sections), byte(sections>>8)
		}
		b.put("bin/fern", string(data), 0o755)
		b.put("lib/fern.pc", string(data), 0o755)
		b.says()
	})
}

func TestCompare(t *testing.T) {
	a, b := newBench(t), newBench(t)
	for _, side := range []bench{a, b} {
		side.put("same", "leaf", 0o644)
		side.put("left/out", side.Work, 0o644)
	}
	differences, err := Compare(a.placed, b.placed, "left")
	require.NoError(t, err)
	assert.Empty(t, differences)
	a.put("first", "", 0o644)
	b.put("second", "", 0o644)
	a.put("text", "one\ntwo\n", 0o644)
	b.put("text", "one\ntoo\n", 0o644)
	a.put("mode", "", 0o755)
	b.put("mode", "", 0o644)
	a.put("packed.gz", "\x1f\x8b\x08\x00aaaarest", 0o644)
	b.put("packed.gz", "\x1f\x8b\x08\x00bbbbrest", 0o644)
	a.put("data", "\x00\x01", 0o644)
	b.put("data", "\x00\x02", 0o644)
	a.cc("lib/libleaf.so", "-shared", "-fPIC", "-g", "-Wl,--build-id=none")
	b.cc("lib/libleaf.so", "-shared", "-fPIC", "-g", "-Wl,--build-id=none")
	differences, err = Compare(a.placed, b.placed, "left")
	require.NoError(t, err)
	var lines []string
	for _, d := range differences {
		lines = append(lines, d.String())
	}
	assert.Equal(t, []string{
		"data: from byte 1 on", "first: only in the first", lines[2],
		"mode: its mode is -rwxr-xr-x and -rw-r--r--", "packed.gz: a gzip file, in the time of its header",
		"second: only in the second", `text: text, line 2: "two" and "too"`,
	}, lines)
	assert.Regexp(t, `^lib/libleaf.so: a program or library, in .*\.debug_`, lines[2], "the directory it was built in")
}
