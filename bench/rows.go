package main

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"github.com/ProtonMail/go-crypto/openpgp"

	"fernladder/demo/garden"
	"fernladder/demo/upstream"
)

// work is the directory of the rows, and the program they measure.
type work struct{ dir, program string }

func (w *work) path(names ...string) string {
	return filepath.Join(append([]string{w.dir}, names...)...)
}

func (w *work) read(name string) string {
	data, err := os.ReadFile(w.path(name))
	must(err)
	return string(data)
}

func (w *work) write(name, text string) {
	must(os.MkdirAll(filepath.Dir(w.path(name)), 0o755))
	must(os.WriteFile(w.path(name), []byte(text), 0o755))
}

// chain builds the garden from nothing, compared with a hand-written script: one package after
// the other, each with all processors.
func (w *work) chain() []row {
	archives, err := garden.Archives()
	must(err)
	// No site: a script would not wait for one that serves the wrong file.
	must(garden.Write(w.path("chain"), "file:///nowhere", archives))
	w.write("chain/script.sh", `set -e
A=$PWD/upstream P=$PWD/prefix J=-j$(nproc)
mkdir work && cd work
export PATH=$P/bin:$PATH CPPFLAGS=-I$P/include LDFLAGS="-L$P/lib -Wl,-rpath,$P/lib"
export CMAKE_PREFIX_PATH=$P MISTPLAN_DATA=$P/share/mistplan
check() { sha256sum "$A/$1" >/dev/null; }
check sporegen-2.0.zip; python3 -c "import zipfile,sys; zipfile.ZipFile(sys.argv[1]).extractall()" $A/sporegen-2.0.zip
(cd sporegen-2.0; make $J; make install PREFIX=$P)
check dewcalc-1.4.2.tar.gz; tar -xf $A/dewcalc-1.4.2.tar.gz
(mkdir b1; cd b1; ../dewcalc-1.4.2/configure --prefix=$P --disable-static
	make $J; make check; make install; $P/bin/dewcalc 20 50) || exit 1
check loamdb-0.9.1.tar.zst; tar -xf $A/loamdb-0.9.1.tar.zst
(cmake -S loamdb-0.9.1 -B b2 -DCMAKE_INSTALL_PREFIX=$P -DCMAKE_BUILD_TYPE=Release -DBUILD_SHARED_LIBS=ON \
	-DCMAKE_INSTALL_LIBDIR=lib -DCMAKE_INSTALL_RPATH=$P/lib; cd b2; make $J; make install; $P/bin/loamdb put x light 12)
check frondplot-1.2.0.tar.gz; tar -xf $A/frondplot-1.2.0.tar.gz
(cd frondplot-1.2.0; make $J; make install PREFIX=$P; echo 1 3 2 | frondplot Growth moss)
check mistplan-2.1.0.tar.gz; tar -xf $A/mistplan-2.1.0.tar.gz
(mkdir b3; cd b3; ../mistplan-2.1.0/configure --prefix=$P --enable-plots --with-storage=loam
	make $J; make check; make install; mistplan --version; mistplan --plot plan.svg)
check glasshouse-1.0.0.tar.gz; tar -xf $A/glasshouse-1.0.0.tar.gz
(cmake -S glasshouse-1.0.0 -B b4 -DCMAKE_INSTALL_PREFIX=$P -DCMAKE_BUILD_TYPE=Release \
	-DCMAKE_INSTALL_RPATH=$P/lib; cd b4; make $J; make install; glasshouse day book)
`)
	return []row{{
		name: "the garden's chain, nothing built", anchor: "script: in order, make -j each", aim: "faster the wider",
		ours: func() cost {
			must(os.RemoveAll(w.path("chain/root")))
			return timed(w.path("chain"), w.program, "install", "glasshouse")
		},
		theirs: func() cost {
			must(os.RemoveAll(w.path("chain/work")))
			must(os.RemoveAll(w.path("chain/prefix")))
			return timed(w.path("chain"), "sh", "script.sh")
		},
	}}
}

// trivial fills a shelf with packages that take no time to build, and returns their names.
func (w *work) trivial(name string, number int) []string {
	must(os.MkdirAll(w.path(name, "pkg"), 0o755))
	w.write(name+"/pkg/file", "a source\n")
	must(exec.Command("tar", "-C", w.path(name), "-czf", w.path(name, "pkg.tar.gz"), "pkg").Run())
	data, err := os.ReadFile(w.path(name, "pkg.tar.gz"))
	must(err)
	sum := sha256.Sum256(data)
	w.write(name+"/fernladder.toml", "root = \"root\"\nshelves = [\"recipes\"]\n")
	var names []string
	for i := range number {
		n := fmt.Sprintf("plant%03d", i)
		names = append(names, n)
		need := ""
		if i >= 10 { // ten side by side, one standing on the other
			need = fmt.Sprintf("[[need]]\nrecipe = \"plant%03d\"\nrole = \"library\"\n", i-10)
		}
		w.write(name+"/recipes/"+n+"/recipe.toml", fmt.Sprintf(`format = 1
[package]
name = %q
summary = "A package that takes no time to build"
[[release]]
version = "1.0"
archive = "file://%s"
sha256 = %q
%s[build]
method = "script"
[steps]
compile = '''
cp file built
'''
place = '''
mkdir -p $DESTDIR$FL_PREFIX/share/%s; cp built $DESTDIR$FL_PREFIX/share/%s/file
'''
`, n, w.path(name, "pkg.tar.gz"), hex.EncodeToString(sum[:]), need, n, n))
	}
	return names
}

// overhead is the cost of the program itself: 100 packages whose builds do next to nothing,
// compared with the same commands alone.
func (w *work) overhead() []row {
	names := w.trivial("overhead", 100)
	var bare strings.Builder
	bare.WriteString("set -e; mkdir $1; cd $1\n")
	for _, n := range names {
		fmt.Fprintf(&bare,
			"mkdir -p work/%s; cd work/%s; tar -xf ../../../pkg.tar.gz; cd pkg; sh -e -c 'cp file built'; "+
				"P=$PWD/../../../prefix/%s sh -e -c 'mkdir -p $P/share; cp built $P/share/file'; cd ../../..\n", n, n, n)
	}
	w.write("overhead/bare.sh", bare.String())
	// Each round has a new directory: for minutes after files were deleted, ext4 takes longer to
	// create others.
	var round, bareRound int
	return []row{{
		name: "100 packages, tool's own cost", anchor: "the same commands run bare", aim: "1 s of CPU at most",
		ours: func() cost {
			round++
			root := w.path("overhead", fmt.Sprint("root", round))
			return timed(w.path("overhead"), w.program, append([]string{"build", "--root", root}, names...)...)
		},
		theirs: func() cost {
			bareRound++
			return timed(w.path("overhead"), "sh", "bare.sh", fmt.Sprint("bare", bareRound))
		},
		show: func(ours, theirs cost) string { return fmt.Sprintf("CPU %+.2f s", (ours.cpu - theirs.cpu).Seconds()) },
	}}
}

// nothing asks for 200 installed packages, compared with reading their receipts.
func (w *work) nothing() []row {
	names := w.trivial("nothing", 200)
	args := append([]string{"install"}, names...)
	installed := false
	return []row{{
		name: "nothing to do, 200 packages installed", anchor: "cat of their 200 receipts", aim: "100 ms at most",
		ours: func() cost {
			if !installed {
				timed(w.path("nothing"), w.program, args...)
				installed = true
			}
			return timed(w.path("nothing"), w.program, args...)
		},
		theirs: func() cost {
			return timed(w.path("nothing"), "sh", "-c", "cat root/trees/*/*/share/fernladder/receipt.json >/dev/null")
		},
	}}
}

// sources packs a source tree of some 60 MB in thousands of files, and returns the archive.
func (w *work) sources() string {
	must(os.MkdirAll(w.path("unpack"), 0o755))
	plain := w.path("unpack", "src.tar")
	if _, err := os.Stat(plain); err == nil {
		return plain
	}
	goRoot, err := exec.Command("go", "env", "GOROOT").Output()
	must(err)
	timed(filepath.Join(strings.TrimSpace(string(goRoot)), "src"), "tar", "--sort=name", "-cf", plain, "cmd/compile",
		"net", "crypto", "go", "runtime", "internal")
	return plain
}

// memory builds a package from such an archive, for each kind of archive.
func (w *work) memory() []row {
	var rows []row
	for _, format := range []struct{ suffix, program string }{{"gz", "gzip -9"}, {"xz", "xz -6 -T0"},
		{"zst", "zstd -19 -T0"}} {
		rows = append(rows, row{
			name: "memory of the tool, 60 MB of sources in " + format.suffix, aim: "64 MiB at most",
			ours: func() cost {
				dir := "memory-" + format.suffix
				if _, err := os.Stat(w.path(dir)); err != nil {
					w.large(dir, format.program)
				}
				must(os.RemoveAll(w.path(dir, "root")))
				return watched(w.path(dir), w.program, "build", "big")
			},
			show: func(ours, _ cost) string { return fmt.Sprintf("peak %d MiB", ours.peak>>20) },
		})
	}
	return rows
}

// large creates a folder with the recipe of a package that only copies its sources, compressed
// by the given program.
func (w *work) large(dir, compress string) {
	must(os.MkdirAll(w.path(dir), 0o755))
	archive := w.path(dir, "big.tar")
	timed(w.dir, "sh", "-c", compress+" -c "+w.sources()+" >"+archive)
	data, err := os.ReadFile(archive)
	must(err)
	sum := sha256.Sum256(data)
	w.write(dir+"/fernladder.toml", "root = \"root\"\nshelves = [\"recipes\"]\n")
	w.write(dir+"/recipes/big/recipe.toml",
		fmt.Sprintf("format = 1\n[package]\nname = \"big\"\nsummary = \"Large\"\n[[release]]\nversion = \"1\"\narchive = "+
			"\"file://%s\"\nsha256 = %q\n"+
			"[build]\nmethod = \"script\"\n[steps]\nplace = 'mkdir -p $DESTDIR$FL_PREFIX; cp -r . $DESTDIR$FL_PREFIX/share'\n",
			archive, hex.EncodeToString(sum[:])))
}

// unpack unpacks them, compared with tar.
func (w *work) unpack() []row {
	self, err := os.Executable()
	must(err)
	plain := w.sources()
	var rows []row
	for _, format := range []struct{ suffix, program, aim string }{
		{"gz", "gzip", "1.0"}, {"zst", "zstd", "1.0"}, {"xz", "xz -T0", "1.2"}, {"bz2", "bzip2", ""},
	} {
		archive := plain + "." + format.suffix
		timed(w.path("unpack"), "sh", "-c", format.program+" -c src.tar >"+archive)
		into := func(run func(dir string) cost) side {
			return func() cost {
				dir := w.path("unpack", "out")
				must(os.RemoveAll(dir))
				must(os.Mkdir(dir, 0o755))
				return run(dir)
			}
		}
		rows = append(rows, row{
			name: "unpack a verified archive, " + format.suffix, anchor: "tar -xf", aim: format.aim,
			ours:   into(func(dir string) cost { return timed(w.dir, self, "-unpack", archive, dir) }),
			theirs: into(func(dir string) cost { return timed(dir, "tar", "-xf", archive) }),
		})
	}
	return rows
}

// fetch fetches a large archive from a fast site.
func (w *work) fetch() []row {
	const size = 200 << 20
	data := make([]byte, size)
	for i := range data {
		data[i] = byte(i * i >> 7)
	}
	site, err := upstream.Start(map[string][]byte{"big.tar": data})
	must(err)
	sum := sha256.Sum256(data)
	w.write("fetch/fernladder.toml", "root = \"root\"\nshelves = [\"recipes\"]\n")
	w.write("fetch/recipes/big/recipe.toml",
		fmt.Sprintf("format = 1\n[package]\nname = \"big\"\nsummary = \"Large\"\n[[release]]\nversion = \"1\"\narchive = "+
			"\"%s/dl/big.tar\"\nsha256 = %q\n[build]\nmethod = \"make\"\n",
			site.URL, hex.EncodeToString(sum[:])))
	return []row{{
		name: "fetch 200 MiB from a fast site, verified", anchor: "curl, sha256sum, sync", aim: "1.0",
		ours: func() cost {
			must(os.RemoveAll(w.path("fetch/root")))
			return timed(w.path("fetch"), w.program, "fetch", "big")
		},
		theirs: func() cost {
			os.Remove(w.path("fetch/big.tar"))
			return timed(w.path("fetch"), "sh", "-c", "curl -s -o big.tar "+site.URL+
				"/dl/big.tar && sha256sum big.tar && sync big.tar")
		},
	}}
}

// far fetches many small archives from a site that answers slowly.
func (w *work) far() []row {
	const number = 40
	files := map[string][]byte{}
	var names []string
	script := ""
	for i := range number {
		name := fmt.Sprintf("leaf%02d", i)
		names = append(names, name)
		files[name+".tar"] = []byte(strings.Repeat(name, 20_000))
	}
	site, err := upstream.Start(files)
	must(err)
	w.write("far/fernladder.toml", "root = \"root\"\nshelves = [\"recipes\"]\n")
	for _, name := range names {
		sum := sha256.Sum256(files[name+".tar"])
		w.write("far/recipes/"+name+"/recipe.toml",
			fmt.Sprintf("format = 1\n[package]\nname = %q\nsummary = \"A leaf\"\n[[release]]\nversion = \"1\"\narchive = "+
				"\"%s/far/%s.tar\"\nsha256 = %q\n[build]\nmethod = \"make\"\n",
				name, site.URL, name, hex.EncodeToString(sum[:])))
		script += fmt.Sprintf("curl -s -o %s.tar %s/far/%s.tar && sha256sum %s.tar\n", name, site.URL, name, name)
	}
	return []row{{
		name: "fetch 40 archives, a site of 50 ms latency", anchor: "curl and sha256sum, one after another", aim: "0.2",
		ours: func() cost {
			must(os.RemoveAll(w.path("far/root")))
			return timed(w.path("far"), w.program, append([]string{"fetch"}, names...)...)
		},
		theirs: func() cost { return timed(w.path("far"), "sh", "-c", script) },
	}}
}

// signed fetches an archive and verifies its signature, compared with fetching alone.
func (w *work) signed() []row {
	const size = 100 << 20
	data := make([]byte, size)
	for i := range data {
		data[i] = byte(i * i >> 7)
	}
	key, err := openpgp.NewEntity("Vale Growers", "", "growers@vale-glasshouse.example", nil)
	must(err)
	var public, signature bytes.Buffer
	must(key.Serialize(&public))
	must(openpgp.ArmoredDetachSign(&signature, key, bytes.NewReader(data), nil))
	site, err := upstream.Start(map[string][]byte{"big.tar": data, "big.tar.asc": signature.Bytes()})
	must(err)
	sum := sha256.Sum256(data)
	recipe := func(dir, source string) side {
		w.write(dir+"/fernladder.toml", "root = \"root\"\nshelves = [\"recipes\"]\n")
		w.write(dir+"/recipes/big/key", public.String())
		w.write(dir+"/recipes/big/recipe.toml",
			fmt.Sprintf("format = 1\n[package]\nname = \"big\"\nsummary = \"Large\"\n%s[[release]]\nversion = \"1\"\narchive "+
				"= \"%s/dl/big.tar\"\nsha256 = %q\n[build]\nmethod = \"make\"\n",
				source, site.URL, hex.EncodeToString(sum[:])))
		return func() cost {
			must(os.RemoveAll(w.path(dir, "root")))
			return timed(w.path(dir), w.program, "fetch", "big")
		}
	}
	return []row{{
		name: "fetch 100 MiB with a signature", anchor: "fetch it without", aim: "1.05",
		ours:   recipe("signed", "[source]\nsignature = \""+site.URL+"/dl/big.tar.asc\"\nkeys = [\"key\"]\n"),
		theirs: recipe("unsigned", ""),
	}}
}

// check reads a shelf of 10,000 recipes, compared with reading the files.
func (w *work) check() []row {
	const number = 10_000
	return []row{{
		name: "check 10,000 recipes", anchor: "cat of their files", aim: "2 s at most",
		ours: func() cost {
			if _, err := os.Stat(w.path("check")); err != nil {
				w.shelf("check", number)
			}
			return timed(w.path("check"), w.program, "check")
		},
		theirs: func() cost {
			return timed(w.path("check"), "sh", "-c", "find recipes -name recipe.toml -exec cat {} + >all")
		},
	}}
}

// resolve plans one package on shelves of several sizes, compared with reading all their files.
func (w *work) resolve() []row {
	var rows []row
	for _, number := range []int{100, 1_000, 10_000} {
		name := fmt.Sprintf("shelf%d", number)
		rows = append(rows, row{
			name: fmt.Sprintf("plan on a shelf of %d", number), anchor: "cat of its files", aim: "1.5 at 10,000",
			ours: func() cost {
				if _, err := os.Stat(w.path(name)); err != nil {
					w.shelf(name, number)
				}
				return timed(w.path(name), w.program, "plan", fmt.Sprintf("p%05d", number-1))
			},
			theirs: func() cost {
				return timed(w.path(name), "sh", "-c", "find recipes -name recipe.toml -exec cat {} + >all")
			},
		})
	}
	return rows
}

// host asks the machine for a hundred things at once, compared with one after another.
func (w *work) host() []row {
	const each = 25
	recipe := "format = 1\n[package]\nname = \"fern\"\nsummary = \"A plant\"\n[[release]]\nversion = \"1\"\nsha256 = \"" +
		strings.Repeat("0", 64) + "\"\narchive = \"file:///none\"\n[build]\nmethod = \"make\"\n"
	script := ""
	for i := range each {
		for kind, ask := range map[string]string{
			"program": "command -v leaf%d", "header": "echo '#include <leaf%d.h>' | cc -E - -o /dev/null",
			"library": "echo 'int main(void) { return 0; }' | cc -x c - -o /dev/null -lleaf%d",
			"module":  "pkg-config --modversion leaf%d",
		} {
			name := fmt.Sprintf("leaf%d", i)
			if kind == "header" {
				name += ".h"
			}
			recipe += fmt.Sprintf("[[host]]\n%s = %q\n", kind, name)
			script += fmt.Sprintf(ask+" >/dev/null 2>&1\n", i)
		}
	}
	return []row{{
		name: "host, 100 needs", anchor: "asked one after another", aim: "",
		ours: func() cost {
			w.write("host/fernladder.toml", "root = \"root\"\nshelves = [\"recipes\"]\n")
			w.write("host/recipes/fern/recipe.toml", recipe)
			return timed(w.path("host"), "sh", "-c", w.program+" host fern >/dev/null 2>&1 || :")
		},
		theirs: func() cost { return timed(w.path("host"), "sh", "-c", script+":") },
	}}
}

// explain finds the cause in a long log, and the package that has what is missing in an index as
// large as a distribution's, compared with searching both.
func (w *work) explain() []row {
	const files = 360_000
	var list, log strings.Builder
	for i := range files {
		fmt.Fprintf(&list, "package moss%d-devel\n/usr/include/moss%d/leaf%d.h\n", i/9, i/9, i)
	}
	log.WriteString(strings.Repeat("gcc -DHAVE_CONFIG_H -I. -I.. -O2 -MT leaf.lo -MD -MP -c leaf.c -fPIC -DPIC -o "+
		".libs/leaf.o\n\n", 20_000))
	log.WriteString("leaf.c:3:10: fatal error: moss777/leaf7000.h: No such file or directory\nmake: *** [leaf.o] Error " +
		"1\n")
	w.write("explain/list", list.String())
	w.write("explain/long.log", log.String())
	near := "leaf.c:10: error No such file or directory here\nERROR 7: \ncannot find the thing -lmoss maybe\n  Could " +
		"NOT find\nPackage 'moss' maybe found\n"
	w.write("explain/near.log", strings.Repeat(near, 30<<20/len(near))+"make: *** [leaf] Error 1\n")
	w.write("explain/bin/dnf", "#!/bin/sh\ncat "+w.path("explain/list")+"\n")
	w.write("explain/fernladder.toml", fmt.Sprintf("root = \"root\"\nshelves = []\npath = [%q]\n", w.path("explain/bin")))
	refresh := exec.Command(w.program, "host", "--refresh")
	refresh.Dir = w.path("explain")
	must(refresh.Run())
	must(exec.Command("gzip", "-kf", w.path("explain/list")).Run())
	info, err := os.Stat(w.path("explain/root/host-files/index.zst"))
	must(err)
	return []row{{
		name:   fmt.Sprintf("a log of 40,000 lines, index of %.1f MB", float64(info.Size())/1e6),
		anchor: "grep of both, the lists packed",
		ours:   func() cost { return timed(w.path("explain"), w.program, "explain", "long.log") },
		theirs: func() cost {
			return timed(w.path("explain"), "sh", "-c",
				"grep -nE 'error|not found|cannot find' long.log && gzip -dc list.gz | grep -B9 /leaf7000.h")
		},
	}, {
		name: "a log of 30 MB of lines that only look like errors", anchor: "grep -ciE of it",
		ours: func() cost { return timed(w.path("explain"), "sh", "-c", w.program+" explain near.log || :") },
		theirs: func() cost {
			return timed(w.path("explain"), "grep", "-ciE", "error|not found|cannot find", "near.log")
		},
	}}
}

// watch records every file that a build opens, compared with a second build without that.
func (w *work) watch() []row {
	w.trivial("watch", 1)
	w.write("watch/recipes/plant000/recipe.toml",
		strings.Replace(strings.Replace(w.read("watch/recipes/plant000/recipe.toml"), "[build]",
			"[[host]]\nprogram = \"cc\"\n[build]", 1), "cp file built\n",
			"printf '#include <stdio.h>\\n#include <stdlib.h>\\n#include <math.h>\\nint leaf(int n) { for (int i = 0; i < n; "+
				"i++) printf(\"%%d\", rand()); return n; }\\n' >leaf.c\nfor i in 1 2 3 4 5 6 7 8 9 10 11 12 13 14 15 16 17 18 "+
				"19 20 21 22 23 24 25; do cc -O2 -c leaf.c -o leaf$i.o; expr $i + 1 >/dev/null; done\ncp file built\n", 1))
	again := func(flag string) func() cost {
		return func() cost { return timed(w.path("watch"), w.program, "build", flag, "plant000") }
	}
	return []row{{name: "25 compilations, watched", anchor: "the same, not watched", aim: "1.10", ours: again("--watch"),
		theirs: again("--prove")}}
}

// bare builds a package in a room that sees what it declares, and in one that sees everything.
func (w *work) bare() []row {
	build := func(name, settings string) side {
		w.trivial(name, 1)
		w.write(name+"/fernladder.toml", settings+w.read(name+"/fernladder.toml"))
		must(exec.Command("sh", "-c", "cd "+w.path(name)+" && "+w.program+" build plant000").Run())
		return func() cost { return timed(w.path(name), w.program, "build", "--prove", "plant000") }
	}
	return []row{{
		name: "a build again, in a bare room", anchor: "in a room that sees all", aim: "5 ms more at most",
		ours: build("bare", ""), theirs: build("whole", "bare = false\nbare_why = \"to compare\"\n"),
		show: func(ours, theirs cost) string { return fmt.Sprintf("%+.1f ms", (ours.wall-theirs.wall).Seconds()*1e3) },
	}}
}

// draft reads an archive of typical size, compared with unpacking it.
func (w *work) draft() []row {
	var c, ac strings.Builder
	for i := range 400 {
		fmt.Fprintf(&c, "int leaf%d(int n) { return n * %d + (n >> %d); } /* %x */\n", i, i*7919, i%31, i*104729)
		fmt.Fprintf(&ac,
			"AC_ARG_WITH([leaf%d], [AS_HELP_STRING([--with-leaf%d], [leaf %d])], [], [with_leaf%d=auto])\nif test "+
				"$with_leaf%d != no; then\nPKG_CHECK_MODULES([L%d], [leaf%d], [], [a=no])\nfi\n", i, i, i, i, i, i, i)
	}
	for i := range 100 {
		w.write(fmt.Sprintf("draft/fern-1.0/src/leaf%d.c", i), strings.Repeat(c.String(), 2))
	}
	w.write("draft/fern-1.0/configure.ac", "AC_INIT([fern], [1.0])\n"+ac.String())
	w.write("draft/fern-1.0/COPYING", licence)
	w.write("draft/fernladder.toml", "root = \"root\"\nshelves = []\n")
	must(exec.Command("tar", "-C", w.path("draft"), "-czf", w.path("draft/fern-1.0.tar.gz"), "fern-1.0").Run())
	return []row{{
		name: "draft that only reads an archive, 100 files", anchor: "tar -xf", aim: "0.4 s at most",
		ours: func() cost { return timed(w.path("draft"), w.program, "draft", "--read", "--print", "fern-1.0.tar.gz") },
		theirs: func() cost {
			return timed(w.path("draft"), "sh", "-c", "rm -rf out; mkdir out; tar -C out -xf fern-1.0.tar.gz")
		},
	}}
}

// licence is a common licence of sources.
const licence = `Permission to use, copy, modify, and/or distribute this software for any
purpose with or without fee is hereby granted, provided that the above
copyright notice and this permission notice appear in all copies.

THE SOFTWARE IS PROVIDED "AS IS" AND THE AUTHOR DISCLAIMS ALL WARRANTIES
WITH REGARD TO THIS SOFTWARE INCLUDING ALL IMPLIED WARRANTIES OF
MERCHANTABILITY AND FITNESS. IN NO EVENT SHALL THE AUTHOR BE LIABLE FOR
ANY SPECIAL, DIRECT, INDIRECT, OR CONSEQUENTIAL DAMAGES OR ANY DAMAGES
WHATSOEVER RESULTING FROM LOSS OF USE, DATA OR PROFITS, WHETHER IN AN
ACTION OF CONTRACT, NEGLIGENCE OR OTHER TORTIOUS ACTION, ARISING OUT OF
OR IN CONNECTION WITH THE USE OR PERFORMANCE OF THIS SOFTWARE.
`

// shelf fills a shelf with recipes of five releases, an option and three needs.
func (w *work) shelf(name string, number int) {
	w.write(name+"/fernladder.toml", "root = \"root\"\nshelves = [\"recipes\"]\n")
	for i := range number {
		text := fmt.Sprintf("format = 1\n[package]\nname = \"p%05d\"\nsummary = \"A plant\"\nlicense = "+
			"\"MIT\"\n[source]\narchive = \"https://vale-glasshouse.example/$FL_NAME-$FL_VERSION.tar.gz\"\n", i)
		for v := range 5 {
			text += fmt.Sprintf("[[release]]\nversion = \"%d.%d\"\nsha256 = \"%064x\"\n", v+1, i%9, i*5+v)
		}
		text += "[option.plots]\nabout = \"Draw\"\ndefault = true\non = [\"--plots\"]\noff = [\"--no-plots\"]\n"
		for n := 1; n <= 3 && i > 0; n++ {
			text += fmt.Sprintf("[[need]]\nrecipe = \"p%05d\"\nversion = \">= 1\"\nrole = \"library\"\n", i*n/4)
		}
		w.write(fmt.Sprintf("%s/recipes/p%05d/recipe.toml", name, i), text+"[build]\nmethod = \"configure\"\n")
	}
}
