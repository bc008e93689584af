package tomlfile

import (
	"bytes"
	"errors"
	"fmt"
	"sort"
	"unicode/utf8"

	"github.com/pelletier/go-toml/v2/unstable"
)

// maxSize limits the bytes of a file, so that a wrong file cannot fill the memory. No file
// written by hand comes near it.
const maxSize = 4 << 20

// kind is the type of a value, in the words of error messages.
type kind string

const (
	aTable   kind = "a table"
	aList    kind = "a list"
	aText    kind = "a text"
	aNumber  kind = "a whole number"
	aFlag    kind = "true or false"
	anything kind = "a value of another type" // floats and times, which no key takes
)

// A value is a node of a TOML document, with its position.
type value struct {
	kind   kind
	offset int // of its first byte, or of its table's header
	text   string
	// exact reports that byte i of text is byte body+i of the file.
	exact   bool
	body    int
	items   []*value
	entries []entry // of a table, in the order of the file
	// sealed tables are complete: inline tables, and those opened by a header.
	sealed bool
	// a list of tables made by [[header]], as opposed to one written as [ … ].
	grows bool
}

type entry struct {
	name   string
	offset int // of the key
	value  *value
}

func (v *value) get(name string) *value {
	for _, e := range v.entries {
		if e.name == name {
			return e.value
		}
	}
	return nil
}

// document is a file that is being parsed.
type document struct {
	file     string
	data     []byte
	lines    []int // offset of the first byte of each line
	problems Problems
}

// parse reads data into a table. It adds syntax errors and duplicate keys to the problems, and
// returns what it could read.
func (d *document) parse() *value {
	root := &value{kind: aTable}
	d.lines = []int{0}
	for i, c := range d.data {
		if c == '\n' {
			d.lines = append(d.lines, i+1)
		}
	}
	if len(d.data) > maxSize {
		d.problemAt(0, "", "the file has %d bytes; at most %d are read", len(d.data), maxSize)
		return root
	}
	if i := invalidUTF8(d.data); i >= 0 {
		d.problemAt(i, "save the file as UTF-8", "byte 0x%02x is not UTF-8 text", d.data[i])
		return root
	}
	parser := unstable.Parser{}
	parser.Reset(d.data)
	table := root
	for parser.NextExpression() {
		node := parser.Expression()
		switch node.Kind {
		case unstable.Table, unstable.ArrayTable:
			table = d.open(root, node)
		case unstable.KeyValue:
			d.set(&parser, table, node)
		}
	}
	if err := parser.Error(); err != nil {
		var at *unstable.ParserError
		offset, message := len(d.data), err.Error()
		if errors.As(err, &at) {
			message = at.Message
			if len(at.Highlight) > 0 {
				offset = int(parser.Range(at.Highlight).Offset)
			}
		}
		d.problemAt(offset, "", "this is not TOML: %s", message)
		d.problems[len(d.problems)-1].Unread = true
	}
	return root
}

// open finds or creates the table that a header names.
func (d *document) open(root *value, header *unstable.Node) *value {
	table, keys := root, header.Key()
	for keys.Next() {
		key := keys.Node()
		name, offset := string(key.Data), int(key.Raw.Offset)
		existing, last := table.get(name), keys.IsLast()
		switch {
		case existing == nil:
			made := &value{kind: aTable, offset: offset, sealed: last}
			if last && header.Kind == unstable.ArrayTable {
				table.entries = append(table.entries, entry{name, offset,
					&value{kind: aList, offset: offset, items: []*value{made}, grows: true}})
			} else {
				table.entries = append(table.entries, entry{name, offset, made})
			}
			table = made
		case existing.grows:
			if last && header.Kind == unstable.ArrayTable {
				existing.items = append(existing.items, &value{kind: aTable, offset: offset, sealed: true})
			} else if last {
				d.problemAt(offset, fmt.Sprintf("write [[%s]]", name), "%q is a list of tables since line %d", name,
					d.position(existing.offset).Line)
			}
			table = existing.items[len(existing.items)-1]
		case existing.kind != aTable || last && (existing.sealed || header.Kind == unstable.ArrayTable):
			d.problemAt(offset, "", "%q is already given in line %d", name, d.position(existing.offset).Line)
			return &value{kind: aTable} // the rest is read, and ignored
		default:
			existing.sealed = existing.sealed || last
			table = existing
		}
	}
	return table
}

// set stores the value of a key, which may be dotted, in a table.
func (d *document) set(parser *unstable.Parser, table *value, pair *unstable.Node) {
	keys := pair.Key()
	after := 0
	for keys.Next() {
		key := keys.Node()
		name, offset := string(key.Data), int(key.Raw.Offset)
		after = offset + int(key.Raw.Length)
		existing := table.get(name)
		if keys.IsLast() {
			if existing != nil {
				d.problemAt(offset, "", "%q is already given in line %d", name, d.position(existing.offset).Line)
				return
			}
			table.entries = append(table.entries, entry{name, offset, d.value(parser, pair.Value(), d.valueStart(after))})
			return
		}
		if existing == nil {
			existing = &value{kind: aTable, offset: offset}
			table.entries = append(table.entries, entry{name, offset, existing})
		}
		if existing.kind != aTable {
			d.problemAt(offset, "", "%q is already given in line %d", name, d.position(existing.offset).Line)
			return
		}
		table = existing
	}
}

// valueStart returns the offset of the value whose key ends at offset.
func (d *document) valueStart(offset int) int {
	for offset < len(d.data) && bytes.IndexByte([]byte(" \t="), d.data[offset]) >= 0 {
		offset++
	}
	return offset
}

// value converts a node; start is its offset if the node has none.
func (d *document) value(parser *unstable.Parser, node *unstable.Node, start int) *value {
	if node.Raw.Length > 0 {
		start = int(node.Raw.Offset)
	}
	v := &value{offset: start, text: string(node.Data)}
	switch node.Kind {
	case unstable.String:
		v.kind = aText
		v.body = start + quoteLength(d.data[start:])
		v.exact = bytes.HasPrefix(d.data[min(v.body, len(d.data)):], node.Data)
	case unstable.Bool:
		v.kind = aFlag
	case unstable.Integer:
		v.kind = aNumber
	case unstable.Array:
		v.kind = aList
		for items := node.Children(); items.Next(); {
			v.items = append(v.items, d.value(parser, items.Node(), start))
		}
	case unstable.InlineTable:
		v.kind = aTable
		for pairs := node.Children(); pairs.Next(); {
			d.set(parser, v, pairs.Node())
		}
		v.sealed = true
	default:
		v.kind = anything
	}
	return v
}

// quoteLength returns the length of the opening quotes of a text, including the line end that
// TOML drops after three of them.
func quoteLength(raw []byte) int {
	for _, q := range []string{`"""`, `'''`} {
		if bytes.HasPrefix(raw, []byte(q)) {
			switch {
			case bytes.HasPrefix(raw[3:], []byte("\r\n")):
				return 5
			case bytes.HasPrefix(raw[3:], []byte("\n")):
				return 4
			}
			return 3
		}
	}
	return 1
}

func (d *document) position(offset int) Position {
	offset = min(offset, len(d.data))
	line := sort.SearchInts(d.lines, offset+1) - 1
	return Position{File: d.file, Line: line + 1, Column: 1 + utf8.RuneCount(d.data[d.lines[line]:offset])}
}

func (d *document) problemAt(offset int, advice, format string, args ...any) {
	at := d.position(offset)
	line := d.data[d.lines[at.Line-1]:]
	if i := bytes.IndexByte(line, '\n'); i >= 0 {
		line = line[:i]
	}
	const widest = 200 // more of a line does not help
	source := bytes.TrimRight(bytes.ToValidUTF8(line, []byte("?")), "\r")
	if len(source) > widest {
		source = append(bytes.ToValidUTF8(source[:widest:widest], nil), "…"...)
	}
	d.problems = append(d.problems, Problem{
		Position: at, Message: fmt.Sprintf(format, args...), Advice: advice, Source: WithoutUsers(string(source)),
	})
}

// invalidUTF8 returns the offset of the first byte that is not UTF-8, or -1.
func invalidUTF8(data []byte) int {
	for i := 0; i < len(data); {
		r, size := utf8.DecodeRune(data[i:])
		if r == utf8.RuneError && size == 1 {
			return i
		}
		i += size
	}
	return -1
}
