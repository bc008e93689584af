package diagnose

import (
	"bytes"
	_ "embed"
	"errors"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
	"sync"
	"unicode"

	toml "github.com/pelletier/go-toml/v2"

	"fernladder/core/pattern"
	"fernladder/core/tomlfile"
)

//go:embed causes.toml
var causes []byte

// A rule says what a line of a log means. The groups of its pattern are called name (of what is
// missing or at fault, any number of times), range, found and place.
type rule struct {
	Kind    Kind     `toml:"kind"`
	Match   string   `toml:"match"`
	Names   []string `toml:"names"`   // in the place of those that are matched
	Says    string   `toml:"says"`    // in the place of the kind's text, with {name}, {range} and {found} replaced
	Helps   string   `toml:"helps"`   // in the place of the kind's advice
	Guess   bool     `toml:"guess"`   // it is likely, no more
	Then    string   `toml:"then"`    // a step that finds out more from the lines around
	Example string   `toml:"example"` // of a log
	Means   string   `toml:"means"`   // what the rule says of it

	pattern *pattern.Pattern
	needs   []string // texts of which every line that it holds for has one
	step    step
}

// A step completes a cause from the lines around the one at an index. It returns false if the
// rule does not apply after all.
type step func(c *Cause, lines []string, at int) bool

// steps are the steps that our own rules can have.
var steps = map[string]step{
	"absolute": absolute, "anyMacro": anyMacro, "asProgram": asProgram, "atLeast": atLeast, "atTheEnd": atTheEnd,
	"buildProgram": buildProgram,
	"cmakeSaid":    cmakeSaid, "commandOf": commandOf, "compilerFor": compilerFor, "complained": complained,
	"dependencyBefore": dependencyBefore,
	"directoryBefore":  directoryBefore, "fatal": fatal, "header": header, "insteadOf": insteadOf,
	"knownFunction": knownFunction, "lowered": lowered,
	"macro": macro, "macroAfter": macroAfter, "makeSaid": makeSaid, "mesonSaid": mesonSaid, "minimum": minimum,
	"moduleBefore": moduleBefore,
	"nextLine":     nextLine, "nextName": nextName, "notFoundVariable": notFoundVariable, "ofTheMachine": ofTheMachine,
	"ownError": ownError, "parts": parts,
	"perlName": perlName, "said": said, "searched": searched, "started": started, "topModule": topModule,
	"versionBelow": versionBelow,
	"startFiles":   startFiles, "notLinked": notLinked, "staticLibrary": staticLibrary, "undeclared": undeclared,
	"goModule": goModule, "crateModule": crateModule,
	"panicked": panicked, "traceback": traceback, "lastWords": lastWords, "eachOf": eachOf, "wantedRust": wantedRust,
	"linkedTarget": linkedTarget,
	"whichModule":  whichModule, "wholeName": wholeName, "withPkgConfig": withPkgConfig,
}

// A mark is a line that says how a run of a tool ended.
type mark struct {
	Match   string `toml:"match"`
	Failed  bool   `toml:"failed"` // otherwise all went well
	Phase   bool   `toml:"phase"`  // earlier errors do not matter later
	Late    bool   `toml:"late"`   // it counts near the end of a log only
	Example string `toml:"example"`
	pattern *pattern.Pattern
}

// A Table is knowledge about messages: the rules that find causes, and the marks that say
// whether something failed.
type Table struct {
	rules   []rule
	marks   []mark
	scanner *scanner // of the rules, then of the marks
}

// Own is the table of the program itself (causes.toml).
var Own = sync.OnceValue(func() *Table {
	t := &Table{}
	if err := t.add(causes, true); err != nil {
		panic(err)
	}
	t.scan()
	return t
})

// With returns a table with additional rules, in the format of causes.toml without then and
// without marks; they have precedence. The error lists mistakes.
func (t *Table) With(text []byte) (*Table, error) {
	more := &Table{}
	if err := more.add(text, false); err != nil {
		return nil, err
	}
	more.rules, more.marks = append(more.rules, t.rules...), t.marks
	more.scan()
	return more, nil
}

func (t *Table) add(text []byte, ours bool) error {
	var file struct {
		Cause []rule `toml:"cause"`
		Mark  []mark `toml:"mark"`
	}
	decoder := toml.NewDecoder(bytes.NewReader(text)).DisallowUnknownFields()
	if err := decoder.Decode(&file); err != nil {
		var strict *toml.StrictMissingError
		var decode *toml.DecodeError
		switch {
		case errors.As(err, &strict):
			row, _ := strict.Errors[0].Position()
			return fmt.Errorf("line %d: there is no key %s", row, strings.Join(strict.Errors[0].Key(), "."))
		case errors.As(err, &decode):
			row, _ := decode.Position()
			return fmt.Errorf("line %d: %w", row, err)
		}
		return err
	}
	if !ours && len(file.Mark) > 0 {
		return errors.New("marks are for the table of the program itself")
	}
	for i := range file.Cause {
		r := &file.Cause[i]
		r.needs = needs(r.Match)
		if !ours {
			if err := r.check(); err != nil {
				return fmt.Errorf("cause %d: %w", i+1, err)
			}
		}
		r.pattern = pattern.New(r.Match)
		if r.step = steps[r.Then]; r.step == nil && r.Then != "" {
			return fmt.Errorf("cause %d: there is no step %s", i+1, r.Then)
		}
	}
	for i := range file.Mark {
		file.Mark[i].pattern = pattern.New(file.Mark[i].Match)
	}
	t.rules, t.marks = append(t.rules, file.Cause...), append(t.marks, file.Mark...)
	return nil
}

// check returns the mistakes of a rule that is not ours.
func (r *rule) check() error {
	re, err := regexp.Compile(r.Match)
	switch {
	case err != nil:
		return fmt.Errorf("match: %w", err)
	case shortest(r.needs) < 3:
		return errors.New("match has no text of at least three letters that every line would have")
	case r.Then != "":
		return errors.New("then is for causes of the program itself")
	case r.Says == "":
		return errors.New("says is missing: what it means, in a sentence without a stop")
	case strings.ContainsFunc(r.Says+r.Helps, unicode.IsControl),
		strings.ContainsFunc(strings.Join(r.Names, ""), unicode.IsControl):
		return errors.New("says, helps and names are one line each")
	case r.Example == "":
		return errors.New("example is missing: a line that it is for")
	case !slices.ContainsFunc(strings.Split(r.Example, "\n"), re.MatchString):
		return errors.New("match does not match the example")
	case r.Kind == "":
		r.Kind = Site
	case !slices.Contains(kinds(), string(r.Kind)):
		return fmt.Errorf("there is no kind %q; kinds are %s", r.Kind, strings.Join(kinds(), ", "))
	}
	return nil
}

// kinds are those that additional rules can have.
func kinds() (all []string) {
	for _, kind := range slices.Sorted(maps.Keys(sentences)) {
		if kind != Fine && kind != Unknown && kind != Said {
			all = append(all, string(kind))
		}
	}
	return all
}

func (t *Table) scan() {
	var all [][]string
	for _, r := range t.rules {
		all = append(all, r.needs)
	}
	for _, m := range t.marks {
		all = append(all, needs(m.Match))
	}
	t.scanner = newScanner(all)
}

// Frame is the beginning of a rule for a line, in the format of causes.toml: a person has to
// fill in says and helps.
func Frame(line string) string {
	match := regexp.QuoteMeta(strings.TrimSpace(line))
	match = inFrames.Compiled().ReplaceAllStringFunc(match, func(part string) string {
		if strings.Contains(part, "/") {
			return `\S+`
		}
		return `\d+`
	})
	return "[[cause]]\nmatch   = " + literal(match) +
		"\nsays    = \"\"   # what it means, in a sentence without a stop; {name} is what (?P<name>…) in match has " +
		"matched\n" +
		"helps   = \"\"   # what to do about it\nexample = " + literal(line) + "\n"
}

// inFrames matches what differs between logs: paths and numbers.
var inFrames = pattern.New(`/(?:[\w+-]|\\\.)+(?:/(?:[\w+-]|\\\.)*)+|\b[0-9]+\b`)

// literal is a text as a literal string of TOML, if possible.
func literal(text string) string {
	if strings.Contains(text, "'") {
		return tomlfile.Quote(text)
	}
	return "'" + text + "'"
}
