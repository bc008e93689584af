package depot

import (
	"crypto/sha256"
	"encoding/hex"
	"sync"

	"fernladder/core/store"
)

// digests compares the contents of files, as they are read, with their digests, while the reader goes
// on.
type digests struct {
	free  chan []byte
	parts chan part
	once  sync.Once
	wrong chan string // the first file that is wrong, or ""
}

// A part is one of a file's contents, or its end.
type part struct {
	buffer []byte
	n      int
	file   *store.File
}

func newDigests() *digests {
	const buffers, size = 4, 256 << 10
	d := &digests{free: make(chan []byte, buffers), parts: make(chan part, buffers), wrong: make(chan string, 1)}
	for range buffers {
		d.free <- make([]byte, size)
	}
	go d.run()
	return d
}

func (d *digests) run() {
	sum, wrong := sha256.New(), ""
	for p := range d.parts {
		if p.file == nil {
			sum.Write(p.buffer[:p.n])
			d.free <- p.buffer
			continue
		}
		if f := p.file; f.SHA256 != "" && hex.EncodeToString(sum.Sum(nil)) != f.SHA256 && wrong == "" {
			wrong = f.Path
		}
		sum.Reset()
	}
	d.wrong <- wrong
}

// buffer is one to read into. It is given back by add.
func (d *digests) buffer() []byte { return <-d.free }

func (d *digests) add(buffer []byte, n int) { d.parts <- part{buffer: buffer, n: n} }

func (d *digests) end(f store.File) { d.parts <- part{file: &f} }

// close waits until all is compared, and returns the first file that differs, or "".
func (d *digests) close() (wrong string) {
	d.once.Do(func() { close(d.parts); wrong = <-d.wrong })
	return wrong
}
