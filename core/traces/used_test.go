package traces

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fernladder/core/host"
	"fernladder/core/safefs"
)

// A package manager with invented packages, of files that every machine has.
const packages = `
case $1 in
-W) printf '%s\tamd64\tinstalled\n' 'libc-dev			linux-dev' 'linux-dev			' 'shell	yes		' 'moss-dev		moss-api	moss (>= 2), linux-dev' 'moss			' 'leaf-dev			moss-api:any | other' 'spore			' ;;
-L) for p in $2 $3 $4 $5 $6; do
	case ${p%:amd64} in libc-dev) echo /usr/include/stdio.h; echo /usr/include/stdlib.h;; shell) echo /usr/bin/sh; echo /bin/sh;; *) echo /.;; esac; echo
    done ;;
-S) shift; for f; do
	case $f in
	/usr/include/stdio.h) echo "libc-dev:amd64: $f";;
	/usr/include/errno.h) echo "moss-dev:amd64, other: $f";;
	/usr/include/math.h|/usr/include/time.h) echo "leaf-dev: $f";;
	/usr/bin/getconf) echo "spore: $f";;
	/usr/bin/tsort) echo "moss: $f";;
	esac
    done; exit 1 ;;
esac`

func newSystem(t *testing.T, script string) *System {
	p := host.Programs{Path: []string{t.TempDir(), "/usr/bin", "/bin"}}
	require.NoError(t, os.WriteFile(filepath.Join(p.Path[0], "dpkg-query"), []byte("#!/bin/sh\n"+script), 0o755))
	return &System{Programs: p, Packages: p.Packages("debian")}
}

func lines(uses []Use, others []string, err error) string {
	var text strings.Builder
	for _, u := range uses {
		fmt.Fprintf(&text, "%s: %s of %s\n", u.How, u.Question, u.Package)
	}
	return fmt.Sprintf("%s%s%v", text.String(), strings.Join(others, " "), err)
}

func TestWhatIsBeyond(t *testing.T) {
	ctx := context.Background()
	s := newSystem(t, packages)
	files := Files{
		"/usr/include/stdio.h": Included, "/usr/include/stdlib.h": Included, "/usr/bin/sh": Ran, "/usr/bin/ls": Ran,
		"/usr/bin/getconf":     Ran,
		"/usr/include/errno.h": Included, "/usr/include/math.h": Included, "/usr/include/time.h": Included,
	}
	assert.Equal(t, "included: header math.h of leaf-dev\nran: program getconf of spore\n<nil>",
		lines(s.Beyond(ctx, files, Declaration{Programs: []string{"sh"}})), "what leaf-dev requires comes with it")
	assert.Equal(t, "included: header math.h of leaf-dev\n<nil>",
		lines(s.Beyond(ctx, files, Declaration{Questions: []host.Question{{Kind: host.Program, Name: "getconf"}},
			Packages: []string{"moss-dev"}})))
	assert.Equal(t, "ran: program getconf of spore\n<nil>",
		lines(s.Beyond(ctx, files, Declaration{Questions: []host.Question{{Kind: host.Header, Name: "time.h"}}})),
		"another header of the same package is declared")
	files["/etc/hostname"], files["/usr/bin/tsort"] = Opened, Opened
	assert.Contains(t, lines(s.Beyond(ctx, files, Declaration{Programs: []string{"sh"}})),
		"program getconf of spore\n/etc/hostname<nil>", "that is opened, and never requested")
	delete(files, "/etc/hostname")
	assert.Equal(t, "<nil>", lines(s.Beyond(ctx, Files{"/usr/include/stdio.h": Included}, Declaration{})))
	s.Packages = nil
	assert.Equal(t, "ran: program getconf of \n<nil>", lines(s.Beyond(ctx, files, Declaration{})),
		"nothing tells headers apart")
}

func TestTraces(t *testing.T) {
	dir := t.TempDir()
	box, err := safefs.OpenDir(dir)
	require.NoError(t, err)
	defer box.Close()
	put := func(name, text string) string {
		path := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
		return name
	}
	put("build/.deps/leaf.Po",
		"leaf.o: ../leaf.c /usr/include/stdio.h \\\n /usr/include/../include/errno.h "+
			"/usr/include/nowhere.h\n\n/usr/include/time.h:\n")
	put("build/CMakeFiles/leaf.dir/leaf.c.o.d", "leaf.c.o: \\\n  "+dir+"/own.h \\\n  /usr/include/math.h\n")
	put("build/notes", "leaf.o: /usr/include/assert.h\n")
	f := Files{}
	require.NoError(t, f.Headers(box, "build", put("included", "moss.o: /usr/include/string.h\n"), "absent"))
	f.Listed("leaf.o: #deps 2, deps mtime 1 (VALID)\n    ../leaf.c\n    /usr/include/fcntl.h\n\n")
	require.NoError(t, f.Programs(box, []string{
		put("config.log", "ac_cv_path_GETCONF='/usr/bin/getconf'\nac_cv_prog_LS=/usr/bin/ls\nac_cv_header=yes\n"),
		put("CMakeCache.txt", "ENV_EXECUTABLE:FILEPATH=/usr/bin/env\n"), "absent",
	}, []string{filepath.Join(dir, put("compile.log", "cd leaf && /usr/bin/getconf PATH\ngcc -c env.c\necho ls\n"))}))
	pc := put("pc/leaf.pc", "")
	f.Modules(box, put("modules", "leaf >= 1.2 [1.4]\nmoss NOT-FOUND\nfern [2]\n"),
		[]string{filepath.Join(dir, filepath.Dir(pc))})
	require.NoError(t,
		f.Record(filepath.Join(dir,
			put("opened", "ran /bin/sh\nread /usr/include/stdio.h\nread /usr/include/ctype.h\nread /etc/passwd\n"))))
	require.NoError(t, syscall.Mkfifo(filepath.Join(dir, "build/.deps/pipe.Po"), 0o644))
	require.NoError(t, syscall.Mkfifo(filepath.Join(dir, "pipe"), 0o644))
	require.NoError(t, os.Symlink("/usr/include", filepath.Join(dir, "build/out")))
	require.NoError(t, f.Headers(box, "build", "pipe"), "which nobody writes to")
	f.Modules(box, "pipe", nil)
	f.Libraries([]string{"libabsent.so.1"}, host.SystemLibraries())
	want := Files{"/usr/bin/getconf": Ran, "/bin/sh": Ran, "/usr/include/ctype.h": Opened}
	for _, header := range []string{"stdio", "errno", "math", "string", "fcntl"} {
		want["/usr/include/"+header+".h"] = Included
	}
	assert.Equal(t, want, f, "and the module is outside the system")
}

// One use per package, by the best way to ask for it.
func TestGroups(t *testing.T) {
	files := Files{
		"/usr/include/c++/12/vector": Included, "/usr/include/c++/12/string": Included,
		"/usr/lib/x86_64-linux-gnu/pkgconfig/leaf.pc": Asked, "/usr/include/leaf.h": Included,
		"/usr/include/leaf-edge.h": Included, "/usr/lib/x86_64-linux-gnu/libleaf.so": Linked,
		"/usr/lib/libmoss.so.2": Linked, "/usr/lib/python3/dist-packages/soil/__init__.py": Opened,
		"/usr/share/aclocal/ax_rain.m4": Opened, "/usr/share/rain/rain.xsl": Opened,
		"/usr/include/declared.h": Included,
	}
	owners := map[string]string{"/usr/share/rain/rain.xsl": "rain"}
	paths := []string{}
	for path := range files {
		paths = append(paths, path)
		if strings.Contains(path, "leaf") {
			owners[path] = "leaf-dev"
		}
	}
	slices.Sort(paths)
	got := map[string]string{}
	for _, u := range group(paths, owners, files,
		Declaration{Questions: []host.Question{{Kind: host.Header, Name: "declared.h"}}}) {
		got[u.String()+" of "+u.Package] = fmt.Sprint(u.How, " ", len(u.Files), " ", u.Files[0])
	}
	assert.Equal(t, map[string]string{
		"program c++ of ":                        "included 2 /usr/include/c++/12/string",
		"module leaf of leaf-dev":                "asked 4 /usr/lib/x86_64-linux-gnu/pkgconfig/leaf.pc",
		"library moss of ":                       "linked 1 /usr/lib/libmoss.so.2",
		"python soil of ":                        "opened 1 /usr/lib/python3/dist-packages/soil/__init__.py",
		"file /usr/share/aclocal/ax_rain.m4 of ": "opened 1 /usr/share/aclocal/ax_rain.m4",
		"  of rain":                              "opened 1 /usr/share/rain/rain.xsl",
	}, got)
}

// Parts of other programs are not asked for.
func TestPartsOfCompilersAreNotPrograms(t *testing.T) {
	for path, want := range map[string]host.Question{
		"/usr/lib/gcc/x86_64-linux-gnu/12/collect2": {}, "/usr/libexec/gcc/x86_64-linux-gnu/12/cc1plus": {Kind: host.Program,
			Name: "c++"},
		"/usr/bin/bison": {Kind: host.Program, Name: "bison"}, "/usr/sbin/ldconfig": {Kind: host.Program, Name: "ldconfig"},
	} {
		assert.Equal(t, want, question(path, Ran), path)
	}
}
