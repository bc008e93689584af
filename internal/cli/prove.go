package cli

import (
	"context"
	"strings"

	"fernladder/core/install"
	"fernladder/core/plan"
	"fernladder/core/problem"
	"fernladder/internal/term"
)

func isAnd(names []string) string {
	if len(names) == 1 {
		return names[0]
	}
	last := len(names) - 1
	return strings.Join(names[:last], ", ") + " and " + names[last]
}

// prove builds what is named a second time and compares.
func (a *app) prove(ctx context.Context, ask plan.Ask) error {
	s, err := a.open()
	if err != nil {
		return err
	}
	b, all, err := s.Prove(ctx, a.building(ask))
	if all == nil && err != nil {
		return a.told(ctx, b.Ladder, b.Run, err)
	}
	if err := a.failed(err); err != nil {
		return err
	}
	var differ []string
	for _, p := range all {
		if len(p.Differences) > 0 {
			differ = append(differ, p.Name)
		}
	}
	err = a.answer(all, func() {
		for _, p := range all {
			a.showProven(p)
		}
	})
	if err == nil && len(differ) > 0 {
		err = problem.New(problem.Other, differ[0], "%s came out differently the second time", isAnd(differ))
	}
	return err
}

func (a *app) showProven(p install.Proven) {
	if len(p.Differences) == 0 {
		a.screen.Print("%s %s comes out the same when built in another directory.", a.screen.Strong(p.Name), p.Version)
		return
	}
	a.screen.Print("%s %s differs in %s:", a.screen.Strong(p.Name), p.Version, term.Count(len(p.Differences), "file"))
	for _, d := range p.Differences {
		a.screen.Print("    %s", d)
	}
}
