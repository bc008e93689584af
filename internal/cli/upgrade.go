package cli

import (
	"context"
	"slices"

	"github.com/spf13/cobra"

	"fernladder/core/landing"
	"fernladder/core/recipe"
	"fernladder/core/resolve"
)

func (a *app) upgradeCommand() *cobra.Command {
	var f ladderFlags
	c := &cobra.Command{
		Use:   "upgrade [NAME...]",
		Short: "Move what is installed to the newest releases on the shelves",
		Long: `Works the ladder out anew, with the newest releases of these packages; what they
need moves only where it has to. Without names everything moves: what is wanted
in the settings, or else all that is on the landing by request. Options stay as
they are. Builds what is new, changes the landing and moves the lock file. The tip
of a branch moves to its newest commit.`,
		Example: `  fernladder upgrade                          everything
  fernladder upgrade mistplan                 one package
  fernladder plan --upgrade                   what it would do`,
		ValidArgsFunction: a.completeInstalled,
		RunE: func(c *cobra.Command, args []string) error {
			names, err := a.upgrading(args, &f)
			if err != nil {
				return err
			}
			return a.install(c.Context(), names, &f)
		},
	}
	a.addLadderFlags(c, &f, true)
	return c
}

// upgrading returns what to plan for an upgrade of these packages, and lets them
// move: all packages, without names.
func (a *app) upgrading(names []string, f *ladderFlags) ([]string, error) {
	s, err := a.open()
	if err != nil {
		return nil, err
	}
	f.moves = func(name string) bool {
		return len(names) == 0 || slices.ContainsFunc(names, func(text string) bool {
			w, err := resolve.ParseWanted(text)
			return err == nil && w.Name == name
		})
	}
	current, err := landing.Current(s.store)
	if err != nil {
		return nil, err
	}
	if len(names) == 0 && len(s.settings.Wanted) > 0 {
		return nil, nil
	}
	given := names
	if len(names) == 0 {
		for _, m := range current.Members {
			if _, err := s.shelves.Find(m.Name); m.Asked && is[*recipe.NotFound](err) {
				a.screen.Note("%s stays at %s: no shelf has a recipe for it any more.", m.Name, m.Version)
			} else if m.Asked {
				given = append(given, m.Name)
			}
		}
		if len(given) == 0 {
			return nil, usage("nothing is installed that could be upgraded")
		}
	}
	file, err := s.lockFile()
	if err != nil {
		return nil, err
	}
	// The tip of a branch stays one.
	tips := slices.Clone(given)
	for i, name := range given {
		m := current.Find(name)
		for _, t := range file.Tips {
			if m != nil && t.Name == name && t.Version.String() == m.Version {
				tips[i] = name + ":" + string(recipe.Tip)
			}
		}
	}
	return tips, nil
}

// expected is what the landing will be when the ladder is built.
func (a *app) expected(ctx context.Context, l *ladder) (before, after landing.State, err error) {
	if before, err = landing.Current(l.store); err != nil {
		return before, after, err
	}
	after.Members, err = landing.Members(l.withLanding(before), l.links)
	return before, after, err
}
