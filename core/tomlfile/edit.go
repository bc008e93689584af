package tomlfile

import (
	"bytes"
	"fmt"
	"slices"
	"strings"
	"unicode"
)

// An Edit changes a file written by hand, and leaves every other byte as it is: comments, layout
// and order stay.
type Edit struct {
	document
	root *value
	err  error // why the result of the edits is no TOML
}

// Parse reads a file to edit. The file must be TOML.
func Parse(file string, data []byte) (*Edit, error) {
	e := &Edit{document: document{file: file, data: data}}
	e.root = e.parse()
	return e, e.problems.Err()
}

// Bytes returns the edited file. An error is a fault of this program: an edit would have made
// the file unreadable, and was not made.
func (e *Edit) Bytes() ([]byte, error) { return e.data, e.err }

// change replaces the bytes from from to end, and parses the file again.
func (e *Edit) change(from, end int, text string) {
	data := slices.Concat(e.data[:from], []byte(text), e.data[end:])
	again, err := Parse(e.file, data)
	if err != nil {
		e.err = fmt.Errorf("%s cannot be changed: the result could not be read: %w", e.file, err)
		return
	}
	again.err = e.err
	*e = *again
}

// InsertBefore inserts a new table before the first [[name]] of the file and the comment
// directly above it, or at the end if the file has none.
func (e *Edit) InsertBefore(name, text string) {
	list := e.root.get(name)
	if list == nil || len(list.items) == 0 {
		e.Append(text)
		return
	}
	at := e.lineStart(list.items[0].offset)
	for at > 0 {
		above := e.lineStart(at - 1)
		if line := bytes.TrimSpace(e.data[above:at]); len(line) == 0 || line[0] != '#' {
			break
		}
		at = above
	}
	e.change(at, at, strings.TrimRight(text, "\n")+"\n\n")
}

// Append adds text to the end of the file, after an empty line.
func (e *Edit) Append(text string) {
	end := len(bytes.TrimRight(e.data, "\n"))
	e.change(end, len(e.data), "\n\n"+strings.TrimRight(text, "\n")+"\n")
}

// table returns the table with a dotted name, or nil.
func (e *Edit) table(name string) *value {
	table := e.root
	for part := range strings.SplitSeq(name, ".") {
		if table = table.get(part); table == nil {
			return nil
		}
	}
	return table
}

// SetTable sets keys of a table [name], or [name.of.one.in.it], to these lines, each KEY = VALUE.
// It replaces old values in place, and keeps comments and other keys.
func (e *Edit) SetTable(name string, keys []string, values map[string]string) {
	if e.table(name) == nil {
		lines := []string{"[" + name + "]"}
		for _, key := range keys {
			lines = append(lines, key+" = "+values[key])
		}
		e.Append(strings.Join(lines, "\n"))
		return
	}
	for _, key := range keys {
		table := e.table(name)
		if old := table.get(key); old != nil {
			e.change(old.offset, e.valueEnd(old), values[key])
			continue
		}
		e.addLine(table, key+" = "+values[key])
	}
}

// SetInList sets a key of the table [[name]] with a number, counted from 0, to a value in TOML.
// It replaces an old value; a new key goes to the end of the table.
func (e *Edit) SetInList(name string, number int, key, value string) {
	list := e.root.get(name)
	if list == nil || number >= len(list.items) {
		e.err = fmt.Errorf("%s has no [[%s]] number %d", e.file, name, number+1)
		return
	}
	table := list.items[number]
	if old := table.get(key); old != nil {
		e.change(old.offset, e.valueEnd(old), value)
		return
	}
	at := e.lineEnd(table.offset)
	if n := len(table.entries); n > 0 {
		at = e.lineEnd(e.valueEnd(table.entries[n-1].value) - 1)
	}
	padding := ""
	if column := e.Style(name); column > len(key) {
		padding = strings.Repeat(" ", column-len(key)-1)
	}
	e.change(at, at, "\n"+key+padding+" = "+value)
}

// ReplaceInList replaces the keys of the table [[name]] with a number, counted from 0, by a
// text, or deletes them if the text is "". It keeps comments and other tables.
func (e *Edit) ReplaceInList(name string, number int, text string) {
	list := e.root.get(name)
	if list == nil || number >= len(list.items) {
		e.err = fmt.Errorf("%s has no [[%s]] number %d", e.file, name, number+1)
		return
	}
	table := list.items[number]
	end := e.lineEnd(table.offset)
	if n := len(table.entries); n > 0 {
		end = e.lineEnd(e.valueEnd(table.entries[n-1].value) - 1)
	}
	from := e.lineStart(table.offset)
	if text == "" { // and the empty lines behind it
		for end < len(e.data) && e.data[end] == '\n' {
			end++
		}
	}
	e.change(from, end, strings.TrimRight(text, "\n"))
}

// Style returns the layout of the keys of the first [[name]]: the column of their equals signs,
// counted from 0, or 0 if they are not aligned.
func (e *Edit) Style(name string) int {
	list := e.root.get(name)
	if list == nil || len(list.items) == 0 {
		return 0
	}
	column := 0
	for _, entry := range list.items[0].entries {
		start := e.lineStart(entry.offset)
		i := bytes.IndexByte(e.data[start:e.lineEnd(entry.offset)], '=')
		if column != 0 && i != column {
			return 0
		}
		column = max(i, 0)
	}
	return column
}

func (e *Edit) lineStart(offset int) int { return bytes.LastIndexByte(e.data[:offset], '\n') + 1 }

func (e *Edit) lineEnd(offset int) int {
	if i := bytes.IndexByte(e.data[offset:], '\n'); i >= 0 {
		return offset + i
	}
	return len(e.data)
}

// valueEnd finds the end of a value (a text, a list or an inline table) by its brackets and
// quotes.
func (e *Edit) valueEnd(v *value) int {
	depth := 0
	for i := v.offset; i < len(e.data); {
		rest := e.data[i:]
		switch {
		case rest[0] == '"' || rest[0] == '\'':
			i += quotedLength(rest)
		case rest[0] == '#':
			i = e.lineEnd(i)
			continue
		case rest[0] == '[' || rest[0] == '{':
			depth++
			i++
		case rest[0] == ']' || rest[0] == '}':
			depth--
			i++
		case depth == 0 && bytes.IndexByte([]byte(" \t\r\n,"), rest[0]) >= 0:
			return i
		default:
			i++
			continue
		}
		if depth == 0 {
			return i
		}
	}
	return len(e.data)
}

// quotedLength is the length of the quoted text at the beginning of data.
func quotedLength(data []byte) int {
	quote := data[:1]
	if bytes.HasPrefix(data, bytes.Repeat(quote, 3)) {
		quote = data[:3]
	}
	for i := len(quote); i < len(data); i++ {
		switch {
		case quote[0] == '"' && data[i] == '\\':
			i++
		case bytes.HasPrefix(data[i:], quote):
			end := i + len(quote)
			// Up to two more quotes belong to the text: """a"""""
			for most := end + 2; len(quote) == 3 && end < most && end < len(data) && data[end] == quote[0]; {
				end++
			}
			return end
		}
	}
	return len(data)
}

// Quote writes a text as a TOML string in one line, with escapes for characters that cannot be
// seen.
func Quote(text string) string {
	var b strings.Builder
	b.WriteByte('"')
	for _, c := range text {
		switch {
		case c == '"' || c == '\\':
			b.WriteByte('\\')
			b.WriteRune(c)
		case !unicode.IsGraphic(c) || unicode.Is(unicode.Zs, c) && c != ' ':
			fmt.Fprintf(&b, "\\U%08X", c)
		default:
			b.WriteRune(c)
		}
	}
	b.WriteByte('"')
	return b.String()
}

// QuoteList writes texts as a TOML list in one line.
func QuoteList(texts []string) string {
	quoted := make([]string, len(texts))
	for i, text := range texts {
		quoted[i] = Quote(text)
	}
	return "[" + strings.Join(quoted, ", ") + "]"
}
