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

// The directory of a system has, by the digest of the declarations, what was found and, by the
// digest of the hidden paths, those paths in two forms:
//
//	DECLARED.json     found
//	HIDDEN.paths      a line for each path
//	HIDDEN.layer/     the same as marks, for rooms
//
// What was found counts as long as the package manager, and every directory that was read, are
// unchanged. The others never change, and rooms may be using a layer: it is only deleted when it
// has not been used for a long time.

// rules changes whenever this package finds something else from the same input.
const rules = "2"

// found is the kept result of a look.
type found struct {
	State    string   `json:"state"`    // of the package manager
	Packages []string `json:"packages"` // that are seen
	Looked   []looked `json:"looked"`   // directories that were read
	Digest   string   `json:"digest"`   // of hidden files

	hidden []string
}

func digestOf(text string) string {
	digest := blake3.Sum256([]byte(rules + "\n" + text))
	return hex.EncodeToString(digest[:16])
}

func (s *System) file(name string) string { return filepath.Join(s.Dir, name) }

const most = 64 << 20 // more than any of the files has

// kept returns the result of an earlier look, or nil.
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

// keep keeps what was found. If that fails, the next run finds it out again.
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

// layer returns the layer of a digest, if it exists, and notes its use.
func (s *System) layer(digest string) string {
	dir := s.file(digest + ".layer")
	if !askedFor(dir) {
		return ""
	}
	return dir
}

// askedFor reports whether a file exists, and notes its use for sweep.
func askedFor(file string) bool {
	now := time.Now()
	return os.Chtimes(file, now, now) == nil
}

// sweep deletes what has not been used for longer than any build takes, and what killed programs
// left.
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

// makeLayer makes a layer aside. It returns "" if the file system does not support it.
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
