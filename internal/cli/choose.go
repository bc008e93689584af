package cli

import (
	"context"

	"fernladder/core/choice"
	"fernladder/core/machine"
)

// choose shows the options on a screen.
func (a *app) choose(ctx context.Context, m *machine.Machine, c *choice.Choosing) error {
	a.optionsTable(c, optionsFlags{})
	return nil
}
