package tomlfile

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"fernladder/core/pattern"
	"fernladder/core/problem"
)

// A Position is a place in a file written by hand. Line and Column count from 1, columns in
// characters. The zero Position is no place.
//
// Structs that Tables and Named fill can embed a Position, which is set to the beginning of
// their table.
type Position struct {
	File   string `json:"file"`
	Line   int    `json:"line"`
	Column int    `json:"column"`
}

// String returns the position as FILE:LINE, enough to open the file at it.
func (p Position) String() string {
	if p.Line == 0 {
		return p.File
	}
	return fmt.Sprintf("%s:%d", p.File, p.Line)
}

// placed is implemented by structs that embed a Position.
type placed interface{ place(Position) }

func (p *Position) place(at Position) { *p = at }

// A Problem is a mistake in a file.
type Problem struct {
	Position
	Message string `json:"message"`
	Advice  string `json:"advice,omitempty"` // the probable spelling, or advice
	Source  string `json:"source,omitempty"` // the line of the file
	Unread  bool   `json:"-"`                // what follows it in the file could not be read

	Remedies []problem.Remedy `json:"remedies,omitempty"`
}

// String shows the problem with its line and a caret below the place:
//
//	recipes/mistplan/recipe.toml:7:1: "sumary" is not a key of [package]
//	7 | sumary = "Plans misting runs"
//	| ^ did you mean "summary"?
func (p Problem) String() string {
	var b strings.Builder
	b.WriteString(p.File)
	if p.Line == 0 {
		fmt.Fprintf(&b, ": %s", p.Message)
		if p.Advice != "" {
			fmt.Fprintf(&b, "\n      %s", p.Advice)
		}
		return b.String()
	}
	fmt.Fprintf(&b, ":%d:%d: %s\n", p.Line, p.Column, p.Message)
	fmt.Fprintf(&b, "%5d | %s\n", p.Line, p.Source)
	// Tabs before the caret stay tabs, so that it is below its place.
	indent := []rune(p.Source)[:min(p.Column-1, len([]rune(p.Source)))]
	for i, c := range indent {
		if c != '\t' {
			indent[i] = ' '
		}
	}
	fmt.Fprintf(&b, "      | %s^", string(indent))
	if p.Advice != "" {
		fmt.Fprintf(&b, " %s", p.Advice)
	}
	return b.String()
}

// userInURL matches the user and password of a URL.
var userInURL = pattern.New(`://[^/\s"']*@`)

// WithoutUsers removes users and passwords of URLs from a line of a file, for messages.
func WithoutUsers(line string) string { return userInURL.ReplaceAllString(line, "://xxxxx@") }

// Problems are all mistakes of one or more files. Non-empty Problems are an error.
type Problems []Problem

// Error shows all problems, one after another.
func (p Problems) Error() string {
	texts := make([]string, len(p))
	for i := range p {
		texts[i] = p[i].String()
	}
	return strings.Join(texts, "\n\n")
}

// Sort sorts the problems of a file by their places.
func (p Problems) Sort() {
	slices.SortStableFunc(p, func(a, b Problem) int {
		return cmp.Or(a.Line-b.Line, a.Column-b.Column)
	})
}

// Err returns p as an error, or nil if there is no problem.
func (p Problems) Err() error {
	if len(p) == 0 {
		return nil
	}
	return p
}

// Nearest returns the one of names that was probably meant by word, and false if none is near.
// It follows Damerau's observation that nearly all misspellings are one letter too many,
// missing, wrong or swapped; longer words may have two such mistakes.
func Nearest(word string, names []string) (string, bool) {
	best, found := 1+min(2, len(word)/3), ""
	for _, name := range names {
		if d := distance(strings.ToLower(word), strings.ToLower(name)); d < best {
			best, found = d, name
		}
	}
	return found, found != ""
}

// distance is the optimal string alignment distance of a and b.
func distance(a, b string) int {
	rows := make([][]int, len(a)+1)
	for i := range rows {
		rows[i] = make([]int, len(b)+1)
		rows[i][0] = i
	}
	for j := range rows[0] {
		rows[0][j] = j
	}
	for i := 1; i <= len(a); i++ {
		for j := 1; j <= len(b); j++ {
			change := 1
			if a[i-1] == b[j-1] {
				change = 0
			}
			d := min(rows[i-1][j]+1, rows[i][j-1]+1, rows[i-1][j-1]+change)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				d = min(d, rows[i-2][j-2]+1)
			}
			rows[i][j] = d
		}
	}
	return rows[len(a)][len(b)]
}

// ProblemKind is the kind of the error.
func (e Problems) ProblemKind() problem.Kind { return problem.Recipe }

// ProblemRemedies are the remedies of the first problem that has any.
func (e Problems) ProblemRemedies() []problem.Remedy {
	for _, p := range e {
		if p.Remedies != nil {
			return p.Remedies
		}
	}
	return nil
}

// Unread reports whether a part of the file could not be read, so that what it lacks is not known.
func (p Problems) Unread() bool {
	return slices.ContainsFunc(p, func(x Problem) bool { return x.Unread })
}
