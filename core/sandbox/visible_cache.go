package sandbox

import (
	"encoding/hex"
	"encoding/json"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/zeebo/blake3"

	"fernladder/core/durable"
	"fernladder/core/safefs"
)

// In the directory of a system are, by the digest of what was declared, what was found,
// and by the digest of what is hidden, that, in two forms:
//
//	DECLARED.json     found
//	HIDDEN.paths      a line for each path
//	HIDDEN.layer/     the same as marks, for rooms
//
// What was found counts as long as the package manager and every directory that was
// read are as they were then. The others never change, and rooms may be using a layer:
// a layer is only deleted when it has not been asked for in a long time.

// rules is another number whenever this package finds out something else from the
// same.
const rules = "2"

// found is what is kept of a look.
type found struct {
	State    string   `json:"state"`    // of the package manager
	Packages []string `json:"packages"` // that are seen
	Looked   []looked `json:"looked"`   // directories that were read
	Digest   string   `json:"digest"`   // of what is hidden

	hidden []string
}

func digestOf(text string) string {
	digest := blake3.Sum256([]byte(rules + "\n" + text))
	return hex.EncodeToString(digest[:16])
}

func (s *System) file(name string) string { return filepath.Join(s.Dir, name) }

const most = 64 << 20 // more than any of the files has

// kept returns what an earlier look has found, or nil.
func (s *System) kept(key string) *Sight {
	if s.Dir == "" {
		return nil
	}
	data, err := safefs.ReadFile(s.file(digestOf(key)+".json"), most)
	if err != nil {
		return nil
	}
	var f found
	if json.Unmarshal(data, &f) != nil || f.State == "" || f.State != s.Packages.State() || len(f.Looked) == 0 {
		return nil
	}
	for _, l := range f.Looked {
		now, known := s.now[l.Dir]
		if !known {
			info, err := os.Lstat(l.Dir)
			if err != nil {
				return nil
			}
			now = lookedAt(l.Dir, info)
			if s.now == nil {
				s.now = map[string]looked{}
			}
			s.now[l.Dir] = now
		}
		if now != l {
			return nil
		}
	}
	paths := s.file(f.Digest + ".paths")
	if !askedFor(paths) {
		return nil
	}
	return &Sight{Packages: f.Packages, Layer: s.layer(f.Digest), hidden: func() ([]string, error) {
		data, err := safefs.ReadFile(paths, most)
		return strings.Split(strings.TrimSuffix(string(data), "\n"), "\n"), err
	}}
}

// keep keeps what was found. Where that cannot be, it is found out again the next time.
func (s *System) keep(key string, f *found) *Sight {
	sight := &Sight{Packages: f.Packages, hidden: func() ([]string, error) { return f.hidden, nil }}
	if s.Dir == "" || f.State == "" || os.MkdirAll(s.Dir, 0o777) != nil {
		return sight
	}
	text := strings.Join(f.hidden, "\n") + "\n"
	f.Digest = digestOf(text)
	data, err := json.Marshal(f)
	if err != nil || write(s.file(f.Digest+".paths"), []byte(text)) != nil {
		return sight
	}
	if sight.Layer = s.layer(f.Digest); sight.Layer == "" {
		sight.Layer = s.makeLayer(f.Digest, f.hidden)
	}
	_ = write(s.file(digestOf(key)+".json"), data) // only to be quicker
	return sight
}

func write(file string, data []byte) error {
	return durable.Stream(file, 0o644, func(w io.Writer) error {
		_, err := w.Write(data)
		return err
	})
}

// layer returns the layer of a digest, if it is there, and notes that it was asked for.
func (s *System) layer(digest string) string {
	dir := s.file(digest + ".layer")
	if !askedFor(dir) {
		return ""
	}
	return dir
}

// askedFor tells whether a file is there, and notes for sweep that it was asked for.
func askedFor(file string) bool {
	now := time.Now()
	return os.Chtimes(file, now, now) == nil
}

// sweep deletes what has not been asked for in a long time, and what programs that were
// killed have left. No build goes on for as long.
func (s *System) sweep() {
	const long = 30 * 24 * time.Hour
	entries, err := os.ReadDir(s.Dir)
	for _, e := range entries {
		info, gone := e.Info()
		if err != nil || gone != nil || time.Since(info.ModTime()) < long {
			continue
		}
		_ = os.RemoveAll(s.file(e.Name())) // the next will
	}
}

// makeLayer makes a layer aside. It returns "" where the file system cannot have it.
func (s *System) makeLayer(digest string, hidden []string) string {
	s.sweep()
	fresh, err := os.MkdirTemp(s.Dir, ".layer-")
	if err != nil {
		return ""
	}
	defer os.RemoveAll(fresh)
	dir := s.file(digest + ".layer")
	if os.Chmod(fresh, 0o755) != nil || whiteouts(fresh, hidden) != nil {
		return ""
	}
	if err := os.Rename(fresh, dir); err != nil { // another process made it in the meantime
		return s.layer(digest)
	}
	return dir
}
