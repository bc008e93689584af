package session

import (
	"context"
	"slices"

	"fernladder/core/buildfile"
	"fernladder/core/plan"
	"fernladder/core/store"
)

// OptionsReport is the options of a package and what decided each.
type OptionsReport struct {
	Name    string           `json:"name"`
	Version string           `json:"version"`
	Recipe  string           `json:"recipe"` // its file
	Options []ReportedOption `json:"options"`
	Problem string           `json:"problem,omitempty"` // that these values have no solution

	Choosing *plan.Choosing `json:"-"`
	Rows     []*plan.Row    `json:"-"` // of the options
}

// A ReportedOption is an option of a package.
type ReportedOption struct {
	Name    string      `json:"name"`
	About   string      `json:"about"`
	Group   string      `json:"group,omitempty"`
	Value   string      `json:"value"`
	Default string      `json:"default"`
	Why     plan.Why    `json:"why"`
	By      string      `json:"by,omitempty"`
	Choices []string    `json:"choices,omitempty"`
	Takes   string      `json:"takes,omitempty"`
	Can     string      `json:"can_be"`
	Adds    []plan.Adds `json:"adds"`
	Implied bool        `json:"of_the_method,omitempty"`
}

// Options returns the options of the one package that is asked for; with changed, only those that
// do not have their defaults.
func (s *Session) Options(ctx context.Context, ask plan.Ask, changed bool) (*OptionsReport, error) {
	c, err := plan.Open(ctx, s.Machine, ask)
	if err != nil {
		return nil, err
	}
	report := &OptionsReport{Name: c.Recipe.Name, Version: c.Release.Version.String(), Recipe: c.Recipe.File,
		Options: []ReportedOption{}, Choosing: c}
	if c.Problem != nil {
		report.Problem = c.Problem.Error()
	}
	for _, r := range c.Rows() {
		if !changed || r.Changed() {
			report.Rows = append(report.Rows, r)
			report.Options = append(report.Options, ReportedOption{r.Name, r.About, r.Group, r.Value, r.Usual, r.Why, r.By,
				r.Choices(), string(r.Takes), r.Can(), append([]plan.Adds{}, c.Adds(r)...), r.Implied})
		}
	}
	return report, nil
}

// OptionsSinceReport is how the options of a release differ from those of another.
type OptionsSinceReport struct {
	Name     string          `json:"name"`
	Version  string          `json:"version"`
	Since    string          `json:"since"`
	Came     []OptionCame    `json:"came"`
	Went     []OptionCame    `json:"went"`
	Defaults []OptionDefault `json:"defaults"`
}

// An OptionCame is an option that only one of two releases has.
type OptionCame struct {
	Name    string `json:"name"`
	About   string `json:"about"`
	Default string `json:"default"`
}

// An OptionDefault is an option whose default differs between two releases.
type OptionDefault struct {
	Name  string `json:"name"`
	From  string `json:"from"`
	To    string `json:"to"`
	About string `json:"-"`
}

// OptionsSince compares the options of the one package that is asked for with those of another
// release.
func (s *Session) OptionsSince(ctx context.Context, ask plan.Ask, since string) (*OptionsSinceReport, error) {
	c, err := plan.Open(ctx, s.Machine, ask)
	if err != nil {
		return nil, err
	}
	against, err := c.Since(since)
	if err != nil {
		return nil, err
	}
	report := &OptionsSinceReport{Name: c.Recipe.Name, Version: c.Release.Version.String(), Since: since,
		Came: []OptionCame{}, Went: []OptionCame{}, Defaults: []OptionDefault{}}
	for _, r := range against.Came {
		report.Came = append(report.Came, OptionCame{r.Name, r.About, r.Usual})
	}
	for _, u := range against.Went {
		report.Went = append(report.Went, OptionCame{u.Option, u.About, u.Default})
	}
	for _, d := range against.Defaults {
		report.Defaults = append(report.Defaults, OptionDefault{d.Option, d.From, d.To, c.Row(d.Option).About})
	}
	return report, nil
}

// OptionsBuiltReport is what an existing build was made with, and what its source found.
type OptionsBuiltReport struct {
	Name     string            `json:"name"`
	Version  string            `json:"version"`
	ID       string            `json:"id"`
	Preset   string            `json:"preset"`
	Options  map[string]string `json:"options"`
	Chosen   map[string]string `json:"chosen"`
	Features []store.Feature   `json:"features"`

	Receipt *store.Receipt    `json:"-"`
	Shelf   map[string]string `json:"-"` // recipes that it does not need, by missing features
}

// OptionsBuilt returns what an existing build was made with.
func (s *Session) OptionsBuilt(name string) (*OptionsBuiltReport, error) {
	r, err := s.Find(name)
	if err != nil {
		return nil, err
	}
	report := &OptionsBuiltReport{Name: r.Name, Version: r.Version, ID: r.ID, Preset: r.Preset, Options: r.Options,
		Chosen: r.Chosen, Features: append([]store.Feature{}, r.Features...), Receipt: r, Shelf: map[string]string{}}
	names, err := s.Shelves.Names()
	if err != nil {
		return report, nil // the features are as they are
	}
	for _, f := range r.Features {
		i := slices.IndexFunc(names, func(name string) bool {
			needed := slices.ContainsFunc(r.Needs, func(n store.Link) bool { return n.Name == name })
			return f.Lacks != "" && name != r.Name && !needed && buildfile.Stem(name) == buildfile.Stem(f.Lacks)
		})
		if i >= 0 {
			report.Shelf[f.Lacks] = names[i]
		}
	}
	return report, nil
}
