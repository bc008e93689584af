package cli

import (
	"context"

	"fernladder/core/problem"

	"fernladder/core/install"
	"fernladder/core/plan"
	"fernladder/internal/term"
)

func isAnd(names []string) string {
	text := names[0]
	for i, name := range names[1:] {
		text += map[bool]string{true: " and ", false: ", "}[i == len(names)-2] + name
	}
	return text
}

// prove builds what is named a second time and compares.
func (a *app) prove(ctx context.Context, ask plan.Ask) error {
	m, p, err := a.built(ctx, ask)
	if err != nil {
		return err
	}
	all, err := install.Prove(ctx, m, p)
	if err := a.failed(m, err); err != nil {
		return err
	}
	if a.screen.JSON {
		if err := a.screen.PrintJSON(all); err != nil {
			return err
		}
	}
	var failed []string
	for _, p := range all {
		if len(p.Differences) > 0 {
			failed = append(failed, p.Name)
		}
		if !a.screen.JSON {
			a.showProven(p)
		}
	}
	if len(failed) > 0 {
		return problem.New(problem.Other, failed[0], "%s came out differently the second time", isAnd(failed))
	}
	return nil
}

func (a *app) showProven(p install.Proven) {
	if len(p.Differences) == 0 {
		a.screen.Print("%s %s comes out the same when it is built in another directory.", a.screen.Strong(p.Name), p.Version)
		return
	}
	a.screen.Print("%s %s: %s differ:", a.screen.Strong(p.Name), p.Version, term.Count(len(p.Differences), "file"))
	for _, d := range p.Differences {
		a.screen.Print("    %s", d)
	}
}
