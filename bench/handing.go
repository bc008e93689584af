package main

import (
	"bytes"
	"fmt"
	"io"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp"
	"github.com/ProtonMail/go-crypto/openpgp/armor"

	"fernladder/core/ospackage"
	"fernladder/core/store"
)

const (
	fronds    = 50_000 // files of the tree that is packed
	frondSize = 21 << 10
	potted    = 2_000 // packages of the large repository
)

// fernery is a root with a build of a GiB in it that was not built: only later work with it is
// measured. It returns the tree.
func (w *work) fernery() string {
	s := &store.Store{Root: w.path("fernery/root")}
	must(s.Prepare())
	w.write("fernery/fernladder.toml",
		"root = \"root\"\nshelves = [\"recipes\"]\n[pack]\nmaintainer = \"Vale Growers <growers@vale-glasshouse.example>\"\n")
	r := store.Ref{Name: "fern", Version: "1.0", ID: "0123456789ab"}
	words := strings.Fields("moss fern frond spore loam dew mist vale glass root leaf stem shade ladder rung tray")
	random := rand.New(rand.NewPCG(1, 2))
	text := make([]byte, 0, frondSize)
	for i := range fronds {
		text = text[:0]
		for len(text) < frondSize {
			text = fmt.Appendf(text, "%s %x\n", words[random.IntN(len(words))], random.Uint32())
		}
		name := w.path("fernery/stage", fmt.Sprintf("share/fern/%03d/%05d", i%500, i))
		must(os.MkdirAll(filepath.Dir(name), 0o755))
		must(os.WriteFile(name, text, 0o644))
	}
	_, _, err := s.Place(w.path("fernery/stage"), r, nil)
	must(err)
	must(s.Commit(&store.Receipt{Ref: r, Options: map[string]string{}, Needs: []store.Link{}}))
	return s.Tree(r)
}

// pots is a repository of a number of packages, and one more beside it to add.
func (w *work) pots(dir string, number int) {
	key, err := openpgp.NewEntity("Vale Growers", "", "growers@vale-glasshouse.example", nil)
	must(err)
	var secret bytes.Buffer
	to, err := armor.Encode(&secret, openpgp.PrivateKeyType, nil)
	must(err)
	must(key.SerializePrivate(to, nil))
	must(to.Close())
	w.write(dir+"/vale.key", secret.String())
	must(os.Chmod(w.path(dir, "vale.key"), 0o600))
	args := []string{"repository", "add", "vale", "--key", "vale.key"}
	for i := range number + 1 {
		p := &ospackage.Package{Name: fmt.Sprintf("vale-pot%04d", i), Version: "1.0", Release: "1", Summary: "A pot",
			License: "MIT", Maintainer: "Vale Growers <growers@vale-glasshouse.example>", Time: time.Unix(1774008000, 0)}
		for j := range 20 {
			p.Files = append(p.Files, ospackage.File{Path: fmt.Sprintf("/opt/pots/%04d/%02d", i, j), Mode: fs.FileMode(0o644),
				Size: 5, Open: func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader("loam\n")), nil }})
		}
		for _, f := range []ospackage.Format{ospackage.Deb, ospackage.RPM} {
			name := p.FileName(f)
			if i == number {
				name = "more." + string(f)
			}
			file, err := os.Create(w.path(dir, name))
			must(err)
			if f == ospackage.Deb {
				must(p.WriteDeb(file, w.path(dir)))
			} else {
				must(p.WriteRPM(file, w.path(dir)))
			}
			must(file.Close())
			if i < number {
				args = append(args, name)
			}
		}
	}
	if number > 0 {
		timed(w.path(dir), w.program, args...)
	}
}

// handing measures making packages of builds, and repositories of packages.
func (w *work) handing() []row {
	tree := sync.OnceValue(w.fernery)
	pack := func(run func(dir, name string, args ...string) cost, format string) side {
		return func() cost {
			tree()
			must(os.RemoveAll(w.path("fernery/out")))
			return run(w.path("fernery"), w.program, "pack", "fern", "--format", format, "--to", "out")
		}
	}
	tarred := func() cost {
		return timed(w.path("fernery"), "sh", "-c", "tar -c "+tree()+" 2>/dev/null | zstd -q -f -T0 -o tree.tar.zst")
	}
	repository := func(dir string, number int) side {
		once := sync.OnceFunc(func() { w.pots(dir, number) })
		return func() cost {
			once()
			if number == 0 {
				must(os.RemoveAll(w.path(dir, "vale")))
			} else if _, err := os.Stat(w.path(dir, "vale/pool", fmt.Sprintf("vale-pot%04d", number))); err == nil {
				timed(w.path(dir), w.program, "repository", "drop", "vale", fmt.Sprintf("vale-pot%04d", number), "--key",
					"vale.key")
			}
			return timed(w.path(dir), w.program, "repository", "add", "vale", "more.deb", "more.rpm", "--key", "vale.key")
		}
	}
	rows := []row{}
	for _, format := range []string{"deb", "rpm"} {
		rows = append(rows, row{name: "pack, 50,000 files of a GiB, " + format, anchor: "tar | zstd -T0", aim: "1.5",
			ours: pack(timed, format), theirs: tarred})
	}
	return append(rows,
		row{name: "pack, memory for them", aim: "128 MiB at most", ours: pack(watched, "deb"),
			show: func(ours, _ cost) string { return fmt.Sprintf("peak %d MiB", ours.peak>>20) }},
		row{name: "repository of 2,000 deb and rpm, one more", anchor: "one into an empty one", aim: "the lists' size",
			ours: repository("pots", potted), theirs: repository("pot", 0)},
	)
}
