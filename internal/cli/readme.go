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
	file, text, err := draft.ReadmeOf(ctx, m, part.Archive)
	if err != nil {
		return a.failed(m, err)
	}
	if file == "" {
		return usage("the source of %s has no README", name)
	}
	if a.screen.JSON {
		return a.screen.PrintJSON(map[string]string{"file": file, "text": text})
	}
	a.screen.Note("%s of %s:", file, name)
	a.screen.Print("%s", text)
	return nil
}
