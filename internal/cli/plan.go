package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"fernladder/core/build"
	"fernladder/core/cluster"
	"fernladder/core/landing"
	"fernladder/core/machine"
	"fernladder/core/plan"
	"fernladder/core/recipe"
	"fernladder/core/resolve"
	"fernladder/internal/term"
)

// planFlags say how a plan is shown.
type planFlags struct {
	ask            plan.Ask
	tree, dot, all bool
	why            string
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
		RunE: func(c *cobra.Command, args []string) error {
			if err := onlyOne(c, "tree", "dot", "why", "all", "cluster"); err != nil {
				return err
			}
			m, p, err := a.plan(c.Context(), with(&f.ask, args))
			if err != nil {
				return err
			}
			return a.showPlan(c.Context(), m, p, &f)
		},
	}
	a.addLadderFlags(c, &f.ask, false)
	addPrefixFlags(c, &f.ask)
	flags := c.Flags()
	flags.BoolVar(&f.ask.Cluster, "cluster", false, "show the jobs that would be submitted to the cluster's batch scheduler")
	flags.BoolVar(&f.ask.Locked, "locked", false, "fail where the ladder is not the one in ladder.lock")
	flags.BoolVar(&f.ask.Upgrade, "upgrade", false, "plan what fernladder upgrade would do")
	flags.BoolVar(&f.all, "all", false, "show a line for each package, however many there are")
	flags.BoolVar(&f.tree, "tree", false, "show what stands on what, from what is asked for down")
	flags.BoolVar(&f.dot, "dot", false, "print the ladder in the DOT language of graph drawing programs")
	flags.StringVar(&f.why, "why", "", "show why the package `NAME` is on the ladder, and in which version")
	return c
}

func (a *app) showPlan(ctx context.Context, m *machine.Machine, p *plan.Plan, f *planFlags) error {
	if err := p.Estimate(m); err != nil {
		return err
	}
	switch {
	case f.ask.Cluster:
		return a.showJobs(ctx, m, p)
	case f.why != "":
		return a.showWhy(p, f.why)
	case f.dot:
		a.showDot(p)
		return nil
	case a.screen.JSON:
		return a.planJSON(ctx, m, p)
	case f.tree:
		a.showTree(p)
		return nil
	}
	totals := p.Totals(fetched(ctx, m))
	if totals.Build > 0 || f.all {
		a.planTable(p, f.all)
		a.showTotals(p, totals)
	} else {
		a.screen.Print("Everything is built: %s on %s.", term.Count(len(p.Jobs), "package"), term.Count(p.Rungs(), "rung"))
	}
	return a.showLanding(ctx, m, p)
}

// showJobs shows what --cluster would submit.
func (a *app) showJobs(ctx context.Context, m *machine.Machine, p *plan.Plan) error {
	jobs, takes, err := cluster.Jobs(ctx, m, p)
	if err != nil {
		return newHelper(m).with(err)
	}
	if a.screen.JSON {
		return a.screen.PrintJSON(map[string]any{"jobs": append([]cluster.Submitted{}, jobs...), "seconds": takes})
	}
	if len(jobs) == 0 {
		a.screen.Print("Nothing to build: no job would be submitted.")
		return nil
	}
	var rows [][]string
	for _, j := range jobs {
		var after []string
		for _, need := range j.After {
			after = append(after, need.Name)
		}
		var builds []string
		for _, b := range j.Builds {
			builds = append(builds, a.screen.Strong(b.Name)+" "+b.Version)
		}
		rows = append(rows, []string{strings.Join(builds, ", "), fmt.Sprint(j.Processors), fmt.Sprintf("%d MiB", j.Memory), fmt.Sprint(j.Minutes), strings.Join(after, ", ")})
	}
	a.screen.Table([]string{"job", "processors", "memory", "minutes", "after"}, rows)
	expected := ""
	if takes > 0 {
		expected = fmt.Sprintf(" By the last builds, with nobody else on the nodes: about %s.", seconds(takes))
	}
	a.screen.Print("\n%s would be submitted to %s.%s", term.Count(len(jobs), "job"), m.Settings.Cluster.Scheduler, expected)
	return nil
}

// showLanding tells what an install of the plan changes on the landing.
func (a *app) showLanding(ctx context.Context, m *machine.Machine, p *plan.Plan) error {
	lines := changes(m, p, p.Before.Members, p.After)
	switch {
	case p.Clash != nil:
		a.screen.Print("It cannot be installed: %v", p.Clash)
	case len(lines) > 0:
		a.screen.Print("On the landing, an install changes:\n  %s", strings.Join(lines, "\n  "))
	case p.Ask.Prefix != "":
		a.screen.Print("Nothing is put into %s, nor on the landing.", p.Ask.Prefix)
	default:
		a.screen.Print("It is on the landing already.")
	}
	if !p.Ask.Upgrade {
		a.newer(p)
		return nil
	}
	return a.showSteps(ctx, m, p)
}

// fetched tells whether the sources of a job are here. It looks once: for a commit, a
// program has to be asked.
func fetched(ctx context.Context, m *machine.Machine) func(*build.Job) bool {
	known := map[*build.Job]bool{}
	return func(j *build.Job) bool {
		here, looked := known[j]
		if !looked {
			here = build.Fetched(ctx, m, j)
			known[j] = here
		}
		return here
	}
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
		a.screen.Print("\nOf these, what was asked for, has options set or takes long:")
	}
	a.screen.Table([]string{"rung", "package", "version", "state", "took last", "for", "options", "why"}, rows)
	if installed > 0 {
		a.screen.Print("\n%s more built already; --all shows them.", term.Count(installed, "package"))
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
	a.screen.Print("\n%s on %s: %d to build%s.", term.Count(len(l.Jobs), "package"), term.Count(l.Rungs(), "rung"), t.Build, fetch)
	unknown := ""
	if t.Untimed > 0 {
		unknown = fmt.Sprintf("; %d of them %s never built here and not counted", t.Untimed, map[bool]string{true: "was", false: "were"}[t.Untimed == 1])
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
	case plan.Built:
		return s.Good("built")
	}
	return s.Faint("not needed")
}

// plannedPackage is a package of a ladder in JSON.
type plannedPackage struct {
	Rung     int               `json:"rung"`
	Name     string            `json:"name"`
	Version  string            `json:"version"`
	ID       string            `json:"id"`
	State    string            `json:"state"` // built, to_build or not_needed
	Options  map[string]string `json:"options"`
	Asked    bool              `json:"asked"`
	Kept     bool              `json:"kept"`
	Preset   string            `json:"preset,omitempty"`
	Missed   map[string]string `json:"missed,omitempty"` // options that were chosen earlier, and that the release does not have as they were
	Apart    bool              `json:"apart"`
	Why      []string          `json:"why"`
	Needs    []plannedNeed     `json:"needs"`
	ByHost   []string          `json:"by_host,omitempty"`
	Tree     string            `json:"tree"`
	Prefix   string            `json:"prefix"` // the directory that its files are for: the tree, if it is built for no other
	Fetched  bool              `json:"fetched"`
	Estimate float64           `json:"estimate_seconds,omitempty"`
}

type plannedNeed struct {
	Name string      `json:"name"`
	ID   string      `json:"id"`
	Role recipe.Role `json:"role"`
}

func (a *app) planJSON(ctx context.Context, m *machine.Machine, l *plan.Plan) error {
	planned, fetched := make([]plannedPackage, len(l.Jobs)), fetched(ctx, m)
	for i, j := range l.Jobs {
		p := j.Package
		planned[i] = plannedPackage{
			Rung: p.Rung, Name: p.Name(), Version: j.Version, ID: j.ID, State: l.State(j), Options: p.Options, Asked: p.Asked, Kept: p.Kept, Preset: j.Preset, Missed: missedOf(p), Apart: p.Apart,
			Needs: []plannedNeed{}, Tree: j.Tree, Prefix: j.Prefix, Fetched: fetched(j), Estimate: l.Estimates[j.Ref].Time.Seconds(),
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
	steps, err := l.Steps(m.Store)
	if err != nil {
		return err
	}
	return a.screen.PrintJSON(map[string]any{"steps": append([]plan.Step{}, steps...), "rungs": l.Rungs(), "packages": planned, "totals": l.Totals(fetched), "landing": landing.Compare(l.Before.Members, l.After)})
}

// because says in a few words why a package is on the ladder.
func because(p *resolve.Package) string {
	if p.Asked {
		return "asked for"
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
