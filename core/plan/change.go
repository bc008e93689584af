package plan

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"

	"fernladder/core/machine"
	"fernladder/core/problem"
	"fernladder/core/recipe"
	"fernladder/core/resolve"
	"fernladder/core/settings"
)

// Set gives an option a value. If the value is invalid, nothing changes.
func (c *Choosing) Set(option, value string) error {
	r := c.Row(option)
	if r == nil {
		return problem.New(problem.Usage, option, "%s cannot be %q; %s %s has no such option", option, value, c.Recipe.Name,
			c.Release.Version)
	}
	value = r.Option.Value(value)
	if err := r.CheckValue(value); err != nil {
		return problem.New(problem.Usage, option, "%s cannot be %q; %v", option, value, err)
	}
	if value != r.Value {
		c.undo = append(c.undo, Change{option, r.Value, value})
		r.put(value)
	}
	return nil
}

func (r *Row) put(value string) {
	r.Value, r.Why, r.By = value, Chosen, ""
	if value == r.was.value {
		r.Why, r.By = r.was.why, r.was.by
	}
}

// Undo takes back the last change. It returns the option, or "" if there is none.
func (c *Choosing) Undo() string {
	if len(c.undo) == 0 {
		return ""
	}
	last := c.undo[len(c.undo)-1]
	c.undo = c.undo[:len(c.undo)-1]
	c.Row(last.Option).put(last.From)
	return last.Option
}

// Changes are the options that have changed since this was opened.
func (c *Choosing) Changes() []Change {
	var all []Change
	for _, r := range c.rows {
		if r.Touched() {
			all = append(all, Change{r.Name, r.was.value, r.Value})
		}
	}
	return all
}

// Arguments are the command-line arguments for this choice: the package, with its range, and -o
// for each changed option.
func (c *Choosing) Arguments() []string {
	args := slices.Clone(c.ask.Names)
	for _, preset := range c.ask.Presets {
		args = append(args, "--preset", preset)
	}
	for _, o := range c.ask.Options {
		args = append(args, "-o", o)
	}
	for _, change := range c.Changes() {
		args = append(args, "-o", change.Option+"="+change.To)
	}
	return args
}

// errNoSettings is the error of Keep without a settings file.
var errNoSettings = errors.New("there are no settings to keep it in")

// Keep writes the changed options into the settings, as those with which the package is wanted
// on this machine. It reads the recipe and the settings again, and keeps what others have
// written there meanwhile; it is an error if that is not possible. It returns whether the
// package was not wanted before.
func (c *Choosing) Keep(ctx context.Context) (added bool, err error) {
	m := c.machine
	if m.Settings.File == "" {
		return false, errNoSettings
	}
	if err := m.Store.Prepare(); err != nil {
		return false, err
	}
	unlock, err := m.Store.LockFile(ctx, m.Settings.File)
	if err != nil {
		return false, err
	}
	defer unlock()
	now, err := settings.Read(m.Settings.File, m.Place)
	if err != nil {
		return false, err
	}
	again, err := recipe.Read(c.Recipe.Dir, filepath.Dir(c.Recipe.File))
	if err != nil {
		return false, err
	}
	again.Imply(now.Defaults)
	var choices []settings.Choice
	for _, change := range c.Changes() {
		o := again.Option(change.Option)
		if o == nil || o.CheckValue(change.To) != nil {
			return false, problem.New(problem.Other, change.Option,
				"the recipe changed in the meantime: %s can no longer be %q (%s)", change.Option, change.To, again.File)
		}
		if before, after := wantedOption(m.Settings, c.Recipe.Name, change.Option),
			wantedOption(now, c.Recipe.Name, change.Option); before != after {
			return false, problem.New(problem.Other, change.Option, "the settings changed in the meantime: %s is now %s (%s)",
				change.Option, orNothing(after), m.Place.Shown(m.Settings.File))
		}
		choices = append(choices, settings.Choice{Option: change.Option, Value: o.TOML(change.To)})
	}
	if len(choices) == 0 {
		return false, nil
	}
	added = !slices.ContainsFunc(now.Wanted, func(w *settings.Wanted) bool { return w.Name == c.Recipe.Name })
	return added, settings.Want(m.Settings.File, m.Place, c.Recipe.Name, choices)
}

func wantedOption(s settings.Settings, name, option string) string {
	for _, w := range s.Wanted {
		for _, o := range w.Options {
			if w.Name == name && o.Name == option {
				return "=" + o.Values[0]
			}
		}
	}
	return ""
}

func orNothing(value string) string {
	if value == "" {
		return "not set"
	}
	return value[1:]
}

// versions identify the contents of the files that a choice depends on.
type versions map[string]string

func versionsOf(c *Choosing) versions {
	v := versions{}
	for _, file := range []string{filepath.Join(c.Recipe.Dir, recipe.FileName), c.machine.Settings.File} {
		if info, err := os.Stat(file); err == nil {
			v[file] = fmt.Sprint(info.ModTime().UnixNano(), info.Size())
		}
	}
	return v
}

// Stale reports whether the recipe or the settings have changed since this was opened.
func (c *Choosing) Stale() bool {
	now := versionsOf(c)
	for file, was := range c.read {
		if now[file] != was {
			return true
		}
	}
	return len(now) != len(c.read)
}

// Again opens the same choice again, with the changes so far that are still possible. It returns
// the others.
func (c *Choosing) Again(ctx context.Context, m *machine.Machine) (*Choosing, []Change, error) {
	again, err := Open(ctx, m, c.ask)
	if err != nil {
		return nil, nil, err
	}
	var lost []Change
	for _, change := range c.Changes() {
		if again.Set(change.Option, change.To) != nil {
			lost = append(lost, change)
		}
	}
	return again, lost, nil
}

// settingsNow are the request's options with those chosen here.
func (c *Choosing) settingsNow() []resolve.Setting {
	options := slices.DeleteFunc(slices.Clone(c.facts.Request.Options), func(s resolve.Setting) bool {
		return s.Package == c.Recipe.Name && c.Row(s.Option) != nil && c.Row(s.Option).Touched()
	})
	for _, change := range c.Changes() {
		options = append(options, resolve.Setting{Package: c.Recipe.Name, Option: change.Option, Value: change.To})
	}
	return options
}
