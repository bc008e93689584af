package version

import (
	"fmt"
	"strings"
)

// A Range is a set of versions: those that satisfy all of its comparisons. The zero Range
// contains every version.
//
// It is written as comparisons separated by commas:
//
//	>= 1.4, < 2     from 1.4 up to but not including 2 (previews of 2 are before 2)
//	2.*             the series: 2, 2.0-rc1, 2.7.3, not 20
//	1.9.4           exactly this one, or one equal to it
//	>= 1, != 1.3    any from 1 on except 1.3
type Range struct {
	text  string
	terms []term
}

// A term is one comparison of a Range.
type term struct {
	operator string // one of operators, or "*" for a series
	bound    Version
}

// operators in the order of recognition: longer ones first.
var operators = []string{">=", "<=", "==", "!=", ">", "<"}

// ParseRange reads a range. It rejects an empty text; a recipe that accepts every version names
// no range.
func ParseRange(text string) (Range, error) {
	r := Range{text: strings.TrimSpace(text)}
	for part := range strings.SplitSeq(text, ",") {
		t, err := parseTerm(strings.TrimSpace(part))
		if err != nil {
			return Range{}, err
		}
		r.terms = append(r.terms, t)
	}
	return r, nil
}

func parseTerm(text string) (term, error) {
	if text == "" {
		return term{}, fmt.Errorf("a version range is missing: write for example \">= 1.4, < 2\", \"2.*\" or \"1.9.4\"")
	}
	operator, bound := "==", text
	for _, op := range operators {
		if rest, found := strings.CutPrefix(text, op); found {
			operator, bound = op, strings.TrimSpace(rest)
			break
		}
	}
	if series, found := strings.CutSuffix(bound, ".*"); found {
		if bound != text {
			return term{}, fmt.Errorf("%q mixes a comparison with a series: write %q or \"%s %s\"", text, bound,
				operator, series)
		}
		operator, bound = "*", series
	}
	v, err := Parse(bound)
	if err != nil {
		return term{}, err
	}
	if operator == "*" && len(v.plus) > 0 {
		return term{}, fmt.Errorf("%q: a series cannot contain '+'", text)
	}
	return term{operator, v}, nil
}

// String returns the range as it was written, or "any" for the zero Range.
func (r Range) String() string {
	if len(r.terms) == 0 {
		return "any"
	}
	return r.text
}

// Exact reports whether the range contains only one version.
func (r Range) Exact() bool {
	return len(r.terms) == 1 && r.terms[0].operator == "=="
}

// Contains reports whether v satisfies all comparisons of the range.
func (r Range) Contains(v Version) bool {
	for _, t := range r.terms {
		if !t.holds(v) {
			return false
		}
	}
	return true
}

func (t term) holds(v Version) bool {
	if t.operator == "*" {
		return t.series(v)
	}
	c := v.Compare(t.bound)
	switch t.operator {
	case ">=":
		return c >= 0
	case "<=":
		return c <= 0
	case ">":
		return c > 0
	case "<":
		return c < 0
	case "!=":
		return c != 0
	default: // "=="
		return c == 0
	}
}

// series reports whether v begins with the items of the bound. It compares the items as written:
// 2.0-rc1 is in 2.0.*, although its zero does not count in the order.
func (t term) series(v Version) bool {
	main, _, _ := strings.Cut(v.text, "+")
	bound := split(t.bound.text)
	items := split(main)
	for i := range bound {
		if itemAt(items, i).compare(bound[i]) != 0 {
			return false
		}
	}
	return true
}
