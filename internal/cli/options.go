package cli

import (
	"context"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"fernladder/core/buildfile"
	"fernladder/core/plan"
	"fernladder/core/recipe"
	"fernladder/core/session"
	"fernladder/core/store"
	"fernladder/internal/term"
)

// optionsFlags say what of a package's options is shown.
type optionsFlags struct {
	ask            plan.Ask
	changed, built bool
	since          string
}

func (a *app) optionsCommand() *cobra.Command {
	var f optionsFlags
	c := &cobra.Command{
		Use:   "options NAME",
		Short: "Show the options of a package, or choose them on a screen",
		Long: `Shows the options of a package: the value of each and its reason, the other values, and
what they add to the ladder. On a terminal they are chosen on a screen, which shows what a
choice means; nothing is written unless requested. With --plain, or if the output is a
file or a pipe, they are printed.`,
		Example: `  fernladder options mistplan
  fernladder options mistplan --changed       what is changed from default
  fernladder options mistplan:2.1.0 --since 1.9.4
  fernladder options mistplan --built         what the last build was made with, and found
  fernladder options mistplan --plain | less`,
		Args:              a.exactlyOne,
		ValidArgsFunction: a.completeRecipes,
		RunE: func(c *cobra.Command, args []string) error {
			if err := onlyOne(c, "changed", "built", "since"); err != nil {
				return err
			}
			if f.built {
				return a.optionsBuilt(args[0])
			}
			return a.options(c.Context(), with(&f.ask, args), f)
		},
	}
	a.addLadderFlags(c, &f.ask, false)
	c.Flags().BoolVar(&f.changed, "changed", false, "only those that differ from the default")
	c.Flags().BoolVar(&f.built, "built", false,
		"those of the existing build, and the features that its source was configured with and without")
	c.Flags().StringVar(&f.since, "since", "",
		"options that were added, removed or have another default since the release `VERSION`")
	return c
}

func (a *app) options(ctx context.Context, ask plan.Ask, f optionsFlags) error {
	m, err := a.open()
	if err != nil {
		return err
	}
	if !a.screen.JSON && !f.changed && f.since == "" && a.screen.Drawable(os.Stdin) {
		if glance, seen := plan.Glance(m.Machine, ask); seen {
			return a.choose(ctx, m.Machine, ask, glance)
		}
	}
	if f.since != "" {
		return a.optionsSince(ctx, ask, f.since)
	}
	r, err := m.Options(ctx, ask, f.changed)
	if err != nil {
		return err
	}
	return a.answer(r, func() { a.optionsTable(r) })
}

func (a *app) optionsTable(o *session.OptionsReport) {
	c := o.Choosing
	a.screen.Print("%s %s, %s", a.screen.Strong(o.Name), o.Version, o.Recipe)
	switch {
	case len(c.Rows()) == 0:
		a.screen.Print("It has no options.")
		return
	case len(o.Rows) == 0:
		a.screen.Print("All of its %s have their defaults.", term.Count(len(c.Rows()), "option"))
		return
	}
	a.screen.Print("")
	var lines [][]string
	for _, group := range plan.Groups(o.Rows) {
		if group.Name != "" {
			lines = append(lines, []string{a.screen.Strong(group.Name), "", "", "", "", ""})
		}
		for _, r := range group.Rows {
			lines = append(lines, []string{"  " + r.Name, a.valueText(r), otherwise(r), whyText(r), addsText(c, r),
				term.OneLine(r.About)})
		}
	}
	a.screen.Table([]string{"option", "is", "can be", "why", "adds", "what it is"}, lines)
	if c.Problem != nil {
		a.screen.Print("\nThese options have no solution: %v", c.Problem)
	}
}

// valueText is what an option is, so that what is changed from default is seen.
func (a *app) valueText(r *plan.Row) string {
	text := orDefault(term.OneLine(r.Value), "–")
	if r.Changed() {
		return a.screen.Strong(text)
	}
	return text
}

// otherwise is what an option could be instead.
func otherwise(r *plan.Row) string {
	if r.Takes != "" {
		return r.Can()
	}
	return strings.Join(slices.DeleteFunc(slices.Clone(r.Choices()), func(v string) bool { return v == r.Value }), ", ")
}

func whyText(r *plan.Row) string {
	text := map[plan.Why]string{plan.Default: "", plan.Asked: "requested", plan.Settings: "settings",
		plan.Locked: "locked", plan.Installed: "as installed",
		plan.Demanded: "demanded by", plan.Chosen: "chosen"}[r.Why]
	if r.By == "" {
		return text
	}
	return text + " " + r.By
}

// addsText is what values of an option add to the ladder, those of on without saying so.
func addsText(c *plan.Choosing, r *plan.Row) string {
	var texts []string
	for _, adds := range c.Adds(r) {
		all := slices.Clone(adds.Needs)
		for _, h := range adds.Host {
			all = append(all, h+" of the system")
		}
		text := strings.Join(all, ", ")
		if adds.Value != "on" && r.Takes == "" {
			text = adds.Value + ": " + text
		}
		texts = append(texts, text)
	}
	return strings.Join(texts, "; ")
}

func (a *app) optionsSince(ctx context.Context, ask plan.Ask, since string) error {
	s, err := a.session.OptionsSince(ctx, ask, since)
	if err != nil {
		return err
	}
	return a.answer(s, func() { a.sinceTable(s) })
}

func (a *app) sinceTable(s *session.OptionsSinceReport) {
	var rows [][]string
	for _, r := range s.Came {
		rows = append(rows, []string{"+", r.Name, "", orDefault(r.Default, "–"), term.OneLine(r.About)})
	}
	for _, r := range s.Went {
		rows = append(rows, []string{"-", r.Name, orDefault(r.Default, "–"), "", term.OneLine(r.About)})
	}
	for _, d := range s.Defaults {
		rows = append(rows, []string{"~", d.Name, orDefault(d.From, "–"), orDefault(d.To, "–"), term.OneLine(d.About)})
	}
	if len(rows) == 0 {
		a.screen.Print("%s %s has the options of %s, with the same defaults.", s.Name, s.Version, s.Since)
		return
	}
	a.screen.Print("%s %s, against %s: %d came (+), %d went (-), %d with another default (~).\n",
		a.screen.Strong(s.Name), s.Version, s.Since, len(s.Came), len(s.Went), len(s.Defaults))
	a.screen.Table([]string{"", "option", "in " + s.Since, "in " + s.Version, "what it is"}, rows)
}

// optionsBuilt shows what a build was made with, and what its source found.
func (a *app) optionsBuilt(name string) error {
	s, err := a.open()
	if err != nil {
		return err
	}
	o, err := s.OptionsBuilt(name)
	if err != nil {
		return err
	}
	return a.answer(o, func() {
		a.builtTable(o.Receipt)
		a.showFeatures(o)
	})
}

func (a *app) builtTable(r *store.Receipt) {
	preset := r.Preset
	if preset != "" {
		preset = ", preset " + preset
	}
	a.screen.Print("%s %s (%s)%s, built with", a.screen.Strong(r.Name), r.Version, r.ID, preset)
	var rows [][]string
	for _, text := range optionTexts(r) {
		option, value, _ := strings.Cut(text, "=")
		chosen := ""
		if _, is := r.Chosen[option]; is {
			chosen = "chosen"
		}
		rows = append(rows, []string{option, orDefault(value, "–"), chosen})
	}
	if len(rows) == 0 {
		a.screen.Print("no options")
	} else {
		a.screen.Table([]string{"option", "was", ""}, rows)
	}
}

// showFeatures shows the features that a source said it was configured with and without,
// those that are off without a stated reason first.
func (a *app) showFeatures(o *session.OptionsBuiltReport) {
	r := o.Receipt
	if len(r.Features) == 0 {
		if len(r.Without) > 0 {
			a.screen.Paragraph("\nConfigured without ", r.Without)
			return
		}
		a.screen.Print("\nIts source did not report what it found.")
		return
	}
	features := slices.Clone(r.Features)
	slices.SortStableFunc(features, func(x, y store.Feature) int { return rankOf(x) - rankOf(y) })
	var rows [][]string
	for _, f := range features {
		is, why := a.screen.Good("on"), f.Says
		switch {
		case f.Missed():
			is = a.screen.Bad("off")
			if f.Lacks != "" {
				why = f.Lacks + " not found" + shelfHas(o, f)
			}
		case !f.On:
			is, why = "off", "by an option or an argument"
		}
		rows = append(rows, []string{f.Name, is, why})
	}
	a.screen.Print("\nIts source reported, when it was configured:")
	a.screen.Table([]string{"feature", "is", ""}, rows)
	var offered []string
	for _, f := range store.Missed(features) {
		if name := o.Shelf[f.Lacks]; name != "" && !slices.Contains(offered, name) {
			offered = append(offered, name)
			a.screen.Print("\nTo build it with %s, add to its recipe:\n%s", name,
				indent(recipe.NeedEntry{Recipe: name, Role: recipe.Library}.Text()))
		}
	}
}

func rankOf(f store.Feature) int {
	switch {
	case f.Missed():
		return 0
	case f.On:
		return 1
	}
	return 2
}

// shelfHas says where a recipe on the shelf is called like what a feature lacks.
func shelfHas(o *session.OptionsBuiltReport, f store.Feature) string {
	if i := slices.IndexFunc(o.Receipt.Needs, func(n store.Link) bool {
		return buildfile.Stem(n.Name) == buildfile.Stem(f.Lacks)
	}); i >= 0 {
		return ", though it was built with " + o.Receipt.Needs[i].Name
	}
	if name := o.Shelf[f.Lacks]; name != "" {
		return "; the shelf has " + name + ", which it does not need yet"
	}
	return ""
}
