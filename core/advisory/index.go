package advisory

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/zeebo/blake3"

	"fernladder/core/durable"
	"fernladder/core/safefs"
)

// An index says where the entries of a database are that have a key. It is a file of the root,
// and only a cache: it is made again when the database has changed.
//
// The file is a line of JSON, records in the order of their hashes, and the names of files.
type index struct {
	head  indexHead
	file  *os.File
	begin int64 // of the records
	names []string
}

// indexHead is the first line of an index.
type indexHead struct {
	Format  int    `json:"format"`
	Of      string `json:"of"`      // the state of the database
	Entries int    `json:"entries"` // JSON files
	Broken  int    `json:"broken"`  // of them, that are none
	Newest  string `json:"newest"`  // latest modification of an entry
	Records int    `json:"records"`
	Names   int    `json:"names"` // bytes
}

const indexFormat = 1

// A record is a key of an entry, and the place of the entry.
type record struct {
	hash   uint64
	file   uint32 // the number of the file of the database
	packed uint32 // bytes of the member of an archive, with its header; 0: the file is the entry
	offset int64  // of the member
}

const recordSize = 8 + 4 + 4 + 8

func hashOf(key string) uint64 {
	sum := blake3.Sum256([]byte(key))
	return binary.LittleEndian.Uint64(sum[:])
}

// openIndex opens the index of a database, or makes it: for this once, if it is not to be kept.
func openIndex(ctx context.Context, d *database, file string, keep bool) (*index, error) {
	state, err := d.state()
	if err != nil {
		return nil, err
	}
	if x, err := readIndex(file); err == nil {
		if x.head.Of == state {
			return x, nil
		}
		x.close()
	}
	s, err := d.scan(ctx)
	if err != nil {
		return nil, err
	}
	s.head.Format, s.head.Of = indexFormat, state
	if !keep {
		dir, err := os.MkdirTemp("", "fernladder-advisories-")
		if err != nil {
			return nil, err
		}
		defer os.RemoveAll(dir)
		file = filepath.Join(dir, "index")
	}
	if err := writeIndex(file, s); err != nil {
		return nil, err
	}
	return readIndex(file)
}

func readIndex(file string) (*index, error) {
	f, err := safefs.Open(file)
	if err != nil {
		return nil, err
	}
	x := &index{file: f}
	line, err := bufio.NewReader(io.LimitReader(f, 1<<16)).ReadBytes('\n')
	if err == nil {
		err = json.Unmarshal(line, &x.head)
	}
	x.begin = int64(len(line))
	info, errStat := f.Stat()
	if err == nil {
		err = errStat
	}
	whole := x.begin + int64(x.head.Records)*recordSize + int64(x.head.Names)
	if err == nil && (x.head.Format != indexFormat || x.head.Records < 0 || x.head.Names < 0 || info.Size() != whole) {
		err = errors.New("not an index")
	}
	if err == nil && x.head.Names > 0 {
		names := make([]byte, x.head.Names)
		if _, err = f.ReadAt(names, whole-int64(x.head.Names)); err == nil {
			x.names = strings.Split(string(names), "\x00")
		}
	}
	if err != nil {
		x.close()
		return nil, err
	}
	return x, nil
}

func writeIndex(file string, s *scanned) error {
	slices.SortFunc(s.records, func(a, b record) int {
		return cmp.Or(cmp.Compare(a.hash, b.hash), cmp.Compare(a.file, b.file), cmp.Compare(a.offset, b.offset))
	})
	s.records = slices.Compact(s.records)
	names := strings.Join(s.names, "\x00")
	s.head.Records, s.head.Names = len(s.records), len(names)
	head, err := json.Marshal(s.head)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(file), 0o777); err != nil {
		return err
	}
	return durable.Stream(file, 0o644, func(w io.Writer) error {
		out := bufio.NewWriterSize(w, 1<<16)
		out.Write(append(head, '\n'))
		var line [recordSize]byte
		for _, r := range s.records {
			binary.LittleEndian.PutUint64(line[0:], r.hash)
			binary.LittleEndian.PutUint32(line[8:], r.file)
			binary.LittleEndian.PutUint32(line[12:], r.packed)
			binary.LittleEndian.PutUint64(line[16:], uint64(r.offset))
			out.Write(line[:])
		}
		out.WriteString(names)
		return out.Flush()
	})
}

func (x *index) close() { x.file.Close() }

func (x *index) at(i int) (r record, err error) {
	var line [recordSize]byte
	if _, err = x.file.ReadAt(line[:], x.begin+int64(i)*recordSize); err != nil {
		return r, err
	}
	return record{binary.LittleEndian.Uint64(line[0:]), binary.LittleEndian.Uint32(line[8:]),
		binary.LittleEndian.Uint32(line[12:]), int64(binary.LittleEndian.Uint64(line[16:]))}, nil
}

// find are the records of a key, and possibly of others with the same hash.
func (x *index) find(key string) (found []record, err error) {
	hash := hashOf(key)
	low, high := 0, x.head.Records
	for low < high {
		mid := (low + high) / 2
		r, err := x.at(mid)
		if err != nil {
			return nil, err
		}
		if r.hash < hash {
			low = mid + 1
		} else {
			high = mid
		}
	}
	for ; low < x.head.Records; low++ {
		r, err := x.at(low)
		if err != nil || r.hash != hash {
			return found, err
		}
		found = append(found, r)
	}
	return found, nil
}

// scanned is the result of reading all of a database once.
type scanned struct {
	head    indexHead
	records []record
	names   []string
}

// add takes an entry in.
func (s *scanned) add(data []byte, place record) {
	s.head.Entries++
	if text := bytes.TrimSpace(data); len(text) < 2 || text[0] != '{' || text[len(text)-1] != '}' {
		s.head.Broken++ // other mistakes are found when it is looked up
		return
	}
	keysOf(data, func(key string) {
		place.hash = hashOf(key)
		s.records = append(s.records, place)
	}, func(modified string) {
		if modified > s.head.Newest {
			if _, err := time.Parse(time.RFC3339, modified); err == nil {
				s.head.Newest = modified
			}
		}
	})
}

// merge moves what other found to s.
func (s *scanned) merge(other *scanned) {
	s.records = append(s.records, other.records...)
	s.head.Entries += other.head.Entries
	s.head.Broken += other.head.Broken
	s.head.Newest = max(s.head.Newest, other.head.Newest)
	*other = scanned{records: other.records[:0], head: indexHead{Newest: other.head.Newest}}
}

// indexed are the members of an entry by whose values it is found, and the prefixes of their keys.
var indexed = map[string]string{"name": keyName, "purl": keyPurl, "repo": keyRepo, "id": keyID, "modified": ""}

// keysOf finds the keys of an entry without reading all of it: the values of the members by
// which a package is found, wherever they are. That may be more than counts; the entry is read
// when it is looked up.
func keysOf(data []byte, key, modified func(string)) {
	take := func(prefix, value string) {
		switch prefix {
		case "":
			modified(value)
		case keyName:
			key(keyName + value)
			if plain := plainName("PyPI", value); plain != value {
				key(keyName + plain)
			}
		case keyPurl:
			key(keyPurl + plainPurl(value))
		case keyRepo:
			key(keyRepo + plainURL(value))
		default:
			key(prefix + value)
		}
	}
	if !bytes.Contains(data, []byte(`\u00`)) { // then letters are written as themselves
		for name, prefix := range indexed {
			quoted := []byte(`"` + name + `"`)
			for rest := data; ; {
				i := bytes.Index(rest, quoted)
				if i < 0 {
					break
				}
				rest = rest[i+len(quoted):]
				if value, _, ok := valueOfMember(rest); ok {
					take(prefix, value)
				}
			}
		}
		return
	}
	for {
		name, rest, ok := nextText(data)
		if !ok {
			return
		}
		data = rest
		prefix, known := indexed[unquoted(name)]
		if !known {
			continue
		}
		if value, after, ok := valueOfMember(rest); ok {
			take(prefix, value)
			data = after
		}
	}
}

// valueOfMember is the text after the name of a member, and what follows it.
func valueOfMember(data []byte) (value string, rest []byte, ok bool) {
	data = bytes.TrimLeft(data, " \t\r\n")
	if len(data) == 0 || data[0] != ':' {
		return "", nil, false
	}
	if data = bytes.TrimLeft(data[1:], " \t\r\n"); len(data) == 0 || data[0] != '"' {
		return "", nil, false
	}
	raw, rest, ok := nextText(data)
	return unquoted(raw), rest, ok
}

// unquoted is a text of JSON that stood between quotes.
func unquoted(raw []byte) string {
	if bytes.IndexByte(raw, '\\') < 0 {
		return string(raw)
	}
	var s string
	_ = json.Unmarshal(append(append([]byte{'"'}, raw...), '"'), &s) // is valid
	return s
}

// nextText is the next text of JSON, without its quotes, and what follows it.
func nextText(data []byte) (text, rest []byte, ok bool) {
	i := bytes.IndexByte(data, '"')
	if i < 0 {
		return nil, nil, false
	}
	data = data[i+1:]
	for from := 0; ; {
		end := bytes.IndexByte(data[from:], '"')
		if end < 0 {
			return nil, nil, false
		}
		end += from
		slashes := 0
		for slashes < end && data[end-1-slashes] == '\\' {
			slashes++
		}
		if slashes%2 == 0 {
			return data[:end], data[end+1:], true
		}
		from = end + 1
	}
}
