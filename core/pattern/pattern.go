// Package pattern has regular expressions (RE2) that are compiled when they are
// first used. There are hundreds in the program, and most of its runs need few: to
// compile all would take longer than many commands.
package pattern

import (
	"regexp"
	"sync"
)

// A Pattern is a regular expression. Its methods are those of regexp.Regexp; they panic if
// the expression is invalid.
type Pattern struct{ compiled func() *regexp.Regexp }

// New returns the pattern of an expression.
func New(text string) *Pattern {
	return &Pattern{sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(text) })}
}

// Compiled is the regular expression.
func (p *Pattern) Compiled() *regexp.Regexp { return p.compiled() }

// MatchString reports whether there is a match.
func (p *Pattern) MatchString(text string) bool { return p.compiled().MatchString(text) }

// FindString returns the first match, or "".
func (p *Pattern) FindString(text string) string { return p.compiled().FindString(text) }

// FindStringSubmatch returns the first match with its groups, or nil.
func (p *Pattern) FindStringSubmatch(text string) []string {
	return p.compiled().FindStringSubmatch(text)
}

// FindAllStringSubmatch returns every match with its groups, up to most, or all
// for -1.
func (p *Pattern) FindAllStringSubmatch(text string, most int) [][]string {
	return p.compiled().FindAllStringSubmatch(text, most)
}

// FindAllString returns every match, up to most, or all for -1.
func (p *Pattern) FindAllString(text string, most int) []string {
	return p.compiled().FindAllString(text, most)
}

// ReplaceAllString replaces every match; $1 stands for a group.
func (p *Pattern) ReplaceAllString(text, with string) string {
	return p.compiled().ReplaceAllString(text, with)
}

// Split returns what is between the matches, up to most parts, or all for -1.
func (p *Pattern) Split(text string, most int) []string { return p.compiled().Split(text, most) }

// ReplaceAllStringFunc replaces every match by what a function makes of it.
func (p *Pattern) ReplaceAllStringFunc(text string, with func(string) string) string {
	return p.compiled().ReplaceAllStringFunc(text, with)
}
