package cli

import (
	"context"
)

// readme shows what the source of a recipe says about itself.
func (a *app) readme(ctx context.Context, name string) error {
	s, err := a.open()
	if err != nil {
		return err
	}
	texts, err := s.Readme(ctx, name)
	if err != nil {
		return a.failed(err)
	}
	return a.answer(texts, func() {
		for _, t := range texts {
			a.screen.Note("%s of %s:", t.File, name)
			a.screen.Print("%s", t.Text)
		}
	})
}
