package recipe

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"mvdan.cc/sh/v3/syntax"

	"fernladder/core/tomlfile"
)

// Warnings finds what is allowed in a recipe and probably a mistake.
func (r *Recipe) Warnings() tomlfile.Problems {
	var warnings tomlfile.Problems
	warning := func(at tomlfile.Position, advice, format string, args ...any) {
		at.File = r.File
		warnings = append(warnings, tomlfile.Problem{Position: at, Message: fmt.Sprintf(format, args...), Advice: advice,
			Source: r.line(at.Line)})
	}
	if r.Summary == "?" {
		warning(tomlfile.Position{}, "describe it in one line", "the summary is missing")
	}
	for _, o := range r.Options {
		if !o.Implied && !r.uses(o) {
			warning(o.Position, "give it arguments (on, off, values), or use it in a condition",
				"the option %s has no effect", o.Name)
		}
	}
	for _, c := range r.conditions() {
		switch holds, fails := r.satisfiability(c.Condition); {
		case !holds:
			warning(c.at, "no release or option makes it true", "%s never applies: %q is never true", c.what, c.Condition)
		case !fails:
			warning(c.at, "remove the condition", "%s always applies: %q is always true", c.what, c.Condition)
		}
	}
	for _, s := range r.Supplies {
		if !r.namesFile(s.File) {
			warning(s.Position, "use $FL_SUPPLY/"+s.File+" in an argument or a step", "nothing uses the supply %s", s.File)
		}
	}
	if len(r.Keys) > 0 && len(r.Signature) == 0 &&
		!slices.ContainsFunc(r.Releases, func(x *Release) bool { return len(x.Signature) > 0 || x.Tag != "" }) {
		warning(tomlfile.Position{}, "add signature = \"https://…\" to [source]",
			"there are keys, but no release has a signature")
	}
	for _, s := range r.Steps {
		if message, line := shellMistake(s.Script); message != "" {
			warning(tomlfile.Position{}, "", "the step %s is not valid shell: %s, in its line %d", s.Name, message, line)
		}
	}
	for _, t := range r.Tries {
		if message, _ := shellMistake(t.Run); message != "" {
			warning(t.Position, "", "this try is not valid shell: %s", message)
		}
	}
	warnings = append(warnings, r.TakesOver(nil)...)
	warnings.Sort()
	return warnings
}

// uses reports whether an option has any effect.
func (r *Recipe) uses(o *Option) bool {
	if len(o.Given) > 0 {
		return true
	}
	for i, choice := range o.Choices() {
		if i > 0 && !slices.Equal(o.Args(choice), o.Args(o.Choices()[0])) {
			return true
		}
	}
	variable := "FL_OPTION_" + VariableName(o.Name)
	texts := r.buildTexts()
	for _, pair := range r.Env {
		texts = append(texts, pair.Values...)
	}
	for _, t := range r.Tries {
		texts = append(texts, t.Run)
	}
	return slices.ContainsFunc(texts, func(text string) bool { return strings.Contains(text, variable) }) ||
		slices.ContainsFunc(r.conditions(), func(c conditional) bool {
			return mentioned(c.Condition.root, nil)[o.Name] != nil
		})
}

// buildTexts are the texts of the recipe about its build, except for those of options.
func (r *Recipe) buildTexts() []string {
	texts := slices.Clone(r.Build.Args)
	for _, s := range r.Steps {
		texts = append(texts, s.Script)
	}
	for _, pair := range r.Build.Env {
		texts = append(texts, pair.Values...)
	}
	return texts
}

// namesFile reports whether the build mentions a supply.
func (r *Recipe) namesFile(file string) bool {
	texts := r.buildTexts()
	for _, o := range r.Options {
		for _, choice := range o.Choices() {
			texts = append(texts, o.Args(choice)...)
		}
		texts = append(texts, o.Given...)
	}
	return slices.ContainsFunc(texts, func(text string) bool {
		return strings.Contains(text, file) || strings.Contains(text, "FL_SUPPLY")
	})
}

// conditional is something that depends on a condition.
type conditional struct {
	Condition
	at   tomlfile.Position
	what string
}

// conditions are all conditions of the recipe.
func (r *Recipe) conditions() []conditional {
	var all []conditional
	add := func(c Condition, at tomlfile.Position, what string) {
		if c.root != nil {
			all = append(all, conditional{c, at, what})
		}
	}
	for _, o := range r.Options {
		add(o.When, o.Position, "this option")
	}
	for _, e := range r.Extras {
		add(e.When, e.Position, "this extra")
	}
	for _, s := range r.Supplies {
		add(s.When, s.Position, "this supply")
	}
	for _, n := range r.Needs {
		add(n.When, n.Position, "this need")
	}
	for _, n := range r.HostNeeds {
		add(n.When, n.Position, "this need on the operating system")
	}
	for _, t := range r.Tries {
		add(t.When, t.Position, "this try")
	}
	for _, l := range r.Launchers {
		add(l.When, l.Position, "this launcher")
	}
	for _, c := range r.Configs {
		add(c.When, c.Position, "this file")
	}
	for _, c := range r.Writable {
		add(c.When, c.Position, "this directory")
	}
	return all
}

// shellMistake says why a text is no shell text, and in which of its lines; "" if it is. sh
// differs between systems, so what any of them accepts is accepted.
func shellMistake(text string) (string, int) {
	_, err := syntax.NewParser(syntax.Variant(syntax.LangBash)).Parse(strings.NewReader(text), "")
	var mistake syntax.ParseError
	if errors.As(err, &mistake) {
		return mistake.Text, int(mistake.Pos.Line())
	}
	return "", 0
}
