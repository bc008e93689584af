package ospackage

import (
	"cmp"
	"strings"

	"fernladder/core/pattern"
	"fernladder/core/version"
)

// previews matches the separator and the word that make a version a preview.
var previews = pattern.New(`(?i)[._-]*(alpha|beta|pre|rc)([._-]*)`)

// DebVersion writes a version so that dpkg sorts it correctly (deb-version(7)): previews follow
// a '~', which sorts before the end of the text.
func DebVersion(v version.Version) string { return tilded(v.String(), "+") }

// RPMVersion writes a version so that rpm sorts it correctly: previews follow a '~', and commits
// since a tag follow a '^'.
func RPMVersion(v version.Version) string { return tilded(v.String(), "^") }

func tilded(text, after string) string {
	main, plus, has := strings.Cut(text, "+")
	main = previews.ReplaceAllStringFunc(main, func(part string) string {
		m := previews.FindStringSubmatch(part)
		return "~" + strings.ToLower(m[1])
	})
	text = strings.NewReplacer("-", ".", "_", ".").Replace(main)
	if has {
		text += after + strings.NewReplacer("-", ".", "_", ".").Replace(plus)
	}
	return text
}

// Wrong is a pair of versions that a format sorts in another order than we do.
type Wrong struct{ Older, Newer version.Version }

// Disorder returns a pair of versions that compare sorts in another order after write has
// written them, and false if there is none. Versions that are equal for us can be in any order.
func Disorder(all []version.Version, write func(version.Version) string, compare func(a, b string) int) (Wrong, bool) {
	for i, a := range all {
		for _, b := range all[:i] {
			ours := a.Compare(b)
			if ours != 0 && cmp.Compare(compare(write(a), write(b)), 0) != ours {
				if ours > 0 {
					return Wrong{b, a}, true
				}
				return Wrong{a, b}, true
			}
		}
	}
	return Wrong{}, false
}

// CompareDeb compares the upstream parts of versions as dpkg does (deb-version(7)).
func CompareDeb(a, b string) int {
	for a != "" || b != "" {
		i, j := 0, 0
		for i < len(a) && !digit(a[i]) || j < len(b) && !digit(b[j]) {
			x, y := 0, 0
			if i < len(a) {
				x = debOrder(a[i])
			}
			if j < len(b) {
				y = debOrder(b[j])
			}
			if x != y {
				return cmp.Compare(x, y)
			}
			i, j = i+1, j+1
		}
		a, b = a[min(i, len(a)):], b[min(j, len(b)):]
		m, restA := number(a)
		n, restB := number(b)
		if c := compareNumbers(m, n); c != 0 {
			return c
		}
		a, b = restA, restB
	}
	return 0
}

// CompareWhole compares complete versions as a format does: epoch, version, revision.
func CompareWhole(f Format, a, b string) int {
	split := func(v string) (epoch, version, release string) {
		epoch = "0"
		if e, rest, is := strings.Cut(v, ":"); is {
			epoch, v = e, rest
		}
		if i := strings.LastIndexByte(v, '-'); i >= 0 {
			return epoch, v[:i], v[i+1:]
		}
		return epoch, v, ""
	}
	compare := CompareDeb
	if f == RPM {
		compare = CompareRPM
	}
	ea, va, ra := split(a)
	eb, vb, rb := split(b)
	if c := CompareDeb(ea, eb); c != 0 {
		return c
	}
	if c := compare(va, vb); c != 0 {
		return c
	}
	return compare(ra, rb)
}

func debOrder(c byte) int {
	switch {
	case digit(c):
		return 0
	case letter(c):
		return int(c)
	case c == '~':
		return -1
	}
	return int(c) + 256
}

func digit(c byte) bool  { return c >= '0' && c <= '9' }
func letter(c byte) bool { return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' }

func number(text string) (digits, rest string) {
	n := 0
	for n < len(text) && digit(text[n]) {
		n++
	}
	return text[:n], text[n:]
}

func compareNumbers(a, b string) int {
	a, b = strings.TrimLeft(a, "0"), strings.TrimLeft(b, "0")
	if len(a) != len(b) {
		return cmp.Compare(len(a), len(b))
	}
	return strings.Compare(a, b)
}

// CompareRPM compares versions as rpm does (rpm-version(7)).
func CompareRPM(a, b string) int {
	for a != "" || b != "" {
		a = strings.TrimLeftFunc(a, func(c rune) bool {
			return c > 127 || !digit(byte(c)) && !letter(byte(c)) && c != '~' && c != '^'
		})
		b = strings.TrimLeftFunc(b, func(c rune) bool {
			return c > 127 || !digit(byte(c)) && !letter(byte(c)) && c != '~' && c != '^'
		})
		if tildeA, tildeB := strings.HasPrefix(a, "~"), strings.HasPrefix(b, "~"); tildeA || tildeB {
			switch {
			case !tildeA:
				return 1
			case !tildeB:
				return -1
			}
			a, b = a[1:], b[1:]
			continue
		}
		if caretA, caretB := strings.HasPrefix(a, "^"), strings.HasPrefix(b, "^"); caretA || caretB {
			switch {
			case a == "":
				return -1
			case b == "":
				return 1
			case !caretA:
				return 1
			case !caretB:
				return -1
			}
			a, b = a[1:], b[1:]
			continue
		}
		if a == "" || b == "" {
			break
		}
		take := letters
		if digit(a[0]) {
			take = number
		}
		x, restA := take(a)
		y, restB := take(b)
		switch {
		case y == "" && digit(a[0]):
			return 1 // numbers follow words
		case y == "":
			return -1
		case digit(a[0]):
			if c := compareNumbers(x, y); c != 0 {
				return c
			}
		case x != y:
			return strings.Compare(x, y)
		}
		a, b = restA, restB
	}
	switch {
	case a == "" && b == "":
		return 0
	case a == "":
		return -1
	}
	return 1
}

func letters(text string) (word, rest string) {
	n := 0
	for n < len(text) && letter(text[n]) {
		n++
	}
	return text[:n], text[n:]
}
