package tomlfile

import (
	"errors"
	"strconv"
	"strings"
)

// The types of keys, in words. A key with its own parser has its own words.
const (
	KindTable     = "table"
	KindTables    = "list of tables"
	KindNamed     = "named tables"
	kindTexts     = "list of texts"
	kindOneOrMore = "text, or list of texts"
	kindFlag      = "true or false"
	kindChoice    = "true, false, text, whole number or list of texts"
	kindNumber    = "whole number"
	kindPairs     = "table of texts"
	kindLists     = "table of lists of texts"
	kindChoices   = "table of true, false, texts, whole numbers or lists of texts"
)

// Parsed is a key whose text parse converts into the variable into.
func Parsed[T any](name, kind string, into *T, parse func(string) (T, error), about string) Key {
	return Key{Name: name, Kind: kind, About: about, read: func(k *Key, d *reading, e entry) {
		if d.want(e, e.value, aText) {
			k.text(d, e.value, func(text string) (err error) {
				*into, err = parse(text)
				return err
			})
		}
	}}
}

// Text is a key that holds a non-empty text.
func Text(name string, into *string, about string) Key {
	return Parsed(name, "text", into, notEmpty, about)
}

func notEmpty(text string) (string, error) {
	if text == "" {
		return "", errors.New("this text is empty")
	}
	return text, nil
}

// Texts is a key that holds a list of texts.
func Texts(name string, into *[]string, about string) Key {
	return Key{Name: name, Kind: kindTexts, About: about, read: func(k *Key, d *reading, e entry) {
		if d.want(e, e.value, aList) {
			k.texts(d, e, into)
		}
	}}
}

// OneOrMore is a key that holds a text or a list of texts.
func OneOrMore(name string, into *[]string, about string) Key {
	return Key{Name: name, Kind: kindOneOrMore, About: about, read: func(k *Key, d *reading, e entry) {
		if !d.want(e, e.value, aText, aList) {
			return
		}
		if e.value.kind == aText {
			e.value = &value{kind: aList, offset: e.value.offset, items: []*value{e.value}}
		}
		k.texts(d, e, into)
	}}
}

func (k *Key) texts(d *reading, e entry, into *[]string) {
	*into = []string{} // given, though it may be empty
	for _, item := range e.value.items {
		if d.want(e, item, aText) {
			k.text(d, item, func(text string) error {
				_, err := notEmpty(text)
				*into = append(*into, text)
				return err
			})
		}
	}
}

// Flag is a key that is true or false.
func Flag(name string, into *bool, about string) Key {
	return Key{Name: name, Kind: kindFlag, About: about, read: func(_ *Key, d *reading, e entry) {
		if d.want(e, e.value, aFlag) {
			*into = e.value.text == "true"
		}
	}}
}

// Choice is a key that holds true, false, a text, which may be empty, a whole number, or a list
// of texts. They are stored as "on", "off", the text, its digits, and the texts separated by
// commas.
func Choice(name string, into *string, about string) Key {
	return Key{Name: name, Kind: kindChoice, About: about, read: func(k *Key, d *reading, e entry) {
		if !d.want(e, e.value, aFlag, aText, aNumber, aList) {
			return
		}
		text := ""
		switch v := e.value; v.kind {
		case aFlag:
			text = map[string]string{"true": "on", "false": "off"}[v.text]
		case aNumber:
			n, err := strconv.ParseInt(v.text, 0, 64)
			if err != nil {
				d.problemAt(v.offset, "", "%q takes a whole number of ordinary size", e.name)
				return
			}
			text = strconv.FormatInt(n, 10)
		case aList:
			var words []string
			for _, item := range v.items {
				if !d.want(e, item, aText) {
					return
				}
				words = append(words, item.text)
			}
			text = strings.Join(words, ",")
		default:
			k.text(d, v, func(text string) error {
				*into = text
				return nil
			})
			return
		}
		k.text(d, &value{kind: aText, offset: e.value.offset, text: text}, func(text string) error {
			*into = text
			return nil
		})
	}}
}

// Number is a key that holds a whole number from least to most.
func Number(name string, into *int, least, most int, about string) Key {
	return Key{Name: name, Kind: kindNumber, About: about, read: func(_ *Key, d *reading, e entry) {
		if !d.want(e, e.value, aNumber) {
			return
		}
		n, err := strconv.ParseInt(e.value.text, 0, 64)
		if err != nil || n < int64(least) || n > int64(most) {
			d.problemAt(e.value.offset, "", "%q is from %d to %d", e.name, least, most)
			return
		}
		*into = int(n)
	}}
}

// Table is a key that holds one table with keys of its own.
func Table(name string, keys func() []Key, about string) Key {
	return Key{Name: name, Kind: KindTable, About: about, inside: keys, read: func(_ *Key, d *reading, e entry) {
		if d.want(e, e.value, aTable) {
			d.table(e.value, name, keys())
		}
	}}
}

// Optional is a key that holds a table, written [name], which is read into a new T. Without the
// table, into stays nil.
func Optional[T any](name string, into **T, keys func(*T) []Key, about string) Key {
	return Key{Name: name, Kind: KindTable, About: about, inside: func() []Key { return keys(new(T)) },
		read: func(_ *Key, d *reading, e entry) {
			if d.want(e, e.value, aTable) {
				*into = new(T)
				d.place(*into, e.value.offset)
				d.table(e.value, name, keys(*into))
			}
		}}
}

// Tables is a key that holds any number of tables, written [[name]]. Each is read into a new T
// through its keys.
func Tables[T any](name string, into *[]*T, keys func(*T) []Key, about string) Key {
	return Key{Name: name, Kind: KindTables, About: about, inside: func() []Key { return keys(new(T)) },
		read: func(_ *Key, d *reading, e entry) {
			if !d.want(e, e.value, aList) {
				return
			}
			for _, item := range e.value.items {
				if d.want(e, item, aTable) {
					t := new(T)
					d.place(t, item.offset)
					*into = append(*into, t)
					d.table(item, "["+name+"]", keys(t))
				}
			}
		}}
}

// Named is a key that holds tables with names of the user's choice, written [name.NAME]. Each is
// read into a new T through the keys bound to its name.
func Named[T any](name string, into *[]*T, keys func(string, *T) []Key, check func(string) error, about string) Key {
	return Key{Name: name, Kind: KindNamed, About: about, inside: func() []Key {
		return keys("", new(T))
	}, read: func(_ *Key, d *reading, e entry) {
		if !d.want(e, e.value, aTable) {
			return
		}
		for _, item := range e.value.entries {
			if err := check(item.name); err != nil {
				d.problemAt(item.offset, adviceOf(err), "%v", err)
			}
			if d.want(item, item.value, aTable) {
				t := new(T)
				d.place(t, item.offset)
				*into = append(*into, t)
				d.table(item.value, name+"."+item.name, keys(item.name, t))
			}
		}
	}}
}

// A Pair is an entry of a table whose keys the user chooses.
type Pair struct {
	Position `json:"-"`
	Name     string
	Values   []string // one, where the key takes one
}

// Pairs is a key that holds a table of names and texts, in the order of the file. With lists,
// each name has a list of texts instead. The key's checks test the texts; name tests the names.
func Pairs(key string, into *[]Pair, lists bool, name func(string) error, about string) Key {
	kind, item := kindPairs, aText
	if lists {
		kind, item = kindLists, aList
	}
	return Key{Name: key, Kind: kind, About: about, read: func(k *Key, d *reading, e entry) {
		if !d.want(e, e.value, aTable) {
			return
		}
		for _, got := range e.value.entries {
			if err := name(got.name); err != nil {
				d.problemAt(got.offset, adviceOf(err), "%v", err)
			}
			if !d.want(got, got.value, item) {
				continue
			}
			pair := Pair{Position: d.position(got.offset), Name: got.name}
			if lists {
				k.texts(d, got, &pair.Values)
			} else {
				k.text(d, got.value, func(text string) error {
					pair.Values = []string{text}
					return nil
				})
			}
			*into = append(*into, pair)
		}
	}}
}

// Choices is a key that holds a table of names, each with a value as Choice reads it.
func Choices(key string, into *[]Pair, about string) Key {
	return Key{Name: key, Kind: kindChoices, About: about, read: func(k *Key, d *reading, e entry) {
		if !d.want(e, e.value, aTable) {
			return
		}
		for _, got := range e.value.entries {
			pair := Pair{Position: d.position(got.offset), Name: got.name, Values: []string{""}}
			choice := Choice(got.name, &pair.Values[0], "")
			choice.checks = k.checks
			choice.read(&choice, d, got)
			*into = append(*into, pair)
		}
	}}
}

// place sets the position of a struct that embeds one.
func (d *reading) place(table any, offset int) {
	if p, ok := table.(placed); ok {
		p.place(d.position(offset))
	}
}
