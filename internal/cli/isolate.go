package cli

import (
	"context"
	"fmt"
	"strings"

	"fernladder/core/seal"
)

// weakIsolation is the error when the machine cannot keep builds apart as far as
// the settings want it.
type weakIsolation struct {
	wanted, best seal.Level
	why          error
}

func (e *weakIsolation) Error() string {
	return fmt.Sprintf("this machine can build %s at the most, but the least that is accepted is %s\n    %s\n"+
		"  Allow user namespaces or Landlock in the kernel, or accept less with isolation in fernladder.toml.",
		e.best, e.wanted, strings.ReplaceAll(strings.TrimSpace(fmt.Sprint(e.why)), "\n", "\n    "))
}

// isolate decides how far builds and tries are kept apart: as far as the machine
// can, and at least as far as the settings want. Where root builds, there are users
// for it to build as.
func (a *app) isolate(ctx context.Context, s *session) error {
	least := s.settings.Isolation
	if least == "" {
		least = seal.Open
	}
	wanted := seal.Level(a.isolation)
	if wanted != "" && !wanted.AtLeast(least) {
		return usage("--isolation %s is less than the settings accept (%s, in %s)", wanted, least, s.settings.File)
	}
	if s.place.Super {
		if err := s.workshop.Users.Check(); err != nil {
			return err
		}
	}
	dir, user, done, err := s.workshop.Scratch(ctx, "room")
	if err != nil {
		return err
	}
	defer done()
	if wanted == seal.Open {
		s.workshop.Isolation = seal.Open
		return seal.Try(seal.Open, dir, user)
	}
	best, why := seal.Strongest(dir, user)
	switch {
	case wanted != "" && !best.AtLeast(wanted):
		return &weakIsolation{wanted, best, why}
	case !best.AtLeast(least):
		return &weakIsolation{least, best, why}
	case wanted != "":
		best = wanted
	}
	s.workshop.Isolation = best
	return nil
}
