package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"fernladder/core/build"
	"fernladder/core/recipe"
	"fernladder/core/resolve"
	"fernladder/internal/term"
)

// planFlags say how a plan is shown.
type planFlags struct {
	ladderFlags
	upgrade, tree, dot, all bool
	why                     string
}

func (a *app) planCommand() *cobra.Command {
	var f planFlags
	c := &cobra.Command{
		Use:   "plan [NAME...]",
		Short: "Show the ladder: what would be built, in which order, and why",
		Long: `Works out the ladder for these packages, or for what is wanted in the settings,
and shows it, lowest rung first. Packages on the same rung do not stand on each
other. Nothing is fetched or built. Times and sizes are those of earlier builds.`,
		Example: `  fernladder plan glasshouse
  fernladder plan mistplan:1.9.4              one version
  fernladder plan 'mistplan:>=1.9, <2'        a range
  fernladder plan mistplan -o plots=off       with an option
  fernladder plan mistplan -o loamdb.shared=off
  fernladder plan glasshouse --why dewcalc    all that leads to a package
  fernladder plan --upgrade                   what an upgrade would do
  fernladder plan glasshouse --dot | dot -Tsvg`,
		ValidArgsFunction: a.completeRecipes,
		RunE: func(c *cobra.Command, args []string) (err error) {
			if err := onlyOne(c, "tree", "dot", "why", "all"); err != nil {
				return err
			}
			if f.upgrade {
				if args, err = a.upgrading(args, &f.ladderFlags); err != nil {
					return err
				}
			}
			l, err := a.plan(c.Context(), args, &f.ladderFlags)
			if err != nil {
				return err
			}
			return a.showPlan(c.Context(), l, &f)
		},
	}
	a.addLadderFlags(c, &f.ladderFlags, false)
	flags := c.Flags()
	flags.BoolVar(&f.locked, "locked", false, "fail where the ladder is not the one in ladder.lock")
	flags.BoolVar(&f.upgrade, "upgrade", false, "plan what fernladder upgrade would do")
	flags.BoolVar(&f.all, "all", false, "show a line for each package, however many there are")
	flags.BoolVar(&f.tree, "tree", false, "show what stands on what, from what is asked for down")
	flags.BoolVar(&f.dot, "dot", false, "print the ladder in the DOT language of graph drawing programs")
	flags.StringVar(&f.why, "why", "", "show why the package `NAME` is on the ladder, and in which version")
	return c
}

func (a *app) showPlan(ctx context.Context, l *ladder, f *planFlags) error {
	if l.store.HasHistory() && len(l.todo()) > 0 {
		history, err := l.store.ReadHistory(ctx)
		if err != nil {
			return err
		}
		defer history.Close()
		if err := l.estimate(ctx, history); err != nil {
			return l.store.Wrap(err)
		}
	}
	switch {
	case f.why != "":
		return a.showWhy(l, f.why)
	case f.dot:
		a.showDot(l)
		return nil
	case a.screen.JSON:
		return a.planJSON(ctx, l)
	case f.tree:
		a.showTree(l)
		return nil
	}
	totals := l.total(ctx)
	if totals.Build == 0 && !f.all {
		a.screen.Print("Everything is installed: %s on %s.", term.Count(len(l.jobs), "package"), term.Count(l.Rungs(), "rung"))
		return nil
	}
	a.planTable(l, f.all)
	a.showTotals(l, totals)
	return nil
}

// Up to manyRows packages have a line each; of more, those that are installed
// are counted and the others named by rung.
const manyRows = 40

func (a *app) planTable(l *ladder, all bool) {
	var rows [][]string
	fold := len(l.jobs) > manyRows && !all
	paragraphs := fold && len(l.todo()) > manyRows
	installed := 0
	shown := 0 // the rung of the row before
	for _, j := range l.jobs {
		p := j.Package
		ordinary := !p.Asked && !p.Apart && len(p.Changed()) == 0
		switch {
		case fold && !l.needed[j]:
			installed++
			continue
		case paragraphs && ordinary && l.estimates[j.Name].Time < time.Minute:
			continue
		}
		rung := ""
		if p.Rung != shown {
			rung, shown = fmt.Sprint(p.Rung), p.Rung
		}
		rows = append(rows, []string{rung, a.screen.Strong(p.Name()), j.Version, l.stateText(a.screen, j),
			took(l.estimates[j.Name].Time), strings.Join(p.Changed(), " "), because(p)})
	}
	if paragraphs {
		a.planRungs(l)
		a.screen.Print("\nOf these, what was asked for, has options set or takes long:")
	}
	a.screen.Table([]string{"rung", "package", "version", "state", "took last", "options", "why"}, rows)
	if installed > 0 {
		a.screen.Print("\n%s more installed already; --all shows them.", term.Count(installed, "package"))
	} else if paragraphs {
		a.screen.Print("\n--all shows a line for each package.")
	}
}

// planRungs names what is to be built, a paragraph for each rung.
func (a *app) planRungs(l *ladder) {
	for rung := range l.Rungs() {
		var names []string
		for _, j := range l.todo() {
			if j.Package.Rung == rung+1 {
				names = append(names, j.Name+" "+j.Version)
			}
		}
		if len(names) > 0 {
			a.screen.Paragraph(fmt.Sprintf("rung %-3d ", rung+1), names)
		}
	}
}

// totals is what a ladder takes, as far as it is known.
type totals struct {
	Build   int           `json:"to_build"`
	Fetch   int           `json:"to_fetch"`
	Bytes   int64         `json:"bytes_to_fetch"` // of those archives whose recipes state it
	Unsized int           `json:"of_unknown_size"`
	Seconds float64       `json:"seconds"` // by the schedule
	Busy    float64       `json:"processor_seconds"`
	Untimed int           `json:"never_built"`
	Trees   int64         `json:"bytes_of_trees"`
	Work    int64         `json:"bytes_of_work"` // if all work directories were there at once
	takes   time.Duration // Seconds
}

func (l *ladder) total(ctx context.Context) totals {
	t := totals{}
	for _, j := range l.todo() {
		t.Build++
		if !l.workshop.Fetched(ctx, j) {
			t.Fetch++
			for _, part := range j.Parts {
				if t.Bytes += part.Size; part.Size == 0 {
					t.Unsized++
				}
			}
		}
		e, known := l.estimates[j.Name]
		if !known {
			t.Untimed++
		}
		t.Trees += e.Size
		t.Work += e.WorkSize
	}
	takes, busy := l.forecast(func(j *build.Job) (time.Duration, bool) { return l.estimates[j.Name].Time, true })
	t.takes, t.Seconds, t.Busy = takes, takes.Seconds(), busy.Seconds()
	return t
}

func (a *app) showTotals(l *ladder, t totals) {
	fetch := ""
	if t.Fetch > 0 {
		fetch = fmt.Sprintf(", %d of them still to fetch", t.Fetch)
		switch {
		case t.Bytes > 0 && t.Unsized > 0:
			fetch += fmt.Sprintf(" (%s and %s of unknown size)", term.Bytes(t.Bytes), term.Count(t.Unsized, "archive"))
		case t.Bytes > 0:
			fetch += fmt.Sprintf(" (%s)", term.Bytes(t.Bytes))
		}
	}
	a.screen.Print("\n%s on %s: %d to build%s.", term.Count(len(l.jobs), "package"), term.Count(l.Rungs(), "rung"), t.Build, fetch)
	unknown := ""
	if t.Untimed > 0 {
		unknown = fmt.Sprintf("; %d of them %s never built here and not counted", t.Untimed, map[bool]string{true: "was", false: "were"}[t.Untimed == 1])
	}
	if t.Untimed < t.Build {
		a.screen.Print("By the last builds: about %s with %s, %s in trees and up to %s in work directories%s.",
			term.Duration(t.takes), term.Count(l.workshop.Jobs, "job slot"), term.Bytes(t.Trees), term.Bytes(t.Work), unknown)
	}
	for _, line := range l.byHost() {
		a.screen.Print("%s", line)
	}
}

// byHost tells which needs the operating system meets.
func (l *ladder) byHost() []string {
	users := map[string][]string{}
	var order []string
	for _, p := range l.Packages {
		for _, h := range p.ByHost {
			if users[h.String()] == nil {
				order = append(order, h.String())
			}
			users[h.String()] = append(users[h.String()], p.Name())
		}
	}
	slices.Sort(order)
	for i, name := range order {
		order[i] = fmt.Sprintf("The operating system's own %s is used by %s.", name, strings.Join(users[name], ", "))
	}
	return order
}

func (l *ladder) state(j *build.Job) string {
	switch {
	case l.needed[j]:
		return "to_build"
	case l.store.Installed(j.Ref):
		return "installed"
	}
	return "not_needed"
}

func (l *ladder) stateText(s *term.Screen, j *build.Job) string {
	switch l.state(j) {
	case "to_build":
		return "to build"
	case "installed":
		return s.Good("installed")
	}
	return s.Faint("not needed") // by anything that is still to be built
}

// plannedPackage is a package of a ladder in JSON.
type plannedPackage struct {
	Rung     int               `json:"rung"`
	Name     string            `json:"name"`
	Version  string            `json:"version"`
	ID       string            `json:"id"`
	State    string            `json:"state"` // installed, to_build or not_needed
	Options  map[string]string `json:"options"`
	Asked    bool              `json:"asked"`
	Kept     bool              `json:"kept"`
	Apart    bool              `json:"apart"`
	Why      []string          `json:"why"`
	Needs    []plannedNeed     `json:"needs"`
	ByHost   []string          `json:"by_host,omitempty"`
	Tree     string            `json:"tree"`
	Fetched  bool              `json:"fetched"`
	Estimate float64           `json:"estimate_seconds,omitempty"`
}

type plannedNeed struct {
	Name string      `json:"name"`
	ID   string      `json:"id"`
	Role recipe.Role `json:"role"`
}

func (a *app) planJSON(ctx context.Context, l *ladder) error {
	planned := make([]plannedPackage, len(l.jobs))
	for i, j := range l.jobs {
		p := j.Package
		planned[i] = plannedPackage{
			Rung: p.Rung, Name: p.Name(), Version: j.Version, ID: j.ID, State: l.state(j), Options: p.Options, Asked: p.Asked, Kept: p.Kept, Apart: p.Apart,
			Needs: []plannedNeed{}, Tree: j.Tree, Fetched: l.workshop.Fetched(ctx, j), Estimate: l.estimates[j.Name].Time.Seconds(),
		}
		for k, need := range j.Needs {
			planned[i].Needs = append(planned[i].Needs, plannedNeed{need.Name, need.ID, p.Needs[k].Role})
		}
		for _, d := range p.Why {
			planned[i].Why = append(planned[i].Why, d.String())
		}
		for _, h := range p.ByHost {
			planned[i].ByHost = append(planned[i].ByHost, h.String())
		}
	}
	return a.screen.PrintJSON(map[string]any{"rungs": l.Rungs(), "packages": planned, "totals": l.total(ctx)})
}

// because says in a few words why a package is on the ladder.
func because(p *resolve.Package) string {
	if p.Asked {
		return "asked for"
	}
	byRole := map[recipe.Role][]string{}
	for _, d := range p.Why {
		byRole[d.Role] = append(byRole[d.Role], d.By.Name())
	}
	words := map[recipe.Role]string{recipe.Tool: "tool for ", recipe.Library: "library of ", recipe.Runtime: "runs with "}
	if p.Apart {
		words[recipe.Tool] = "tool only for "
	}
	var reasons []string
	for _, role := range []recipe.Role{recipe.Tool, recipe.Library, recipe.Runtime} {
		names := byRole[role]
		slices.Sort(names)
		names = slices.Compact(names)
		const few = 4
		if len(names) > few+1 {
			names = append(names[:few], fmt.Sprintf("%d more", len(names)-few))
		}
		if len(names) > 0 {
			reasons = append(reasons, words[role]+strings.Join(names, ", "))
		}
	}
	return strings.Join(reasons, "; ")
}

func took(d time.Duration) string {
	if d == 0 {
		return ""
	}
	return term.Duration(d)
}
