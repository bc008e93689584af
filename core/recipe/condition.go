package recipe

import (
	"fmt"
	"slices"
	"strings"

	"fernladder/core/host"
	"fernladder/core/tomlfile"
	"fernladder/core/version"
)

// A Condition says when a need or a try counts. The zero Condition always
// holds. The language is small:
//
//	condition  = and { "or" and }
//	and        = not { "and" not }
//	not        = "not" not | "(" condition ")" | comparison
//	comparison = OPTION                                  an option that is on, or has a value
//	           | OPTION ("==" | "!=") VALUE
//	           | "version" OPERATOR VERSION              compared as versions
//	           | ("arch" | "host") ("==" | "!=") WORD
//
// where OPERATOR is one of == != < <= > >=.
type Condition struct {
	text string
	root expression
}

// Facts are what conditions ask about.
type Facts struct {
	Version version.Version
	Options map[string]string
	Machine host.Machine
}

// String returns the condition as it was written, "" for the zero Condition.
func (c Condition) String() string { return c.text }

// Holds reports whether the condition is fulfilled.
func (c Condition) Holds(f Facts) bool { return c.root == nil || c.root.holds(f) }

// Logic evaluates conditions whose options are not settled yet: truth values of some type T, and
// the operations on them.
type Logic[T any] struct {
	Known  func(bool) T
	Option func(name, value string) T // whether the option has that value
	And    func(a, b T) T
	Or     func(a, b T) T
	Not    func(a T) T
}

// Work evaluates a condition. It does not read the options among the facts.
func Work[T any](c Condition, f Facts, l Logic[T]) T {
	if c.root == nil {
		return l.Known(true)
	}
	return work(c.root, f, l)
}

func work[T any](e expression, f Facts, l Logic[T]) T {
	switch e := e.(type) {
	case both:
		return l.And(work(e.a, f, l), work(e.b, f, l))
	case oneOf:
		return l.Or(work(e.a, f, l), work(e.b, f, l))
	case negation:
		return l.Not(work(e.a, f, l))
	}
	c := e.(comparison)
	if slices.Contains(factNames, c.name) {
		return l.Known(c.holds(f))
	}
	is := l.Option(c.name, c.value)
	if c.operator == "!=" {
		return l.Not(is)
	}
	return is
}

// Mentions reports whether the condition asks about the version or an option.
func (c Condition) Mentions(name string) bool {
	return c.root != nil && mentioned(c.root, nil)[name] != nil
}

// expression is a node of a condition.
type expression interface{ holds(Facts) bool }

type both struct{ a, b expression }
type oneOf struct{ a, b expression }
type negation struct{ a expression }
type comparison struct {
	name, operator, value string
	version               version.Version // of value, when name is "version"
}

func (e both) holds(f Facts) bool     { return e.a.holds(f) && e.b.holds(f) }
func (e oneOf) holds(f Facts) bool    { return e.a.holds(f) || e.b.holds(f) }
func (e negation) holds(f Facts) bool { return !e.a.holds(f) }

func (e comparison) holds(f Facts) bool {
	c := 0
	switch e.name {
	case "version":
		c = f.Version.Compare(e.version)
	case "arch":
		c = strings.Compare(f.Machine.Arch, e.value)
	case "host":
		c = strings.Compare(f.Machine.Family, e.value)
	default:
		c = strings.Compare(f.Options[e.name], e.value)
	}
	switch e.operator {
	case "==":
		return c == 0
	case "!=":
		return c != 0
	case "<":
		return c < 0
	case "<=":
		return c <= 0
	case ">":
		return c > 0
	default: // ">="
		return c >= 0
	}
}

// AnyCondition reads a condition about a package whose options are not known yet: every name
// that is not a fact is an option of its. Errors are of type *tomlfile.At.
func AnyCondition(text string) (Condition, error) {
	return (&conditionParser{any: true}).parse(text)
}

// parseCondition reads a condition about a package with these options. Errors
// are of type *tomlfile.At.
func parseCondition(text string, options []*Option) (Condition, error) {
	return (&conditionParser{options: options}).parse(text)
}

func (p *conditionParser) parse(text string) (Condition, error) {
	if err := p.scan(text); err != nil {
		return Condition{}, err
	}
	root, err := p.or(0)
	if err == nil && p.peek().text != "" {
		err = p.fail(p.peek(), "", "%q does not belong here; join conditions with and, or", p.peek().text)
	}
	if err != nil {
		return Condition{}, err
	}
	return Condition{text, root}, nil
}

// token is a word, an operator or a parenthesis; the last one is empty.
type token struct {
	text   string
	offset int
}

type conditionParser struct {
	options []*Option
	any     bool // names are options that have any value
	tokens  []token
	next    int
}

const wordCharacters = "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789._+-"

func (p *conditionParser) scan(text string) error {
	for i := 0; i < len(text); {
		start := i
		switch {
		case strings.IndexByte(" \t\r\n", text[i]) >= 0:
			i++
			continue
		case strings.IndexByte("()", text[i]) >= 0:
			i++
		case strings.IndexByte("=!<>", text[i]) >= 0:
			for i < len(text) && strings.IndexByte("=!<>", text[i]) >= 0 {
				i++
			}
		case strings.IndexByte(wordCharacters, text[i]) >= 0:
			for i < len(text) && strings.IndexByte(wordCharacters, text[i]) >= 0 {
				i++
			}
		default:
			return p.fail(token{offset: i}, "write values without quotes, as in: storage == loam",
				"%q cannot be part of a condition", text[i])
		}
		p.tokens = append(p.tokens, token{text[start:i], start})
	}
	p.tokens = append(p.tokens, token{offset: len(text)})
	return nil
}

func (p *conditionParser) peek() token { return p.tokens[p.next] }

func (p *conditionParser) take() token {
	t := p.tokens[p.next]
	if t.text != "" {
		p.next++
	}
	return t
}

func (p *conditionParser) fail(t token, advice, format string, args ...any) error {
	return &tomlfile.At{Offset: t.offset, Advice: advice, Err: fmt.Errorf(format, args...)}
}

// deepest is the limit of nested conditions; no person comes near it.
const deepest = 50

func (p *conditionParser) or(depth int) (expression, error) {
	return p.chain("or", depth, p.and, func(a, b expression) expression { return oneOf{a, b} })
}

func (p *conditionParser) and(depth int) (expression, error) {
	return p.chain("and", depth, p.not, func(a, b expression) expression { return both{a, b} })
}

func (p *conditionParser) chain(word string, depth int, part func(int) (expression, error),
	join func(a, b expression) expression) (expression, error) {
	a, err := part(depth)
	for err == nil && p.peek().text == word {
		p.take()
		var b expression
		b, err = part(depth)
		a = join(a, b)
	}
	return a, err
}

func (p *conditionParser) not(depth int) (expression, error) {
	if depth > deepest {
		return nil, p.fail(p.peek(), "", "this condition is nested too deep")
	}
	switch t := p.peek(); t.text {
	case "not":
		p.take()
		a, err := p.not(depth + 1)
		return negation{a}, err
	case "(":
		p.take()
		a, err := p.or(depth + 1)
		if err == nil && p.take().text != ")" {
			err = p.fail(t, "", "this parenthesis is not closed")
		}
		return a, err
	}
	return p.comparison()
}

func (p *conditionParser) comparison() (expression, error) {
	name := p.take()
	if name.text == "" {
		return nil, p.fail(name, "", "a condition is missing here")
	}
	option := p.option(name.text)
	if option == nil && !slices.Contains(factNames, name.text) {
		return nil, p.unknown(name)
	}
	operator := p.peek()
	if !slices.Contains(comparisons, operator.text) {
		if option != nil && option.Takes != "" {
			return comparison{name: name.text, operator: "!=", value: ""}, nil
		}
		if option == nil || option.Values != nil {
			return nil, p.fail(name, fmt.Sprintf("for example: %s == %s", name.text, p.example(name.text, option)),
				"%q has to be compared with something", name.text)
		}
		return comparison{name: name.text, operator: "==", value: "on"}, nil
	}
	p.take()
	value := p.take()
	if value.text == "" || strings.IndexByte(wordCharacters, value.text[0]) < 0 {
		return nil, p.fail(value, "", "there is nothing to compare %q with", name.text)
	}
	c := comparison{name: name.text, operator: operator.text, value: value.text}
	if name.text == "version" {
		v, err := version.Parse(value.text)
		if err != nil {
			return nil, p.fail(value, "", "%v", err)
		}
		c.version = v
		return c, nil
	}
	if operator.text != "==" && operator.text != "!=" {
		return nil, p.fail(operator, "only version has an order", "%q can only be compared with == and !=", name.text)
	}
	switch {
	case option != nil:
		c.value = option.Value(c.value)
		if err := option.CheckValue(c.value); err != nil && !p.any {
			return nil, p.fail(value, err.Error(), "option %q is never %q", option.Name, value.text)
		}
	case name.text == "host" && !slices.Contains(host.Families, value.text):
		return nil, p.fail(value, "there are: "+strings.Join(host.Families, ", "),
			"%q is not a known family of operating systems", value.text)
	}
	return c, nil
}

var comparisons = []string{"==", "!=", "<", "<=", ">", ">="}

// factNames are the names in conditions that are not options.
var factNames = []string{"version", "arch", "host"}

func (p *conditionParser) option(name string) *Option {
	i := slices.IndexFunc(p.options, func(o *Option) bool { return o.Name == name })
	if p.any && CheckOptionName(name) == nil && !slices.Contains(factNames, name) {
		return &Option{Name: name}
	}
	if i < 0 {
		return nil
	}
	return p.options[i]
}

func (p *conditionParser) example(name string, option *Option) string {
	switch {
	case option != nil && option.Values != nil:
		return option.Choices()[0]
	case option != nil:
		return option.Default
	case name == "version":
		return "2.0"
	case name == "arch":
		return "x86_64"
	}
	return host.Families[0]
}

func (p *conditionParser) unknown(name token) error {
	known := slices.Clone(factNames)
	for _, o := range p.options {
		known = append(known, o.Name)
	}
	advice := "known: " + strings.Join(known, ", ")
	if near, found := tomlfile.Nearest(name.text, known); found {
		advice = fmt.Sprintf("did you mean %q?", near)
	}
	return p.fail(name, advice, "%q is neither an option of this recipe nor one of version, arch, host", name.text)
}
