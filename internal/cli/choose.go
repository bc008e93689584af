package cli

import (
	"context"
	"os"
	"runtime/debug"
	"strings"

	"fernladder/core/machine"
	"fernladder/core/plan"
	"fernladder/core/subprocess"
	"fernladder/internal/optionscreen"
)

// choose lets a person choose options on a screen, and does what the person decides with the
// choice. The command for the choice is never lost.
func (a *app) choose(ctx context.Context, m *machine.Machine, ask plan.Ask, glance *plan.Choosing) error {
	defer debug.SetGCPercent(debug.SetGCPercent(400)) // a key is answered before memory is tidied
	reopen := func(c *plan.Choosing) (*plan.Choosing, []plan.Change, error) {
		m, err := a.open()
		if err != nil {
			return nil, nil, err
		}
		return c.Again(ctx, m.Machine)
	}
	open := func() (*plan.Choosing, error) { return plan.Open(ctx, m, ask) }
	outcome, chosen, err := optionscreen.Run(ctx, glance, open, reopen, os.Stdin, os.Stdout, os.Environ())
	if err != nil {
		return err
	}
	command := "fernladder install " + subprocess.Typed(chosen.Arguments())
	switch outcome {
	case optionscreen.Interrupted:
		if len(chosen.Changes()) > 0 {
			a.screen.Note("Nothing was written. The choice: %s", command)
		}
		return &alreadyShown{context.Canceled}
	case optionscreen.Forget:
		a.screen.Note("Nothing was written.")
	case optionscreen.Once:
		a.screen.Print("%s", command)
	case optionscreen.Keep:
		return a.keep(ctx, m, chosen, command)
	}
	return nil
}

func (a *app) keep(ctx context.Context, m *machine.Machine, c *plan.Choosing, command string) error {
	added, err := c.Keep(ctx)
	if err != nil {
		return &helped{err, []string{"Nothing was written. For one build: " + command}}
	}
	var texts []string
	for _, change := range c.Changes() {
		texts = append(texts, change.Option+" = "+c.Row(change.Option).TOML(change.To))
	}
	a.screen.Print("Written to %s: [wanted.%s] with %s", m.Place.Shown(m.Settings.File), c.Recipe.Name,
		strings.Join(texts, ", "))
	if added {
		a.screen.Note("%s is now wanted on this machine: %s without names brings the landing to exactly what is wanted.",
			c.Recipe.Name, "fernladder install")
	}
	a.screen.Note("To build it: fernladder install %s", c.Recipe.Name)
	return nil
}
