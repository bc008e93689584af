package draft

import (
	"regexp"
	"sync"
)

// A pattern is a regular expression that is compiled when it is first used:
// there are many, and most runs of the program draft nothing.
type pattern struct{ compiled func() *regexp.Regexp }

func newPattern(text string) *pattern {
	return &pattern{sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(text) })}
}

func (p *pattern) matches(text string) bool { return p.compiled().MatchString(text) }

// find returns the first match with its groups, or nil.
func (p *pattern) find(text string) []string { return p.compiled().FindStringSubmatch(text) }

// all returns every match with its groups.
func (p *pattern) all(text string) [][]string { return p.compiled().FindAllStringSubmatch(text, -1) }

func (p *pattern) replace(text, with string) string {
	return p.compiled().ReplaceAllString(text, with)
}
