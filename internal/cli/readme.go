package cli

import (
	"context"

	"fernladder/core/draft"
	"fernladder/core/plan"
)

// readme shows what the source of a recipe says about itself.
func (a *app) readme(ctx context.Context, name string) error {
	m, p, err := a.plan(ctx, plan.Ask{Names: []string{name}})
	if err != nil {
		return err
	}
	part := p.Asked()[0].Parts[0]
	if part.Checkout != nil {
		return usage("the source of %s is a repository; its README is at %s", name, part.Checkout.URL())
	}
	texts, err := draft.ReadmeOf(ctx, m, part.Archive)
	if err != nil {
		return a.failed(m, err)
	}
	if len(texts) == 0 {
		return usage("the source of %s has neither README nor INSTALL", name)
	}
	if a.screen.JSON {
		return a.screen.PrintJSON(texts)
	}
	for _, t := range texts {
		a.screen.Note("%s of %s:", t.File, name)
		a.screen.Print("%s", t.Text)
	}
	return nil
}
