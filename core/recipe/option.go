package recipe

import (
	"errors"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"fernladder/core/tomlfile"
)

// An Option is a choice made before the build: on or off, one of a few values, or an open one,
// which takes a number, a text, a list of words or a path.
type Option struct {
	tomlfile.Position
	Name    string
	About   string
	Group   string          // the heading it belongs under, or ""
	Default string          // "on" or "off", one of the values, or, of an open one, a value or ""
	On, Off []string        // arguments, for an option that is on or off
	Values  []tomlfile.Pair // arguments for each value, for one that is not
	Takes   Form            // of an open one, or ""
	Given   []string        // arguments, for an open one with a value; $FL_VALUE stands for the value
	Between string          // the separator of a list in its arguments
	Least   int             // of a number
	Most    int
	Matches *regexp.Regexp // what a text, or each word of a list, must match completely; nil: anything
	When    Condition      // the releases and machines that have it
	Implied bool           // it is one of the method's, and not in the file

	settled bool // its default is decided for all recipes, and releases have no other
}

// Form is what an open option takes.
type Form string

// The forms.
const (
	Number Form = "number" // a whole one
	Line   Form = "text"   // in one line
	Words  Form = "list"   // written with commas between
	Path   Form = "path"   // an absolute one
)

// valueVariable stands for the value of an open option in its arguments.
const valueVariable = "FL_VALUE"

// mostNumber is the limit of a number if the recipe states no lower one.
const mostNumber = 1<<31 - 1

// Choices returns the values that the option can have, in the order of the recipe; none for an
// open one.
func (o *Option) Choices() []string {
	switch {
	case o.Takes != "":
		return nil
	case o.Values == nil:
		return []string{"on", "off"}
	}
	choices := make([]string, len(o.Values))
	for i, v := range o.Values {
		choices[i] = v.Name
	}
	return choices
}

// Can says in words which values the option can have.
func (o *Option) Can() string {
	switch o.Takes {
	case "":
		return strings.Join(o.Choices(), ", ")
	case Number:
		if o.Most == mostNumber {
			return fmt.Sprintf("a whole number from %d", o.Least)
		}
		return fmt.Sprintf("a whole number from %d to %d", o.Least, o.Most)
	case Words:
		return "words with commas between" + o.matching("each of which matches")
	case Path:
		return "an absolute path"
	}
	return "a text in one line" + o.matching("that matches")
}

func (o *Option) matching(how string) string {
	if o.Matches == nil {
		return ""
	}
	return ", " + how + " " + o.Matches.String()
}

// Accepts reports whether the option can have a value.
func (o *Option) Accepts(value string) bool { return o.CheckValue(value) == nil }

// CheckValue says what is wrong with a value for the option. An open option can be empty: then
// it adds nothing, and the source decides.
func (o *Option) CheckValue(value string) error {
	switch {
	case o.Takes == "" && !slices.Contains(o.Choices(), value):
		return fmt.Errorf("it can be: %s", o.Can())
	case o.Takes == "" || value == "":
		return nil
	case o.Takes == Number:
		n, err := strconv.Atoi(value)
		if err != nil || n < o.Least || n > o.Most || strconv.Itoa(n) != value {
			return fmt.Errorf("it takes %s", o.Can())
		}
		return nil
	}
	if err := checkOpenText(value); err != nil {
		return err
	}
	switch {
	case o.Takes == Path && (!path.IsAbs(value) || path.Clean(value) != value):
		return errors.New("it takes an absolute path, without . and .. and doubled slashes")
	case o.Takes == Words:
		for word := range strings.SplitSeq(value, ",") {
			if strings.TrimSpace(word) != word || word == "" || o.Between != "" && strings.Contains(word, o.Between) ||
				!o.matches(word) {
				return fmt.Errorf("it takes %s; %q is no such word", o.Can(), word)
			}
		}
	case !o.matches(value):
		return fmt.Errorf("it takes %s", o.Can())
	}
	return nil
}

func (o *Option) matches(text string) bool {
	if o.Matches == nil {
		return true
	}
	found := o.Matches.FindStringIndex(text)
	return found != nil && found[0] == 0 && found[1] == len(text)
}

// longestValue is more than a person types.
const longestValue = 4096

// checkOpenText refuses what build systems, or their shells, would split.
func checkOpenText(text string) error {
	const special = "$`\\\"'"
	switch {
	case len(text) > longestValue:
		return fmt.Errorf("a value has at most %d characters", longestValue)
	case strings.ContainsAny(text, special):
		return fmt.Errorf("a value has none of the characters %s, which shells and build systems read", special)
	case strings.ContainsFunc(text, func(c rune) bool { return c < ' ' || c == 0x7f || c == '\uFFFD' }):
		return errors.New("a value is one line of text")
	}
	return nil
}

// Args returns the arguments that a value adds to the build's.
func (o *Option) Args(value string) []string {
	switch {
	case o.Takes != "" && value == "":
		return nil
	case o.Takes != "":
		if o.Takes == Words {
			value = strings.Join(strings.Split(value, ","), o.between())
		}
		args := make([]string, len(o.Given))
		for i, arg := range o.Given {
			args[i] = Expand(arg, func(name string) (string, bool) { return value, name == valueVariable })
		}
		return args
	case o.Values == nil && value == "on":
		return o.On
	case o.Values == nil:
		return o.Off
	}
	for _, v := range o.Values {
		if v.Name == value {
			return v.Values
		}
	}
	return nil
}

func (o *Option) between() string {
	if o.Between == "" {
		return ","
	}
	return o.Between
}

// Value is how a value is kept that a person wrote: true and yes are on, for an
// option that is on or off.
func (o *Option) Value(text string) string {
	if o.Takes != "" || o.Values != nil {
		return text
	}
	switch strings.ToLower(text) {
	case "on", "true", "yes":
		return "on"
	case "off", "false", "no":
		return "off"
	}
	return text
}

// TOML is a value as a file of settings has it.
func (o *Option) TOML(value string) string {
	switch {
	case o.Takes == Number && value != "":
		return value
	case o.Takes == Words:
		var words []string
		if value != "" {
			words = strings.Split(value, ",")
		}
		return tomlfile.QuoteList(words)
	case o.Takes == "" && o.Values == nil:
		return strconv.FormatBool(value == "on")
	}
	return tomlfile.Quote(value)
}

// In reports whether a release, on a machine, has the option. Of the facts, the options are
// not looked at.
func (o *Option) In(f Facts) bool { return o.When.Holds(f) }

// DefaultOf is what the option is in a release by default.
func (o *Option) DefaultOf(x *Release) string {
	if x != nil && !o.settled {
		for _, d := range x.Defaults {
			if d.Name == o.Name {
				return o.Value(d.Values[0])
			}
		}
	}
	return o.Default
}

// Option returns the option of that name, or nil.
func (r *Recipe) Option(name string) *Option {
	for _, o := range r.Options {
		if o.Name == name {
			return o
		}
	}
	return nil
}

// OptionsOf are the options that a release has, by these facts.
func (r *Recipe) OptionsOf(f Facts) []*Option {
	return slices.DeleteFunc(slices.Clone(r.Options), func(o *Option) bool { return !o.In(f) })
}

// A Preset is a named set of options.
type Preset struct {
	tomlfile.Position
	Name    string
	About   string
	Options []tomlfile.Pair
}

// Preset returns the preset of that name, or nil.
func (r *Recipe) Preset(name string) *Preset {
	for _, p := range r.Presets {
		if p.Name == name {
			return p
		}
	}
	return nil
}

// optionContradictions finds what is wrong between the keys of options, and between
// options, releases and presets.
func (r *Recipe) optionContradictions(report reporter) {
	for _, o := range r.Options {
		switch {
		case o.Values != nil && (o.On != nil || o.Off != nil):
			report(o.Position, "", "option %s has both values and on or off", o.Name)
		case o.Takes != "" && (o.Values != nil || o.On != nil || o.Off != nil):
			report(o.Position, "its arguments are in given", "option %s takes a %s, and has values or on and off besides",
				o.Name, o.Takes)
		case o.Takes == "" && o.Given != nil:
			report(o.Position, "add takes = \"text\", or number, list or path", "option %s has given, but no takes", o.Name)
		case o.Takes != Number && (o.Least != 0 || o.Most != mostNumber):
			report(o.Position, "", "option %s has least or most, but does not take a number", o.Name)
		case o.Takes != Line && o.Takes != Words && o.Matches != nil:
			report(o.Position, "", "option %s has matches, but takes neither a text nor a list", o.Name)
		case o.Takes != Words && o.Between != "":
			report(o.Position, "", "option %s has between, but does not take a list", o.Name)
		case o.Least > o.Most:
			report(o.Position, "", "option %s has a least above its most", o.Name)
		case o.Default == "" && o.Takes == "":
			report(o.Position, "it can be: "+o.Can(), "option %s has no default", o.Name)
		default:
			if err := o.CheckValue(o.Default); err != nil {
				report(o.Position, err.Error(), "option %s cannot have the default %q", o.Name, o.Default)
			}
		}
	}
	for _, x := range r.Releases {
		r.checkSet(x.Defaults, report)
		for _, d := range x.Defaults {
			if o := r.Option(d.Name); o != nil && !x.Version.IsZero() && o.When.Mentions("version") &&
				!o.When.Mentions("arch") && !o.When.Mentions("host") && !o.In(Facts{Version: x.Version}) {
				report(d.Position, "", "release %s has no option %s: %s", x.name(), d.Name, o.When)
			}
		}
	}
	for _, p := range r.Presets {
		r.checkSet(p.Options, report)
		if len(p.Options) == 0 {
			report(p.Position, "add options = { … }", "the preset %s sets no option", p.Name)
		}
	}
}

// checkSet finds options that the recipe does not have, and values that they cannot have.
func (r *Recipe) checkSet(set []tomlfile.Pair, report reporter) {
	for _, s := range set {
		o := r.Option(s.Name)
		if o == nil && slices.ContainsFunc(r.implied(), func(o *Option) bool { return o.Name == s.Name }) {
			continue // it comes later
		}
		if o == nil {
			var names []string
			for _, o := range r.Options {
				names = append(names, o.Name)
			}
			advice := "it has: " + strings.Join(names, ", ")
			if near, found := tomlfile.Nearest(s.Name, names); found {
				advice = fmt.Sprintf("did you mean %q?", near)
			}
			report(s.Position, advice, "there is no option %s", s.Name)
			continue
		}
		if err := o.CheckValue(o.Value(s.Values[0])); err != nil {
			report(s.Position, err.Error(), "option %s cannot be %q", o.Name, s.Values[0])
		}
	}
}
