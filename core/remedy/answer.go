package remedy

import (
	"fmt"
	"slices"
	"strings"

	"fernladder/core/diagnose"
	"fernladder/core/keyfile"
	"fernladder/core/recipe"
)

// An Answer is how a recipe is changed for a build that has failed.
type Answer struct {
	Text   string // the lines that are added
	GoesOn bool   // the build may go on; otherwise a person has to install something first
	change func(e *keyfile.Edit, why string)
}

// Give changes the recipe, with a remark that says why.
func (a *Answer) Give(r *recipe.Recipe, why string) error {
	return r.Change(func(e *keyfile.Edit) { a.change(e, why) })
}

// To finds the answer to a failed build: a need on a recipe, or else the argument that
// the source itself names to do without, or else a need on the operating system. It is
// nil where nothing answers.
func To(r *recipe.Recipe, c *diagnose.Cause, e Evidence) *Answer {
	m := For(r, c, e)
	need := func(text string, goesOn bool) *Answer {
		return &Answer{Text: text, GoesOn: goesOn, change: func(e *keyfile.Edit, why string) { e.Append(why + "\n" + text) }}
	}
	switch {
	case m.Recipe != "":
		return need(m.Need().Text(), true)
	case c.Without != "" && !slices.Contains(r.Build.Args, c.Without):
		turnOff, done := turnedOff(r, c.Without)
		says := "# " + done
		if m.Host.Kind != "" {
			says += "\n# Or, with it:\n# " + strings.ReplaceAll(m.HostNeed().Text(), "\n", "\n# ")
		}
		return &Answer{Text: says, GoesOn: true, change: func(e *keyfile.Edit, why string) {
			turnOff(e)
			e.Append(why + "\n" + says)
		}}
	case m.Host.Kind != "":
		return need(m.HostNeed().Text(), m.Here)
	}
	return nil
}

// turnedOff turns off what an argument turns off: an option of the recipe that is
// about it, or else with the argument itself.
func turnedOff(r *recipe.Recipe, argument string) (change func(*keyfile.Edit), done string) {
	about := strings.NewReplacer("--without-", "", "--disable-", "", "-D", "").Replace(argument)
	about, _, _ = strings.Cut(about, "=")
	for _, o := range r.Options {
		if o.Values != nil || o.Default == "off" || !slices.Contains(o.Off, argument) && !strings.EqualFold(o.Name, about) {
			continue
		}
		return func(e *keyfile.Edit) {
			e.SetTable("option."+o.Name, []string{"default", "off"}, map[string]string{"default": "false", "off": keyfile.QuoteList([]string{argument})})
		}, fmt.Sprintf("The option %s is off.", o.Name)
	}
	return func(e *keyfile.Edit) {
		e.SetTable("build", []string{"args"}, map[string]string{"args": keyfile.QuoteList(append(slices.Clone(r.Build.Args), argument))})
	}, fmt.Sprintf("The argument %s is added.", argument)
}
