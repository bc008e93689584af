// Package tomlfile reads the TOML files that people write: recipes and settings. The keys of a
// file are defined once, in code, as Key values bound to the variables that they fill. The same
// definitions read the file, reject unknown keys and wrong types, and produce the reference
// manual.
//
// It reports all mistakes of a file at once, each with its place. It does not know what the keys
// mean.
package tomlfile

import (
	"fmt"
	"slices"
	"strings"
)

// A Key defines one key of a table.
type Key struct {
	Name     string
	Kind     string // the type of its value, in words
	About    string // its meaning, in whole sentences
	Required bool

	inside func() []Key // made when they are asked for: most files have few tables
	read   func(k *Key, d *reading, e entry)
	checks []func(text string) error
}

// Inside returns the keys of the tables that the key holds.
func (k Key) Inside() []Key {
	if k.inside == nil {
		return nil
	}
	return k.inside()
}

// Must makes the key required.
func (k Key) Must() Key {
	k.Required = true
	return k
}

// Check adds a test that every text of the key must pass. It runs after the whole file has been
// read, so it can use what other keys have filled. An error of type *At names the place in the
// text.
func (k Key) Check(check func(text string) error) Key {
	k.checks = append(slices.Clip(k.checks), check)
	return k
}

// At is an error at byte Offset of a text.
type At struct {
	Offset int
	Advice string
	Err    error
}

func (a *At) Error() string { return a.Err.Error() }
func (a *At) Unwrap() error { return a.Err }

// adviceOf returns the advice of an error, if it has some.
func adviceOf(err error) string {
	if at, ok := err.(*At); ok {
		return at.Advice
	}
	return ""
}

// Read fills the variables bound to the keys from data, the contents of file. It returns all
// mistakes; what it could read is filled in anyway.
func Read(file string, data []byte, keys []Key) Problems {
	d := &reading{document: document{file: file, data: data}}
	root := d.parse()
	if len(d.problems) == 0 || len(root.entries) > 0 {
		d.table(root, "", keys)
		for _, check := range d.later {
			check()
		}
	}
	d.problems.Sort()
	return d.problems
}

// reading is a document with checks that run after all of it is read.
type reading struct {
	document
	later []func()
}

// table reads each entry of a table with the key of that name.
func (d *reading) table(v *value, path string, keys []Key) {
	where := "[" + path + "]"
	if path == "" {
		where = "the file"
	}
	misspelt := map[string]bool{} // keys that are there under a wrong name
	for _, e := range v.entries {
		i := slices.IndexFunc(keys, func(k Key) bool { return k.Name == e.name })
		if i < 0 {
			near, advice := suggestion(e.name, keys)
			misspelt[near] = true
			d.problemAt(e.offset, advice, "%q is not a key of %s", e.name, where)
			continue
		}
		keys[i].read(&keys[i], d, e)
	}
	for _, k := range keys {
		if k.Required && v.get(k.Name) == nil && !misspelt[k.Name] && !d.problems.Unread() {
			d.problemAt(v.offset, fmt.Sprintf("%s: %s", k.Name, firstSentence(k.About)), "%s lacks the key %q", where, k.Name)
		}
	}
}

// suggestion returns the key that was probably meant, or "", and advice.
func suggestion(name string, keys []Key) (near, advice string) {
	names := make([]string, len(keys))
	for i, k := range keys {
		names[i] = k.Name
	}
	near, found := Nearest(name, names)
	switch {
	case found:
		return near, fmt.Sprintf("did you mean %q?", near)
	case len(names) > 12:
		return "", ""
	}
	return "", "it has: " + strings.Join(names, ", ")
}

func firstSentence(text string) string {
	sentence, _, _ := strings.Cut(text, ". ")
	return strings.TrimSuffix(sentence, ".")
}

// want reports a value whose type the key does not take.
func (d *reading) want(e entry, v *value, kinds ...kind) bool {
	if slices.Contains(kinds, v.kind) {
		return true
	}
	words := make([]string, len(kinds))
	for i, k := range kinds {
		words[i] = string(k)
	}
	advice := ""
	if v.kind != aTable && v.kind != aList && slices.Contains(kinds, aText) {
		advice = fmt.Sprintf("put it in quotes: %q", v.text)
	}
	got := string(v.kind)
	if v.kind == aFlag {
		got = v.text
	}
	last := len(words) - 1
	takes := words[last]
	if last > 0 {
		takes = strings.Join(words[:last], ", ") + " or " + takes
	}
	d.problemAt(v.offset, advice, "%q takes %s, not %s", e.name, takes, got)
	return false
}

// text passes a text to use and, after the file is read, to the key's checks.
func (k *Key) text(d *reading, v *value, use func(string) error) {
	report := func(err error) {
		offset := v.offset
		if at, ok := err.(*At); ok && v.exact {
			offset = v.body + at.Offset
		}
		d.problemAt(offset, adviceOf(err), "%v", err)
	}
	if err := use(v.text); err != nil {
		report(err)
		return
	}
	for _, check := range k.checks {
		d.later = append(d.later, func() {
			if err := check(v.text); err != nil {
				report(err)
			}
		})
	}
}
