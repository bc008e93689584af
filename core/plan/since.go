package plan

import (
	"slices"
	"strings"

	"fernladder/core/problem"
	"fernladder/core/recipe"
	"fernladder/core/version"
)

// Since says how the options of the release differ from those of another.
type Since struct {
	Release  string   // the other
	Came     []*Row   // that the other does not have
	Went     []Usual  // that only the other has
	Defaults []Change // that have other defaults
}

// A Usual is an option of another release, with its default there.
type Usual struct{ Option, About, Default string }

// Since compares the options of the release with those of another one: as in the recipe, or else
// as in an installed build.
func (c *Choosing) Since(text string) (*Since, error) {
	before, err := c.usual(text)
	if err != nil {
		return nil, err
	}
	s := &Since{Release: text}
	has := map[string]bool{}
	for _, r := range c.rows {
		has[r.Name] = true
		i := slices.IndexFunc(before, func(u Usual) bool { return u.Option == r.Name })
		switch {
		case i < 0:
			s.Came = append(s.Came, r)
		case before[i].Default != r.Usual:
			s.Defaults = append(s.Defaults, Change{r.Name, before[i].Default, r.Usual})
		}
	}
	for _, u := range before {
		if !has[u.Option] {
			s.Went = append(s.Went, u)
		}
	}
	return s, nil
}

func (c *Choosing) usual(text string) ([]Usual, error) {
	var there []string
	v, err := version.Parse(text)
	for _, x := range c.Recipe.Releases {
		if x.Track == recipe.Tip {
			continue
		}
		there = append(there, x.Version.String())
		if err != nil || x.Version.Compare(v) != 0 {
			continue
		}
		var all []Usual
		for _, o := range c.Recipe.OptionsOf(recipe.Facts{Version: x.Version, Machine: c.machine.System}) {
			all = append(all, Usual{o.Name, o.About, o.DefaultOf(x)})
		}
		return all, nil
	}
	receipts, failed := c.machine.Store.ReceiptsOf(c.Recipe.Name)
	if failed != nil {
		return nil, failed
	}
	for _, r := range receipts {
		if r.Version != text {
			continue
		}
		var all []Usual
		for name, value := range r.Options {
			u := Usual{Option: name, Default: value}
			if _, chosen := r.Chosen[name]; chosen { // its default at the time is unknown
				if row := c.Row(name); row != nil {
					u.Default = row.Usual
				}
			}
			all = append(all, u)
		}
		slices.SortFunc(all, func(a, b Usual) int { return strings.Compare(a.Option, b.Option) })
		return all, nil
	}
	return nil, problem.New(problem.Usage, c.Recipe.Name, "%s has no release %s, and no build of it is here; it has: %s",
		c.Recipe.Name, text, strings.Join(there, ", "))
}
