package main

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
)

// realSources has lists of upstream archives, and the script that fetches them. It is beside this
// repository, or nowhere.
const realSources = "../shared/real"

// byHand builds the archives named as arguments, one after the other, each with all processors, as
// a script does that a person writes: whatever is built by default, into one directory.
const byHand = `set -e
P=$PWD/prefix J=-j$(nproc)
export PATH=$P/bin:$PATH CPPFLAGS=-I$P/include LDFLAGS="-L$P/lib -Wl,-rpath,$P/lib" CMAKE_PREFIX_PATH=$P
export PKG_CONFIG_PATH=$P/lib/pkgconfig:$P/lib64/pkgconfig
rm -rf work prefix && mkdir work && cd work
for archive; do
	sha256sum "$archive" >/dev/null
	rm -rf one && mkdir one && tar -xf "$archive" -C one --strip-components=1
	first=$(cd one; ls -d configure meson.build CMakeLists.txt Makefile */configure */CMakeLists.txt 2>/dev/null |
		head -n 1)
	(cd "one/$(dirname "$first")"
	if [ -x configure ]; then ./configure --prefix=$P && make $J && make install
	elif [ -f meson.build ]; then meson setup --prefix=$P --libdir=lib b && ninja -C b install
	elif [ -f CMakeLists.txt ]; then cmake -B b -DCMAKE_INSTALL_PREFIX=$P && make -C b $J install
	else make $J && make install PREFIX=$P; fi)
done
`

// realLadder builds real packages from nothing: up to 14 of the lists that build from their first
// draft, compared with a script. It is not repeated, because it takes half an hour.
func (w *work) realLadder(only string) {
	const name = "a ladder of real packages"
	fetch, err := filepath.Abs(realSources + "/fetch.sh")
	must(err)
	if _, err := os.Stat(fetch); err != nil || !strings.Contains(name, only) {
		return
	}
	cache, err := os.UserCacheDir()
	must(err)
	cache = filepath.Join(cache, "fernladder-bench")
	for _, set := range []string{"build", "chains"} {
		if out, err := exec.Command("bash", fetch, cache, set).CombinedOutput(); err != nil {
			fmt.Fprintf(os.Stderr, "%s: not all archives are here\n%s", name, out)
		}
	}
	names, archives := w.drafted(cache)
	w.write("real/script.sh", byHand)
	const quiet = `sh script.sh "$@" >script.log 2>&1 || { tail -n 20 script.log; exit 1; }`
	theirs := timed(w.path("real"), "sh", append([]string{"-c", quiet, "sh"}, archives...)...)
	must(os.RemoveAll(w.path("real/root")))
	ours := timed(w.path("real"), w.program, append([]string{"build"}, names...)...)
	var runs []struct {
		Seconds float64
		Slots   int
		Busy    float64 `json:"processor_seconds"`
		Idle    []struct {
			What    string
			Seconds float64 `json:"processor_seconds"`
		}
	}
	history := exec.Command(w.program, "history", "--runs", "-n", "1", "--json")
	history.Dir = w.path("real")
	out, err := history.Output()
	must(err)
	must(json.Unmarshal(out, &runs))
	r := runs[0]
	fmt.Printf("%-44s %-34s %9s %9s  %-18.2f %s\n", fmt.Sprintf("%s, %d", name, len(names)), "a hand-written script",
		short(ours.wall), short(theirs.wall), ours.wall.Seconds()/theirs.wall.Seconds(), "0.65")
	fmt.Printf("%-44s %-34s %9s %9.2f  %-18.3f %s\n", "the same", "CPU / processors", short(ours.wall),
		r.Busy/float64(r.Slots), r.Seconds*float64(r.Slots)/r.Busy, "1.03")
	for _, c := range r.Idle {
		fmt.Printf("  processors idle in %-24s %6.1f s of %.0f\n", c.What, c.Seconds, r.Seconds*float64(r.Slots))
	}
}

// drafted drafts and builds archives, in the order of the lists, until there are enough.
func (w *work) drafted(archives string) (names, files []string) {
	const enough = 14
	dir := w.path("real")
	w.write("real/fernladder.toml", "root = \"root\"\nshelves = [\"recipes\"]\n")
	must(os.MkdirAll(dir+"/recipes", 0o755))
	const column = 2 // of the archive, in both lists
	for _, list := range []string{"MANIFEST.tsv", "chains.tsv"} {
		text, err := os.ReadFile(filepath.Join(realSources, list))
		must(err)
		for line := range strings.Lines(string(text)) {
			fields := strings.Split(line, "\t")
			if len(fields) <= column || len(names) == enough {
				continue
			}
			file := filepath.Join(archives, fields[column])
			if _, err := os.Stat(file); err != nil || slices.Contains(files, file) {
				continue
			}
			before, err := os.ReadDir(dir + "/recipes")
			must(err)
			draft := exec.Command(w.program, "draft", file, "--quick", "--json")
			draft.Dir = dir
			if draft.Run() != nil {
				continue
			}
			after, err := os.ReadDir(dir + "/recipes")
			must(err)
			for _, e := range after {
				if slices.ContainsFunc(before, func(b os.DirEntry) bool { return b.Name() == e.Name() }) {
					continue
				}
				build := exec.Command(w.program, "build", e.Name())
				build.Dir = dir
				if build.Run() != nil {
					must(os.RemoveAll(dir + "/recipes/" + e.Name()))
					continue
				}
				names, files = append(names, e.Name()), append(files, file)
			}
		}
	}
	return names, files
}
