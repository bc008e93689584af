package main

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"strings"
	"time"

	"fernladder/demo/garden"
	"fernladder/demo/registry"
)

// orchids are two releases of a package of 200 MB, of which every hundredth file differs.
func (w *work) orchids() {
	const files, size = 1_000, 200_000
	text := "format = 1\n[package]\nname = \"orchid\"\nsummary = \"Large\"\n"
	for i, version := range []string{"1.0", "1.1"} {
		dir := w.path("orchids/src", "orchid-"+version)
		for k := range files {
			seed := uint64(k)
			if k%100 == 0 {
				seed += uint64(i * files)
			}
			random := rand.New(rand.NewPCG(seed, 2))
			var text strings.Builder
			for text.Len() < size {
				fmt.Fprintf(&text, "orchid %x petal %x\n", random.Uint64(), random.Uint32())
			}
			name := fmt.Sprintf("%s/%02d/%04d", dir, k%40, k)
			must(os.MkdirAll(name[:len(name)-5], 0o755))
			must(os.WriteFile(name, []byte(text.String()), 0o644))
		}
		archive := w.path("orchids", "orchid-"+version+".tar")
		must(exec.Command("tar", "-C", w.path("orchids/src"), "-cf", archive, "orchid-"+version).Run())
		data, err := os.ReadFile(archive)
		must(err)
		sum := sha256.Sum256(data)
		text += fmt.Sprintf("[[release]]\nversion = %q\narchive = \"file://%s\"\nsha256 = %q\n", version, archive,
			hex.EncodeToString(sum[:]))
	}
	w.write("orchids/recipes/orchid/recipe.toml", text+"[build]\nmethod = \"script\"\n[steps]\nplace = '''\n"+
		"mkdir -p $DESTDIR$FL_PREFIX/share; cp -r . $DESTDIR$FL_PREFIX/share/orchid\n'''\n")
}

// depotAt writes settings with a registry, and a key to sign with.
func (w *work) depotAt(dir, url string) {
	must(os.MkdirAll(w.path(dir), 0o755))
	must(garden.WriteSiteKey(w.path(dir, "site")))
	w.write(dir+"/fernladder.toml", fmt.Sprintf("root = \"root\"\nshelves = [\"recipes\"]\n[[depot]]\nname = \"site\"\n"+
		"url = \"%s/vale/builds\"\nkeys = [\"site.pub\"]\nsign = \"site\"\n", url))
}

// depots measures sharing builds, and taking them.
func (w *work) depots() []row {
	site := registry.Start()
	sink := httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodPut {
			io.Copy(io.Discard, r.Body)
			return
		}
		http.ServeFile(rw, r, w.path("orchids/orchid.tar.zst"))
	}))
	prepared := false
	dir := func() string {
		if !prepared {
			prepared = true
			w.orchids()
			w.depotAt("orchids", site.URL)
			timed(w.path("orchids"), w.program, "build", "orchid:1.0", "--no-depots")
			timed(w.path("orchids"), w.program, "build", "orchid:1.1", "--no-depots")
			timed(w.path("orchids"), "sh", "-c", "tar -C src -c orchid-1.0 | zstd -q -f -T0 -o orchid.tar.zst")
		}
		return w.path("orchids")
	}
	share := func(run func(dir, name string, args ...string) cost, version string) side {
		return func() cost {
			d := dir()
			site.Forget(func(string) bool { return true })
			if version != "1.0" {
				timed(d, w.program, "share", "orchid:1.0")
			}
			site.Counts()
			return run(d, w.program, "share", "orchid:"+version)
		}
	}
	sent := int64(0)
	take := func(run func(dir, name string, args ...string) cost) side {
		return func() cost {
			d := dir()
			if len(site.Tags("orchid-1.0")) == 0 {
				timed(d, w.program, "share", "orchid:1.0")
			}
			must(os.Rename(d+"/root", d+"/builder"))
			defer func() { must(os.RemoveAll(d + "/root")); must(os.Rename(d+"/builder", d+"/root")) }()
			return run(d, w.program, "build", "orchid:1.0")
		}
	}
	sh := func(script string) side { return func() cost { return timed(dir(), "sh", "-c", script) } }
	peak := func(ours, _ cost) string { return fmt.Sprintf("peak %d MiB", ours.peak>>20) }
	return append([]row{
		{name: "share a tree of 200 MB", anchor: "tar | zstd -T0 | curl", aim: "1.5 at most",
			ours: share(timed, "1.0"), theirs: sh("tar -C src -c orchid-1.0 | zstd -q -T0 | curl -sfT - " + sink.URL)},
		{name: "share its next release, 1 % changed", anchor: "tar | zstd -T0 | curl", aim: "what changed is sent",
			ours:   func() cost { c := share(timed, "1.1")(); sent, _ = site.Counts(); return c },
			theirs: sh("tar -C src -c orchid-1.1 | zstd -q -T0 | curl -sfT - " + sink.URL),
			show: func(_, _ cost) string {
				info, err := os.Stat(w.path("orchids/orchid.tar.zst"))
				must(err)
				return fmt.Sprintf("%.1f of %.1f MB sent", float64(sent)/1e6, float64(info.Size())/1e6)
			}},
		{name: "take a tree of 200 MB from a depot", anchor: "curl | tar --zstd -x", aim: "2.0 at most", ours: take(timed),
			theirs: sh("rm -rf out; mkdir out; curl -sf " + sink.URL + " | tar --zstd -C out -x")},
		{name: "share it, memory", anchor: "", aim: "96 MiB at most", ours: share(watched, "1.0"), show: peak},
		{name: "take it, memory", anchor: "", aim: "64 MiB at most", ours: take(watched), show: peak},
	}, w.manyFromDepot()...)
}

// manyFromDepot takes 200 packages from a registry that answers after 50 ms, and from one that answers
// at once.
func (w *work) manyFromDepot() []row {
	const number, latency = 200, 50 * time.Millisecond
	site := registry.Start()
	var names []string
	prepare := func() {
		if names != nil {
			return
		}
		names = w.trivial("many", number)
		w.depotAt("many", site.URL)
		timed(w.path("many"), w.program, append([]string{"build", "--no-depots"}, names...)...)
		timed(w.path("many"), w.program, append([]string{"share"}, names...)...)
		must(os.RemoveAll(w.path("many/root")))
		script := ""
		for _, tag := range site.Tags("plant") {
			script += fmt.Sprintf("curl -sf -o one %s/v2/vale/builds/manifests/%s && sha256sum one\n", site.URL, tag)
		}
		w.write("many/script.sh", script)
	}
	run := func(delay time.Duration, args ...string) side {
		return func() cost {
			prepare()
			must(os.RemoveAll(w.path("many/root")))
			site.Latency = delay
			defer func() { site.Latency = 0 }()
			return timed(w.path("many"), w.program, append(args, names...)...)
		}
	}
	return []row{
		{name: "200 packages from a depot of 50 ms latency", anchor: "a curl for each, one after another", aim: "0.3",
			ours: run(latency, "build"), theirs: func() cost {
				prepare()
				site.Latency = latency
				defer func() { site.Latency = 0 }()
				return timed(w.path("many"), "sh", "script.sh")
			}},
		{name: "verify 200 builds (plan)", anchor: "plan --no-depots", aim: "2 ms each", ours: run(0, "plan"),
			theirs: run(0, "plan", "--no-depots"), show: func(ours, theirs cost) string {
				return fmt.Sprintf("%.2f ms each", (ours.wall-theirs.wall).Seconds()*1000/number)
			}},
	}
}
