package recipe

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"mvdan.cc/sh/v3/syntax"

	"fernladder/core/keyfile"
)

// Doubts finds what is allowed in a recipe and probably not meant.
func (r *Recipe) Doubts() keyfile.Problems {
	var doubts keyfile.Problems
	doubt := func(at keyfile.Position, advice, format string, args ...any) {
		at.File = r.File
		doubts = append(doubts, keyfile.Problem{Position: at, Message: fmt.Sprintf(format, args...), Advice: advice, Source: r.line(at.Line)})
	}
	if r.Summary == "?" {
		doubt(keyfile.Position{}, "say in one line what it is", "the summary is still open")
	}
	for _, o := range r.Options {
		if !r.uses(o) {
			doubt(o.Position, "give it arguments (on, off, values), or use it in a condition", "nothing depends on the option %s", o.Name)
		}
	}
	for _, s := range r.Steps {
		if message, line := shellMistake(s.Script); message != "" {
			doubt(keyfile.Position{}, "", "the step %s is not shell that can be read: %s, in its line %d", s.Name, message, line)
		}
	}
	for _, t := range r.Tries {
		if message, _ := shellMistake(t.Run); message != "" {
			doubt(t.Position, "", "what this try runs is not shell that can be read: %s", message)
		}
	}
	doubts.Sort()
	return doubts
}

// uses tells whether an option makes any difference.
func (r *Recipe) uses(o *Option) bool {
	for _, choice := range o.Choices()[1:] {
		if !slices.Equal(o.Args(choice), o.Args(o.Choices()[0])) {
			return true
		}
	}
	variable := "FL_OPTION_" + VariableName(o.Name)
	texts := slices.Clone(r.Build.Args)
	for _, s := range r.Steps {
		texts = append(texts, s.Script)
	}
	for _, pair := range slices.Concat(r.Build.Env, r.Env) {
		texts = append(texts, pair.Values...)
	}
	var conditions []Condition
	for _, n := range r.Needs {
		conditions = append(conditions, n.When)
	}
	for _, t := range r.Tries {
		texts = append(texts, t.Run)
		conditions = append(conditions, t.When)
	}
	return slices.ContainsFunc(texts, func(text string) bool { return strings.Contains(text, variable) }) ||
		slices.ContainsFunc(conditions, func(c Condition) bool { return mentions(c.root, o.Name) })
}

// mentions tells whether a condition depends on an option.
func mentions(e expression, option string) bool {
	switch e := e.(type) {
	case both:
		return mentions(e.a, option) || mentions(e.b, option)
	case oneOf:
		return mentions(e.a, option) || mentions(e.b, option)
	case negation:
		return mentions(e.a, option)
	case comparison:
		return e.name == option
	}
	return false
}

// shellMistake says why a text is no shell, and in which of its lines; it is ""
// for one that is. What sh is differs between systems, so what any of them reads
// is taken.
func shellMistake(text string) (string, int) {
	_, err := syntax.NewParser(syntax.Variant(syntax.LangBash)).Parse(strings.NewReader(text), "")
	var mistake syntax.ParseError
	if errors.As(err, &mistake) {
		return mistake.Text, int(mistake.Pos.Line())
	}
	return "", 0
}
