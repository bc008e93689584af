package cli

import (
	"context"
	"path/filepath"

	"github.com/spf13/cobra"

	"fernladder/core/lock"
	"fernladder/core/recipe"
	"fernladder/core/resolve"
)

func (a *app) lockCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "lock NAME...",
		Short: "Pin the tips of packages to the newest commits of their branches",
		Long: `Looks up the newest commit of the branch that each of these packages has on its
track tip, and writes it to ladder.lock, beside the settings. What is built as
NAME:tip is that commit, until the next lock. The first plan or install of
NAME:tip pins it too.`,
		Example:           "  fernladder lock mistplan\n  fernladder install mistplan:tip",
		Args:              atLeastOne,
		ValidArgsFunction: a.completeRecipes,
		RunE:              func(c *cobra.Command, args []string) error { return a.lock(c.Context(), args) },
	}
}

func (a *app) lock(ctx context.Context, names []string) error {
	s, err := a.open()
	if err != nil {
		return err
	}
	file, err := s.lockFile()
	if err != nil {
		return err
	}
	pinned := map[string]map[string]string{}
	for _, name := range names {
		r, err := s.shelves.Find(name)
		if err != nil {
			return err
		}
		if r.Tip() == nil {
			return usage("%s has no release on the track tip (%s)", name, r.File)
		}
		before, known := file.Pin(r)
		pin, err := a.pin(ctx, s, file, r)
		if err != nil {
			return err
		}
		pinned[name] = map[string]string{"commit": pin.Commit, "version": pin.Version.String()}
		switch {
		case a.screen.JSON:
		case known && before.Commit == pin.Commit:
			a.screen.Print("%s stays at %s (%s).", name, pin.Version, pin.Commit)
		default:
			a.screen.Print("%s is pinned to %s (%s).", name, pin.Version, pin.Commit)
		}
	}
	if a.screen.JSON {
		return a.screen.PrintJSON(map[string]any{"file": file.Path, "tips": pinned})
	}
	return nil
}

// lockFile reads ladder.lock, which is beside the settings, or in the root when
// there are none.
func (s *session) lockFile() (*lock.File, error) {
	dir := s.store.Root
	if s.settings.File != "" {
		dir = filepath.Dir(s.settings.File)
	}
	path := filepath.Join(dir, lock.FileName)
	return lock.Read(path, s.place.Shown(path))
}

// pins returns the pins of the tips that are asked for. What is not pinned yet
// is now.
func (a *app) pins(ctx context.Context, s *session, wanted []resolve.Wanted) (map[string]recipe.Pin, error) {
	pins := map[string]recipe.Pin{}
	for _, w := range wanted {
		if !w.Tip {
			continue
		}
		r, err := s.shelves.Find(w.Name)
		if err != nil || r.Tip() == nil {
			continue // which the resolver explains
		}
		file, err := s.lockFile()
		if err != nil {
			return nil, err
		}
		pin, known := file.Pin(r)
		if !known {
			if pin, err = a.pin(ctx, s, file, r); err != nil {
				return nil, err
			}
			a.screen.Note("Pinned the tip of %s to %s (%s) in %s.", r.Name, pin.Version, pin.Commit, file.Shown)
		}
		pins[w.Name] = pin
	}
	return pins, nil
}

// pin looks up the tip of a recipe and writes it to the lock file.
func (a *app) pin(ctx context.Context, s *session, file *lock.File, r *recipe.Recipe) (recipe.Pin, error) {
	if err := s.store.Prepare(); err != nil {
		return recipe.Pin{}, err
	}
	tip := r.Tip()
	progress := a.screen.Progress(1, a.now)
	s.workshop.Events = progress
	pin, err := s.workshop.Repositories().Head(ctx, tip, r.Name, r.ExpandURL(tip.Repository(), ""))
	progress.Close()
	if err != nil {
		return pin, s.stored(err)
	}
	file.Set(r, pin)
	return pin, s.store.Wrap(file.Write())
}
