// Package version orders the version numbers of packages and tests them against the ranges in
// recipes.
//
// It promises one total preorder over everything Parse accepts. It does not know which versions
// exist, nor which are wanted.
//
// # The order
//
// A version begins with a digit and consists of ASCII letters, digits and the separators '.',
// '-' and '_', with at most one part after a '+'. It is read as a list of numbers and words;
// separators, and every change between digits and letters, end an item. Two versions are
// compared item by item, the shorter one padded with zeros:
//
//	preview words  <  0 (or nothing)  <  other words  <  1, 2, 3, …
//
// Preview words are alpha < beta < pre < rc, in any case. Other words are compared as text,
// without regard to case. Numbers are compared as numbers of any length. Zeros before a preview
// word do not count, so 2.0-rc1 is a preview of 2 as well as of 2.0.0. The part after '+' only
// decides between versions that are equal up to it; a version with such a part comes after one
// without:
//
//	1.6-alpha2 < 1.6-beta.3 < 1.6-rc1 < 1.6 = 1.6.0 < 1.6+7.gabc < 1.6b < 1.6.1 < 1.10
package version

import (
	"fmt"
	"slices"
	"strings"
)

// maxLength limits the bytes of a version. Versions become part of file names, which are limited
// to 255 bytes.
const maxLength = 100

// A Version is a version number as written by its makers. The zero Version is not valid; it
// comes before every other one.
type Version struct {
	text string
	main []item // the part before '+'
	plus []item // the part after it
}

// An item is a number or a word of a version.
type item struct {
	rank rank
	text string // digits without leading zeros, or a word in lower case
}

// rank orders items of different kinds.
type rank int8

const (
	alpha rank = iota - 4
	beta
	pre
	rc
	zero // also stands for a missing item
	word
	number // greater than zero
)

// Parse reads a version. The error describes what is wrong with the text, for a person.
func Parse(text string) (Version, error) {
	switch {
	case text == "":
		return Version{}, fmt.Errorf("a version cannot be empty")
	case len(text) > maxLength:
		return Version{}, fmt.Errorf("a version has at most %d characters, this one has %d", maxLength, len(text))
	case !isDigit(text[0]):
		if len(text) > 1 && (text[0] == 'v' || text[0] == 'V') && isDigit(text[1]) {
			return Version{}, fmt.Errorf("a version begins with a digit: write %q", text[1:])
		}
		return Version{}, fmt.Errorf("%q does not begin with a digit, as a version must", text)
	}
	for i, c := range text {
		if !isItem(c) && !strings.ContainsRune(".-_+", c) {
			return Version{}, fmt.Errorf("%q has %q at character %d; a version has letters, digits and .-_+", text, c, i+1)
		}
	}
	main, plus, hasPlus := strings.Cut(text, "+")
	if strings.Contains(plus, "+") {
		return Version{}, fmt.Errorf("%q has more than one '+'", text)
	}
	v := Version{text: text, main: canonical(split(main))}
	if hasPlus {
		v.plus = split(plus)
		if len(v.plus) == 0 {
			return Version{}, fmt.Errorf("%q has nothing after the '+'", text)
		}
	}
	return v, nil
}

// MustParse is Parse for versions in the program itself; it panics on an error.
func MustParse(text string) Version {
	v, err := Parse(text)
	if err != nil {
		panic(err)
	}
	return v
}

// String returns the version as it was written.
func (v Version) String() string { return v.text }

// IsZero reports whether v is the zero Version.
func (v Version) IsZero() bool { return v.text == "" }

// Preview reports whether a version is a preview of a release, and comes before it, as 2.0-beta3
// before 2.0.
func (v Version) Preview() bool {
	return slices.ContainsFunc(v.main, func(i item) bool { return i.rank < zero })
}

// MarshalText returns the version as it was written.
func (v Version) MarshalText() ([]byte, error) { return []byte(v.text), nil }

// UnmarshalText reads a version as Parse does; empty text is the zero Version.
func (v *Version) UnmarshalText(text []byte) (err error) {
	if len(text) == 0 {
		*v = Version{}
		return nil
	}
	*v, err = Parse(string(text))
	return err
}

// Compare returns -1, 0 or 1 if v comes before, is equal to, or comes after w. Versions written
// differently can be equal: 1.6 and 1.6.0.
func (v Version) Compare(w Version) int {
	if v.IsZero() || w.IsZero() {
		return sign(len(v.text) - len(w.text))
	}
	if c := compareItems(v.main, w.main); c != 0 {
		return c
	}
	if c := sign(min(len(v.plus), 1) - min(len(w.plus), 1)); c != 0 {
		return c
	}
	return compareItems(v.plus, w.plus)
}

// split cuts text into items at separators and between digits and letters.
func split(text string) []item {
	var items []item
	for i := 0; i < len(text); {
		start := i
		switch {
		case isDigit(text[i]):
			for i < len(text) && isDigit(text[i]) {
				i++
			}
			items = append(items, numberItem(text[start:i]))
		case isItem(rune(text[i])):
			for i < len(text) && isItem(rune(text[i])) && !isDigit(text[i]) {
				i++
			}
			items = append(items, wordItem(strings.ToLower(text[start:i])))
		default:
			i++
		}
	}
	return items
}

func numberItem(digits string) item {
	digits = strings.TrimLeft(digits, "0")
	if digits == "" {
		return item{rank: zero}
	}
	return item{number, digits}
}

func wordItem(lower string) item {
	switch lower {
	case "alpha":
		return item{rank: alpha}
	case "beta":
		return item{rank: beta}
	case "pre":
		return item{rank: pre}
	case "rc":
		return item{rank: rc}
	}
	return item{word, lower}
}

// canonical drops zeros directly before a preview word.
func canonical(items []item) []item {
	kept := make([]item, 0, len(items))
	for _, it := range items {
		if it.rank < zero {
			for len(kept) > 0 && kept[len(kept)-1].rank == zero {
				kept = kept[:len(kept)-1]
			}
		}
		kept = append(kept, it)
	}
	return kept
}

func compareItems(a, b []item) int {
	for i := range max(len(a), len(b)) {
		if c := itemAt(a, i).compare(itemAt(b, i)); c != 0 {
			return c
		}
	}
	return 0
}

func itemAt(items []item, i int) item {
	if i < len(items) {
		return items[i]
	}
	return item{rank: zero}
}

func (a item) compare(b item) int {
	if a.rank != b.rank {
		return sign(int(a.rank) - int(b.rank))
	}
	if a.rank == number && len(a.text) != len(b.text) {
		return sign(len(a.text) - len(b.text))
	}
	return strings.Compare(a.text, b.text)
}

func sign(n int) int {
	switch {
	case n < 0:
		return -1
	case n > 0:
		return 1
	}
	return 0
}

func isDigit(c byte) bool { return '0' <= c && c <= '9' }

// isItem reports whether c is an ASCII letter or digit.
func isItem(c rune) bool {
	return '0' <= c && c <= '9' || 'a' <= c && c <= 'z' || 'A' <= c && c <= 'Z'
}

// CompareTexts orders versions as they are written; invalid ones as text.
func CompareTexts(a, b string) int {
	v, errV := Parse(a)
	w, errW := Parse(b)
	if errV != nil || errW != nil {
		return strings.Compare(a, b)
	}
	return v.Compare(w)
}
