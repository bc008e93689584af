package tomlfile

import (
	"bytes"
	"fmt"
	"strings"

	"fernladder/core/pattern"
)

// Set sets the key at the end of a path of tables, which has at least one table, to a value in
// TOML. It replaces an old value. A new key goes to the end of its table, whether that has a
// header or is inline; missing tables are created.
func (e *Edit) Set(value string, path ...string) {
	table, at := e.root, 0
	header, below := e.root, 0 // the last table with a header, and how far down it is
	for at < len(path)-1 {
		next := table.get(path[at])
		if next == nil {
			break
		}
		if next.kind != aTable {
			e.err = fmt.Errorf("%s cannot be changed: %s is not a table", e.file, strings.Join(path[:at+1], "."))
			return
		}
		table, at = next, at+1
		if table.sealed && !e.inline(table) {
			header, below = table, at
		}
	}
	rest := path[at:]
	if len(rest) == 1 {
		if old := table.get(rest[0]); old != nil {
			e.change(old.offset, e.valueEnd(old), value)
			return
		}
	}
	last := len(path) - 1
	switch {
	case e.inline(table):
		e.addInline(table, dotted(rest)+" = "+value)
	case table == header && table != e.root && len(rest) == 2: // in one line, as people write a few
		e.addLine(table, dottedKey(rest[0])+" = { "+dottedKey(rest[1])+" = "+value+" }")
	case header != e.root: // the tables below it are written with dots in their keys
		e.addLine(header, dotted(path[below:])+" = "+value)
	case len(rest) > 2:
		e.Append("[" + dotted(path[:last-1]) + "]\n" + dottedKey(path[last-1]) + " = { " + dottedKey(path[last]) + " = " +
			value + " }")
	default:
		e.Append("[" + dotted(path[:last]) + "]\n" + dottedKey(path[last]) + " = " + value)
	}
}

// Remove deletes the key at the end of a path, and its line if nothing else is on it. A missing
// key is no error.
func (e *Edit) Remove(path ...string) {
	table := e.root
	for _, name := range path[:len(path)-1] {
		if table = table.get(name); table == nil || table.kind != aTable {
			return
		}
	}
	i := -1
	for k, entry := range table.entries {
		if entry.name == path[len(path)-1] {
			i = k
		}
	}
	if i < 0 || table.entries[i].value.kind == aTable && table.entries[i].value.sealed &&
		!e.inline(table.entries[i].value) {
		return
	}
	from, end := e.keyStart(table.entries[i].offset), e.valueEnd(table.entries[i].value)
	if !e.inline(table) {
		e.change(e.lineStart(from), min(e.lineEnd(end)+1, len(e.data)), "")
		return
	}
	switch {
	case i+1 < len(table.entries):
		end = e.keyStart(table.entries[i+1].offset)
	case i > 0:
		from = e.valueEnd(table.entries[i-1].value)
	}
	e.change(from, end, "")
}

// inline reports whether a table is inline, between braces.
func (e *Edit) inline(table *value) bool {
	return table != e.root && table.offset < len(e.data) && e.data[table.offset] == '{'
}

// addInline adds a pair to an inline table.
func (e *Edit) addInline(table *value, pair string) {
	end := e.valueEnd(table) - 1 // its last brace
	inside := bytes.TrimRight(e.data[table.offset:end], " \t\r\n")
	at := table.offset + len(inside)
	switch {
	case len(table.entries) == 0:
		e.change(table.offset, end+1, "{ "+pair+" }")
	case inside[len(inside)-1] == ',':
		e.change(at, at, " "+pair)
	default:
		e.change(at, at, ", "+pair)
	}
}

// addLine adds a line after the last line of a table with a header.
func (e *Edit) addLine(table *value, line string) {
	at := e.lineEnd(table.offset)
	for _, entry := range table.entries {
		if entry.value.kind == aTable && !e.inline(entry.value) { // it has a header of its own, or dotted keys
			continue
		}
		at = max(at, e.lineEnd(e.valueEnd(entry.value)-1))
	}
	e.change(at, at, "\n"+line)
}

// keyStart is the offset of a key, including its quotes.
func (e *Edit) keyStart(offset int) int {
	if offset > 0 && (e.data[offset-1] == '"' || e.data[offset-1] == '\'') {
		return offset - 1
	}
	return offset
}

var bareKey = pattern.New(`^[A-Za-z0-9_-]+$`)

// dottedKey returns a name as a TOML key, in quotes where necessary.
func dottedKey(name string) string {
	if bareKey.MatchString(name) {
		return name
	}
	return Quote(name)
}

func dotted(names []string) string {
	keys := make([]string, len(names))
	for i, name := range names {
		keys[i] = dottedKey(name)
	}
	return strings.Join(keys, ".")
}
