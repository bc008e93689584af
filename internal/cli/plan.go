package cli

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"fernladder/core/build"
	"fernladder/core/plan"
	"fernladder/core/recipe"
	"fernladder/core/resolve"
	"fernladder/core/session"
	"fernladder/internal/term"
)

// planFlags say how a plan is shown.
type planFlags struct {
	ask            plan.Ask
	tree, dot, all bool
	why, draw      string
}

func (a *app) planCommand() *cobra.Command {
	var f planFlags
	c := &cobra.Command{
		Use:   "plan [NAME...]",
		Short: "Show the ladder: what would be built, in which order, and why",
		Long: `Works out the ladder for these packages, or for what the settings want, and shows it,
lowest rung first. Packages on the same rung do not depend on each other. Nothing is
fetched or built. Times and sizes are those of earlier builds.`,
		Example: `  fernladder plan glasshouse
  fernladder plan mistplan:1.9.4              one version
  fernladder plan 'mistplan:>=1.9, <2'        a range
  fernladder plan mistplan -o plots=off       with an option
  fernladder plan mistplan -o loamdb.shared=off
  fernladder plan glasshouse --why dewcalc    all that leads to a package
  fernladder plan --upgrade                   what an upgrade would do
  fernladder plan glasshouse --draw ladder.svg`,
		ValidArgsFunction: a.completeRecipes,
		RunE: func(c *cobra.Command, args []string) error {
			if err := onlyOne(c, "tree", "dot", "why", "all", "cluster", "draw"); err != nil {
				return err
			}
			s, err := a.open()
			if err != nil {
				return err
			}
			request := a.ladder(with(&f.ask, args))
			if f.ask.Cluster {
				jobs, err := s.Jobs(c.Context(), request)
				if err != nil {
					return newHelper(s.Machine).with(err)
				}
				return a.answer(jobs, func() { a.showJobs(jobs) })
			}
			r, err := s.Plan(c.Context(), request)
			if err != nil {
				return err
			}
			if f.draw != "" {
				return a.drawn(r, f.draw, s.DrawPlan(c.Context(), r, f.draw))
			}
			return a.showPlan(r, &f)
		},
	}
	a.addLadderFlags(c, &f.ask, false)
	addPrefixFlags(c, &f.ask)
	flags := c.Flags()
	flags.BoolVar(&f.ask.Cluster, "cluster", false,
		"show the jobs that would be submitted to the cluster's batch scheduler")
	flags.BoolVar(&f.ask.Locked, "locked", false, "fail if the ladder differs from ladder.lock")
	flags.BoolVar(&f.ask.Upgrade, "upgrade", false, "plan what fernladder upgrade would do")
	flags.BoolVar(&f.all, "all", false, "show a line for each package, however many there are")
	flags.BoolVar(&f.tree, "tree", false, "show dependencies as a tree, from the requested packages down")
	flags.BoolVar(&f.dot, "dot", false, "print the ladder in the DOT language")
	flags.StringVar(&f.draw, "draw", "", "draw the ladder into `FILE`: a name that ends in .svg, .png or .html")
	flags.StringVar(&f.why, "why", "", "show why the package `NAME` is on the ladder, and in which version")
	return c
}

func (a *app) showPlan(r *session.PlanReport, f *planFlags) error {
	l := r.Ladder.Plan
	switch {
	case f.why != "":
		return a.showWhy(l, f.why)
	case f.dot:
		a.showDot(l)
		return nil
	case a.screen.JSON:
		return a.screen.PrintJSON(r)
	case f.tree:
		a.showTree(l)
		return nil
	}
	if r.Totals.Build+r.Totals.Take > 0 || f.all {
		a.planTable(l, f.all)
		a.showTotals(l, r.Totals)
	} else {
		a.screen.Print("Everything is built: %s on %s.", term.Count(len(l.Jobs), "package"), term.Count(r.Rungs, "rung"))
	}
	a.showLanding(r)
	a.showNotice(r.Holes)
	return nil
}

// drawn says that a picture was written, or prints the report that it shows.
func (a *app) drawn(report any, file string, err error) error {
	if err != nil {
		return err
	}
	return a.answer(report, func() { a.screen.Print("%s is drawn.", file) })
}

// showJobs shows what --cluster would submit.
func (a *app) showJobs(r *session.JobsReport) {
	if len(r.Jobs) == 0 {
		a.screen.Print("Nothing to build: no job would be submitted.")
		return
	}
	var rows [][]string
	for _, j := range r.Jobs {
		var after []string
		for _, need := range j.After {
			after = append(after, need.Name)
		}
		var builds []string
		for _, b := range j.Builds {
			builds = append(builds, a.screen.Strong(b.Name)+" "+b.Version)
		}
		rows = append(rows, []string{strings.Join(builds, ", "), fmt.Sprint(j.Processors), fmt.Sprintf("%d MiB", j.Memory),
			fmt.Sprint(j.Minutes), strings.Join(after, ", ")})
	}
	a.screen.Table([]string{"job", "processors", "memory", "minutes", "after"}, rows)
	expected := ""
	if r.Seconds > 0 {
		expected = fmt.Sprintf(" By the last builds, on idle nodes: about %s.", seconds(r.Seconds))
	}
	a.screen.Print("\n%s would be submitted to %s.%s", term.Count(len(r.Jobs), "job"),
		a.session.Settings.Cluster.Scheduler, expected)
}

// showLanding tells what an install of the plan changes on the landing.
func (a *app) showLanding(r *session.PlanReport) {
	p := r.Ladder.Plan
	lines := a.changes(p, p.Before.Members, p.After)
	switch {
	case p.Clash != nil:
		a.screen.Print("It cannot be installed: %v", p.Clash)
	case len(lines) > 0:
		a.screen.Print("An install changes on the landing:\n  %s", strings.Join(lines, "\n  "))
	case p.Ask.Prefix != "":
		a.screen.Print("Nothing is put into %s or on the landing.", p.Ask.Prefix)
	default:
		a.screen.Print("It is already on the landing.")
	}
	if !p.Ask.Upgrade {
		a.newer(p)
		return
	}
	a.showSteps(r.Steps)
}

// Up to manyRows packages have a line each; of more, those that are built
// are counted and the others named by rung.
const manyRows = 40

func (a *app) planTable(l *plan.Plan, all bool) {
	var rows [][]string
	fold := len(l.Jobs) > manyRows && !all
	paragraphs := fold && len(l.Todo()) > manyRows
	installed := 0
	shown := 0 // the rung of the row before
	for _, j := range l.Jobs {
		p := j.Package
		ordinary := !p.Asked && !p.Apart && len(p.Changed()) == 0
		switch {
		case fold && !l.Needed[j]:
			installed++
			continue
		case paragraphs && ordinary && l.Estimates[j.Ref].Time < time.Minute:
			continue
		}
		rung := ""
		if p.Rung != shown {
			rung, shown = fmt.Sprint(p.Rung), p.Rung
		}
		away := ""
		if j.Away() {
			away = j.Prefix
		}
		rows = append(rows, []string{rung, a.screen.Strong(p.Name()), j.Version, stateText(a.screen, l, j),
			took(l.Estimates[j.Ref].Time), away, strings.Join(p.Changed(), " "), because(p)})
	}
	if paragraphs {
		a.planRungs(l)
		a.screen.Print("\nOf these, the requested ones and those with options or long builds:")
	}
	a.screen.Table([]string{"rung", "package", "version", "state", "took last", "for", "options", "why"}, rows)
	if installed > 0 {
		a.screen.Print("\n%s more are already built; --all shows them.", term.Count(installed, "package"))
	} else if paragraphs {
		a.screen.Print("\n--all shows a line for each package.")
	}
}

// planRungs names what is to be built, a paragraph for each rung.
func (a *app) planRungs(l *plan.Plan) {
	for rung := range l.Rungs() {
		var names []string
		for _, j := range l.Todo() {
			if j.Package.Rung == rung+1 {
				names = append(names, j.Name+" "+j.Version)
			}
		}
		if len(names) > 0 {
			a.screen.Paragraph(fmt.Sprintf("rung %-3d ", rung+1), names)
		}
	}
}

func (a *app) showTotals(l *plan.Plan, t plan.Totals) {
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
	taken := ""
	if t.Take > 0 {
		taken = fmt.Sprintf(", %d to fetch from depots (%s)", t.Take, term.Bytes(t.Brought))
	}
	a.screen.Print("\n%s on %s: %d to build%s%s.", term.Count(len(l.Jobs), "package"), term.Count(l.Rungs(), "rung"),
		t.Build, fetch, taken)
	unknown := ""
	if t.Untimed > 0 {
		unknown = fmt.Sprintf(", without %d that were never built here", t.Untimed)
	}
	if t.Untimed < t.Build {
		a.screen.Print("By the last builds: about %s with %s, %s in trees and up to %s in work directories%s.",
			seconds(t.Seconds), term.Count(l.Slots, "job slot"), term.Bytes(t.Trees), term.Bytes(t.Work), unknown)
	}
	for _, line := range byHost(l) {
		a.screen.Print("%s", line)
	}
}

// byHost tells which needs the operating system meets.
func byHost(l *plan.Plan) []string {
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

func stateText(s *term.Screen, p *plan.Plan, j *build.Job) string {
	switch p.State(j) {
	case plan.ToBuild:
		return "to build"
	case plan.ToTake:
		return fromDepot(j.From[0])
	case plan.Built:
		return s.Good("built")
	}
	return s.Faint("not needed")
}

// because says in a few words why a package is on the ladder.
func because(p *resolve.Package) string {
	if p.Asked {
		return "requested"
	}
	byRole := map[recipe.Role][]string{}
	for _, d := range p.Why {
		of := d.By.Name()
		if len(d.Or) > 0 {
			of += " (or " + strings.Join(d.Or, " or ") + ")"
		}
		byRole[d.Role] = append(byRole[d.Role], of)
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
