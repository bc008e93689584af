package plan

// This file holds the options of one package while a person chooses: the value of each option
// and its reason, the other values and what they add to the ladder, and what all changes mean
// together.
//
// A Choosing is for one goroutine, except for the results of Asking and Ready. Only Keep writes;
// nothing is fetched or built.

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"

	"fernladder/core/build"
	"fernladder/core/host"
	"fernladder/core/lock"
	"fernladder/core/machine"
	"fernladder/core/recipe"
	"fernladder/core/resolve"
)

// A Choosing is the options of one package.
type Choosing struct {
	Recipe  *recipe.Recipe
	Release *recipe.Release
	Problem error // why no ladder fits the request, a *resolve.NoLadder, or nil

	machine *machine.Machine
	ask     Ask
	facts   facts
	before  *Plan            // of the request; nil with a problem
	pkg     *resolve.Package // in it
	rows    []*Row
	undo    []Change
	read    versions

	working sync.Mutex // for one meaning; it guards the following fields
	fetched map[*recipe.Release]bool
	lacked  map[host.Question]bool // by the operating system, for the request; nil: not known yet
}

// Why is the reason for an option's value.
type Why string

// The reasons.
const (
	Default   Why = "default"   // by default
	Asked     Why = "asked"     // with the command
	Settings  Why = "settings"  // the settings say so
	Locked    Why = "locked"    // the lock file says so
	Installed Why = "installed" // it was so in the build that is on the landing
	Demanded  Why = "demanded"  // another package demands it
	Chosen    Why = "chosen"    // here, since this was opened
)

// ofMethod is the heading of the options that a package has by its build method, and that no
// recipe names.
const ofMethod = "Of the build method"

// A Row is an option as it is now.
type Row struct {
	*recipe.Option
	Value string // that it has now
	Usual string // that it has by default in this release
	Why   Why
	By    string // the place, or the recipe that requires it, or ""

	was struct {
		value, by string
		why       Why
	}
}

// Changed reports whether the option differs from its default.
func (r *Row) Changed() bool { return r.Value != r.Usual }

// Touched reports whether it has changed since this was opened.
func (r *Row) Touched() bool { return r.Value != r.was.value }

// A Change is one of an option's values for another.
type Change struct{ Option, From, To string }

// Open reads the options of the one requested package.
func Open(ctx context.Context, m *machine.Machine, ask Ask) (*Choosing, error) {
	c := &Choosing{machine: m, ask: ask, fetched: map[*recipe.Release]bool{}}
	var err error
	if c.facts, err = Gather(ctx, m, ask); err != nil {
		return nil, err
	}
	wanted := c.facts.Request.Wanted[0]
	if c.Recipe, err = m.Shelves.Find(wanted.Name); err != nil {
		return nil, err
	}
	c.read = versionsOf(c)
	c.before, err = Make(ctx, c.facts)
	switch {
	case err == nil:
		c.pkg = c.packageOf(c.before)
		c.Release = c.pkg.Release
	case errors.As(err, new(*resolve.NoLadder)):
		c.Problem = err
		if c.Release = c.newest(wanted); c.Release == nil {
			return nil, err
		}
	default:
		return nil, err
	}
	c.rows = c.look()
	return c, nil
}

// Glance returns the options of the requested package as its recipe has them, until Open is
// ready: it reads one recipe, Open reads everything that it could need. The result is only for
// display, and false if there is nothing to show yet.
func Glance(m *machine.Machine, ask Ask) (*Choosing, bool) {
	c := &Choosing{machine: m, ask: ask}
	wanted, err := resolve.ParseWanted(ask.Names[0])
	if err != nil {
		return nil, false
	}
	if c.Recipe, err = m.Shelves.Find(wanted.Name); err != nil {
		return nil, false
	}
	if c.Release = c.newest(wanted); c.Release == nil {
		return nil, false
	}
	for _, o := range c.Recipe.OptionsOf(recipe.Facts{Version: c.Release.Version, Machine: m.System}) {
		r := &Row{Option: o, Usual: o.DefaultOf(c.Release), Why: Default}
		r.Value, r.was.value, r.was.why = r.Usual, r.Usual, Default
		c.rows = append(c.rows, r)
	}
	return c, len(c.rows) > 0
}

func (c *Choosing) packageOf(p *Plan) *resolve.Package {
	for _, pkg := range p.Packages {
		if pkg.Asked && pkg.Name() == c.Recipe.Name {
			return pkg
		}
	}
	return nil
}

// newest is the newest release that would be wanted if there were a ladder.
func (c *Choosing) newest(w resolve.Wanted) *recipe.Release {
	var newest *recipe.Release
	for _, x := range c.Recipe.Releases {
		if x.Track == recipe.Tip && !w.Tip || !w.Tip && !w.Range.Contains(x.Version) ||
			x.Track == recipe.Preview && !w.Range.Exact() {
			continue
		}
		if newest == nil || x.Version.Compare(newest.Version) > 0 {
			newest = x
		}
	}
	return newest
}

func (c *Choosing) facing(x *recipe.Release) recipe.Facts {
	return recipe.Facts{Version: x.Version, Machine: c.machine.System, Options: c.values()}
}

// Rows are the options of the release, in the order of the recipe, those of its method last.
func (c *Choosing) Rows() []*Row { return c.rows }

// A Group are options under one heading.
type Group struct {
	Name string // "": under none
	Rows []*Row
}

// Groups sorts options under their headings, in the order of the recipe: those without one
// first, those of the method last.
func Groups(rows []*Row) []Group {
	all, last := []Group{{}}, Group{Name: ofMethod}
	for _, r := range rows {
		if r.Implied {
			last.Rows = append(last.Rows, r)
			continue
		}
		i := slices.IndexFunc(all, func(g Group) bool { return g.Name == r.Group })
		if i < 0 {
			i = len(all)
			all = append(all, Group{Name: r.Group})
		}
		all[i].Rows = append(all[i].Rows, r)
	}
	return slices.DeleteFunc(append(all, last), func(g Group) bool { return len(g.Rows) == 0 })
}

// Row returns the option of a name, or nil.
func (c *Choosing) Row(name string) *Row {
	for _, r := range c.rows {
		if r.Name == name {
			return r
		}
	}
	return nil
}

// values are the current values of the options.
func (c *Choosing) values() map[string]string {
	values := map[string]string{}
	for _, r := range c.rows {
		values[r.Name] = r.Value
	}
	return values
}

// look finds the values of the options, and their reasons.
func (c *Choosing) look() []*Row {
	var rows []*Row
	for _, o := range c.Recipe.OptionsOf(recipe.Facts{Version: c.Release.Version, Machine: c.machine.System}) {
		r := &Row{Option: o, Usual: o.DefaultOf(c.Release), Why: Default}
		r.Value = r.Usual
		for _, k := range slices.Backward(c.facts.Request.Kept[c.Recipe.Name]) {
			if value, had := k.Options[o.Name]; had && o.Accepts(value) {
				r.Value = value
			}
		}
		if r.Changed() {
			r.Why = Installed
			if slices.ContainsFunc(c.facts.Lock.Builds, func(b *lock.Build) bool { return b.Name == c.Recipe.Name }) {
				r.Why, r.By = Locked, c.facts.Lock.Shown
			}
		}
		for _, set := range c.facts.Request.Options {
			if set.Package != c.Recipe.Name || set.Option != o.Name {
				continue
			}
			r.Value, r.Why, r.By = set.Value, Asked, ""
			if set.At.Line > 0 {
				r.Why, r.By = Settings, set.At.String()
			}
		}
		if c.pkg != nil {
			r.Value = c.pkg.Options[o.Name]
			c.demanded(r)
		}
		r.was.value, r.was.why, r.was.by = r.Value, r.Why, r.By
		rows = append(rows, r)
	}
	return rows
}

// demanded finds who demands an option's value.
func (c *Choosing) demanded(r *Row) {
	var by []string
	for _, d := range c.pkg.Why {
		for _, o := range d.Options {
			if o.Name == r.Name && d.By != nil {
				by = append(by, fmt.Sprintf("%s (%s)", d.By.Name(), d.At))
			}
		}
	}
	if len(by) > 0 {
		r.Why, r.By = Demanded, strings.Join(by, ", ")
	}
}

// Adds is what a value of an option adds to the ladder that its other values do not.
type Adds struct {
	Value string   `json:"value"`
	Needs []string `json:"needs"` // recipes, with versions and options
	Host  []string `json:"host"`  // needs of the operating system
}

// Adds returns, for each value of an option, what it adds, except for values that add nothing.
// For an open option, it is what any value adds.
func (c *Choosing) Adds(r *Row) []Adds {
	// A need that does not mention the option applies for all its values.
	if !slices.ContainsFunc(c.Recipe.Needs, func(n *recipe.Need) bool { return n.When.Mentions(r.Name) }) &&
		!slices.ContainsFunc(c.Recipe.HostNeeds, func(n *recipe.HostNeed) bool { return n.When.Mentions(r.Name) }) {
		return nil
	}
	values := r.Choices()
	if r.Takes != "" {
		some := r.Value
		if some == "" {
			some = "…"
		}
		values = []string{"", some}
	}
	all := make([]Adds, len(values))
	for i, value := range values {
		all[i] = c.needs(r.Name, value)
	}
	inAll := func(of func(Adds) []string, what string) bool {
		return !slices.ContainsFunc(all, func(a Adds) bool { return !slices.Contains(of(a), what) })
	}
	needs, hosts := func(a Adds) []string { return a.Needs }, func(a Adds) []string { return a.Host }
	var adding []Adds
	for _, a := range all {
		a.Needs = slices.DeleteFunc(slices.Clone(a.Needs), func(what string) bool { return inAll(needs, what) })
		a.Host = slices.DeleteFunc(slices.Clone(a.Host), func(what string) bool { return inAll(hosts, what) })
		if len(a.Needs)+len(a.Host) > 0 {
			adding = append(adding, a)
		}
	}
	return adding
}

// needs are those that apply if an option has a value, and all others are unchanged.
func (c *Choosing) needs(option, value string) Adds {
	facts := c.facing(c.Release)
	facts.Options[option] = value
	a := Adds{Value: value, Needs: []string{}, Host: []string{}}
	for _, n := range c.Recipe.Needs {
		if n.When.Holds(facts) {
			text := strings.Join(n.Names(), " or ")
			if n.Range.String() != "any" {
				text += " " + n.Range.String()
			}
			for i, o := range n.Options {
				if i == 0 {
					text += " with "
				} else {
					text += ", "
				}
				text += o.Name + "=" + o.Values[0]
			}
			if !slices.Contains(a.Needs, text) { // as a library, and to run
				a.Needs = append(a.Needs, text)
			}
		}
	}
	for _, n := range c.Recipe.HostNeeds {
		if n.When.Holds(facts) {
			a.Host = append(a.Host, n.Question().String())
		}
	}
	return a
}

// hostNeeds are all needs that could apply to any package that could come onto the ladder,
// whatever the choice: those of complete recipes, not of effective ones.
func (c *Choosing) hostNeeds() []host.Need {
	var jobs []*build.Job
	for _, r := range resolve.Reach(c.machine.Shelves, c.facts.Request.Wanted) {
		if len(r.Releases) > 0 {
			jobs = append(jobs, &build.Job{Recipe: r, Package: &resolve.Package{Recipe: r, Release: r.Releases[0]},
				Parts: make([]build.Part, 1)})
		}
	}
	return build.HostNeeds(c.machine, jobs)
}
