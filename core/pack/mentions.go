package pack

import (
	"bytes"
	"errors"
	"io"
	"strings"

	"fernladder/core/landing"
	"fernladder/core/store"
)

// mentions adds the builds that a file mentions: it may read or run something there, which shows
// nowhere else.
func (p *packing) mentions(n *requires, r *store.Receipt, file io.Reader) error {
	if !n.named {
		return nil
	}
	const longest = 4096 // path (PATH_MAX)
	top := p.m.Store.TreesDir()
	if r.Prefix != "" {
		top = r.Prefix
	}
	needle := []byte(top + "/")
	buffer := make([]byte, 0, 256<<10)
	for {
		got, err := io.ReadFull(file, buffer[len(buffer):cap(buffer)])
		buffer = buffer[:len(buffer)+got]
		ended := errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF)
		if err != nil && !ended {
			return err
		}
		rest := buffer
		for {
			at := bytes.Index(rest, needle)
			if at < 0 {
				rest = rest[max(0, len(rest)-len(needle)):]
				break
			}
			rest = rest[at:]
			if len(rest) < longest && !ended {
				break
			}
			end := bytes.IndexFunc(rest[:min(len(rest), longest)], endsPath)
			if end < 0 {
				end = min(len(rest), longest)
			}
			p.mentioned(n, r, string(rest[:end]))
			rest = rest[len(needle):]
		}
		if ended {
			return nil
		}
		buffer = buffer[:copy(buffer[:cap(buffer)], rest)]
	}
}

// endsPath reports whether a character ends a path in a text: most paths name built files, which
// contain none of the characters that are special to shells and makefiles.
func endsPath(c rune) bool {
	return c <= ' ' || c >= 0x7f || strings.ContainsRune("\"'`:;,()[]{}<>|&$*?!#=\\", c)
}

// mentioned adds the builds that have what a path names.
func (p *packing) mentioned(n *requires, r *store.Receipt, named string) {
	if r.Prefix == "" {
		below, is := strings.CutPrefix(named, p.m.Store.TreesDir()+"/")
		if parts := strings.SplitN(below, "/", 3); is && len(parts) > 1 {
			if ref, is := p.m.Store.RefOf(parts[0] + "/" + parts[1]); is && ref != r.Ref {
				n.trees[ref] = true
			}
		}
		return
	}
	entry := p.inPrefix(r, named)
	switch {
	case entry == nil || entry.Mode.IsDir() && landing.Common(entry.Path):
	case entry.Mode.IsDir():
		if n.dirs[entry.Path] {
			return
		}
		n.dirs[entry.Path] = true
		for _, e := range p.union {
			if strings.HasPrefix(e.Path, entry.Path+"/") && !e.Mode.IsDir() && e.Build != r.Ref {
				n.trees[e.Build] = true
			}
		}
	case entry.Build != r.Ref:
		n.trees[entry.Build] = true
	}
}

// interpreter adds the build that has the interpreter of a script, if one has.
func (p *packing) interpreter(n *requires, r *store.Receipt, file string) {
	named := &requires{trees: n.tools, dirs: map[string]bool{}}
	if strings.HasPrefix(file, p.m.Store.Root+"/") || p.inPrefix(r, file) != nil {
		p.mentioned(named, r, file)
	}
}
