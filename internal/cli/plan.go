package cli

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"fernladder/core/build"
	"fernladder/core/recipe"
	"fernladder/core/resolve"
	"fernladder/internal/term"
)

func (a *app) planCommand() *cobra.Command {
	var f ladderFlags
	c := &cobra.Command{
		Use:   "plan NAME...",
		Short: "Show the ladder: what would be built, in which order, and why",
		Long: `Works out the ladder for these packages and shows it, lowest rung first.
Packages on the same rung do not stand on each other. Nothing is fetched or built.`,
		Example: `  fernladder plan glasshouse
  fernladder plan mistplan:1.9.4              one version
  fernladder plan 'mistplan:>=1.9, <2'        a range
  fernladder plan mistplan -o plots=off       with an option
  fernladder plan mistplan -o loamdb.shared=off`,
		Args:              atLeastOne,
		ValidArgsFunction: a.completeRecipes,
		RunE: func(c *cobra.Command, args []string) error {
			l, err := a.plan(c.Context(), args, &f)
			if err != nil {
				return err
			}
			return a.showPlan(c.Context(), l)
		},
	}
	a.addLadderFlags(c, &f, false)
	return c
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
	Why      []string          `json:"why"`
	Needs    []plannedNeed     `json:"needs"`
	Tree     string            `json:"tree"`
	Fetched  bool              `json:"fetched"`
	Estimate float64           `json:"estimate_seconds,omitempty"`
}

type plannedNeed struct {
	Name string      `json:"name"`
	Role recipe.Role `json:"role"`
}

func (a *app) showPlan(ctx context.Context, l *ladder) error {
	todo := l.todo()
	if l.store.HasHistory() && len(todo) > 0 {
		history, err := l.store.History(ctx)
		if err != nil {
			return err
		}
		defer history.Close()
		if err := l.estimate(ctx, history); err != nil {
			return l.store.Wrap(err)
		}
	}
	if a.screen.JSON {
		return a.planJSON(ctx, l)
	}
	if len(todo) == 0 {
		a.screen.Print("Everything is installed: %s on %s.", term.Count(len(l.jobs), "package"), term.Count(l.Rungs(), "rung"))
		return nil
	}
	rows := make([][]string, len(l.jobs))
	for i, j := range l.jobs {
		p := j.Package
		rows[i] = []string{fmt.Sprint(p.Rung), a.screen.Strong(p.Name()), j.Version, l.stateText(a.screen, j),
			took(l.estimates[j.Name]), strings.Join(p.Changed(), " "), because(p)}
		if i > 0 && l.jobs[i-1].Package.Rung == p.Rung {
			rows[i][0] = ""
		}
	}
	a.screen.Table([]string{"rung", "package", "version", "state", "took last", "options", "why"}, rows)
	fetch := 0
	for _, j := range todo {
		if !l.workshop.Fetched(ctx, j) {
			fetch++
		}
	}
	a.screen.Print("\n%s on %s: %d to build, %d of them still to fetch.", term.Count(len(l.jobs), "package"), term.Count(l.Rungs(), "rung"), len(todo), fetch)
	if known, total := l.totalEstimate(todo); known == len(todo) {
		a.screen.Print("One after another, the builds took %s the last time.", term.Duration(total))
	}
	return nil
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

func (l *ladder) totalEstimate(todo []*build.Job) (known int, total time.Duration) {
	for _, j := range todo {
		if d := l.estimates[j.Name]; d > 0 {
			known++
			total += d
		}
	}
	return known, total
}

func (a *app) planJSON(ctx context.Context, l *ladder) error {
	planned := make([]plannedPackage, len(l.jobs))
	for i, j := range l.jobs {
		p := j.Package
		planned[i] = plannedPackage{
			Rung: p.Rung, Name: p.Name(), Version: j.Version, ID: j.ID, State: l.state(j), Options: p.Options, Asked: p.Asked,
			Needs: needsOf(p), Tree: j.Tree, Fetched: l.workshop.Fetched(ctx, j), Estimate: l.estimates[j.Name].Seconds(),
		}
		for _, d := range p.Why {
			planned[i].Why = append(planned[i].Why, d.String())
		}
	}
	return a.screen.PrintJSON(map[string]any{"rungs": l.Rungs(), "packages": planned})
}

func needsOf(p *resolve.Package) []plannedNeed {
	needs := []plannedNeed{}
	for _, link := range p.Needs {
		needs = append(needs, plannedNeed{link.Package.Name(), link.Role})
	}
	return needs
}
