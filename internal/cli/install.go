package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"fernladder/core/build"
	"fernladder/core/landing"
	"fernladder/core/recipe"
	"fernladder/core/resolve"
	"fernladder/core/store"
	"fernladder/internal/term"
)

func (a *app) installCommand() *cobra.Command {
	var f ladderFlags
	c := &cobra.Command{
		Use:   "install [NAME...]",
		Short: "Build what is not built, and put it on the landing",
		Long: `Builds these packages and everything they need, then puts them on the landing,
with what they need when they run. The landing changes in one step, and only
when everything that was asked for is there. What is installed or locked stays
in its release, where that fits; fernladder upgrade moves it. Without names the
landing is brought to what is wanted in the settings: what is not on that list
leaves it.`,
		Example: `  fernladder install glasshouse
  fernladder install mistplan:1.9.4           instead of another version
  fernladder install glasshouse -o alarm=off -j 4
  fernladder install                          what fernladder.toml says is wanted`,
		ValidArgsFunction: a.completeRecipes,
		RunE:              func(c *cobra.Command, args []string) error { return a.install(c.Context(), args, &f) },
	}
	a.addLadderFlags(c, &f, true)
	return c
}

func (a *app) install(ctx context.Context, names []string, f *ladderFlags) error {
	return a.unlessRemoved(func() error { return a.installOnce(ctx, names, f) })
}

func (a *app) installOnce(ctx context.Context, names []string, f *ladderFlags) error {
	l, err := a.plan(ctx, names, f)
	if err != nil {
		return err
	}
	// What cannot be on the landing together is better known before it is built.
	was, will, err := a.expected(ctx, l)
	if err != nil {
		return together(err, names, f)
	}
	foretold := l.whole || f.moves != nil
	if lines := changes(was, will); foretold && len(lines) > 0 && !a.screen.JSON {
		a.screen.Print("The landing will change:\n  %s", strings.Join(lines, "\n  "))
	}
	if err := a.construct(ctx, l); err != nil {
		return err
	}
	var configs []store.ConfigChange
	before, after, err := a.changeLanding(ctx, l.store, func(current landing.State) ([]store.Ref, error) {
		return l.withLanding(current), nil
	}, func(after landing.State) (err error) {
		configs, err = updateConfigs(l.store, after)
		return err
	})
	if err != nil {
		return err
	}
	if err := a.keepLock(ctx, l, f); err != nil {
		return err
	}
	return a.showInstalled(l, before, after, configs, foretold)
}

// together adds to a clash the command that brings what clashes to one build.
func together(err error, names []string, f *ladderFlags) error {
	var clash *landing.Clash
	if !errors.As(err, &clash) || slices.Contains(names, clash.By.Name) || len(names) == 0 {
		return err
	}
	command := append([]string{"fernladder", "install", clash.By.Name}, names...)
	for _, option := range f.options {
		command = append(command, "-o", option)
	}
	return fmt.Errorf("%w\n  To have them all fit together: %s", err, strings.Join(command, " "))
}

// updateConfigs brings the configuration files of what is on the landing up to
// date.
func updateConfigs(s *store.Store, state landing.State) ([]store.ConfigChange, error) {
	var all []store.ConfigChange
	for _, m := range state.Members {
		receipt, err := s.Receipt(m.Ref)
		if err != nil {
			return all, s.Wrap(err)
		}
		changes, err := s.UpdateConfigs(receipt)
		all = append(all, changes...)
		if err != nil {
			return all, err
		}
	}
	return all, nil
}

// withLanding are the builds asked for when those of the ladder are added to
// what is asked for now; they take the place of other builds of the same name.
func (l *ladder) withLanding(current landing.State) []store.Ref {
	var asked []store.Ref
	for _, j := range l.jobs {
		if j.Package.Asked {
			asked = append(asked, j.Ref)
		}
	}
	if l.whole {
		return asked
	}
	for _, m := range current.Members {
		if m.Asked && !slices.ContainsFunc(asked, func(r store.Ref) bool { return r.Name == m.Name }) {
			asked = append(asked, m.Ref)
		}
	}
	return asked
}

// links tells what a build needs, whether it is installed or on the ladder.
func (l *ladder) links(r store.Ref) ([]store.Link, error) {
	for _, j := range l.jobs {
		if j.Ref == r {
			return j.Links(), nil
		}
	}
	return l.store.Needs(r)
}

// changeLanding brings the landing to the builds that choose says are asked
// for, given the state now. Then it does what has to be done before anybody
// else changes the landing.
func (a *app) changeLanding(ctx context.Context, s *store.Store, choose func(landing.State) ([]store.Ref, error), then func(after landing.State) error) (before, after landing.State, err error) {
	unlock, err := s.LockLanding(ctx, func() { a.screen.Note("Waiting for another fernladder that changes the landing.") })
	if err != nil {
		return before, after, err
	}
	defer unlock()
	if err := landing.Sweep(s); err != nil {
		return before, after, err
	}
	if before, err = landing.Current(s); err != nil {
		return before, after, err
	}
	asked, err := choose(before)
	if err != nil {
		return before, after, err
	}
	members, err := landing.Members(asked, s.Needs)
	if err != nil {
		return before, after, err
	}
	if after, err = landing.Change(s, members, a.now()); err == nil {
		err = then(after)
	}
	return before, after, err
}

func (a *app) showInstalled(l *ladder, before, after landing.State, configs []store.ConfigChange, foretold bool) error {
	todo := l.todo()
	if a.screen.JSON {
		return a.screen.PrintJSON(map[string]any{"built": refs(todo), "landing": after, "changed": before.Number != after.Number,
			"configs": append([]store.ConfigChange{}, configs...)})
	}
	if !foretold {
		for _, line := range changes(before, after) {
			a.screen.Print("%s", line)
		}
	}
	if before.Number != after.Number && slices.Equal(before.Members, after.Members) {
		a.screen.Print("The landing was incomplete. It was made again, as landing %d: %s", after.Number, landing.Directory(l.store))
		return nil
	}
	if before.Number == after.Number {
		a.screen.Print("Nothing to do: %s on the landing already.", isOrAre(l.askedNames()))
		if newer := l.newer(); len(newer) > 0 && !foretold {
			a.screen.Note("Newer on the shelf: %s. To move: fernladder upgrade %s", strings.Join(newer, ", "), strings.Fields(newer[0])[0])
		}
		return nil
	}
	for _, c := range configs {
		switch c.What {
		case store.ConfigRenewed:
			a.screen.Print("%s was as its sample; it is as the new sample now.", c.File)
		case store.ConfigKept:
			a.screen.Print("%s stays as it was edited; the sample has changed:\n  diff %s %s", c.File, c.File, c.Sample)
		}
	}
	a.screen.Print("Landing %d is in use: %s", after.Number, landing.Directory(l.store))
	for _, j := range l.jobs {
		if !j.Package.Asked {
			continue
		}
		r, err := l.store.Receipt(j.Ref)
		if err != nil {
			continue
		}
		if r.Notes != "" {
			a.screen.Print("%s: %s", a.screen.Strong(r.Name), strings.TrimSpace(r.Notes))
		}
	}
	for _, m := range after.Members {
		r, err := l.store.Receipt(m.Ref)
		if err != nil || before.Find(m.Name) != nil {
			continue
		}
		for _, c := range r.Configs {
			a.screen.Print("%s is configured in %s", a.screen.Strong(r.Name), l.store.ConfigFile(r.Name, c.File))
		}
	}
	for _, m := range after.Members {
		if before.Find(m.Name) == nil {
			for _, line := range l.treeClashes(m.Ref) {
				a.screen.Note("%s", line)
			}
		}
	}
	if before.Number == 0 {
		a.screen.Note("To use it in this shell: eval \"$(fernladder env)\"")
	}
	return nil
}

// changes tells what came, went and changed between two states.
func changes(before, after landing.State) []string {
	var lines []string
	for _, m := range after.Members {
		old := before.Find(m.Name)
		switch {
		case old == nil:
			lines = append(lines, "+ "+m.Name+" "+m.Version)
		case old.Ref == m.Ref:
		case old.Version == m.Version:
			lines = append(lines, "~ "+m.Name+" "+m.Version+", built differently ("+old.ID+" → "+m.ID+")")
		default:
			lines = append(lines, "~ "+m.Name+" "+old.Version+" → "+m.Version)
		}
	}
	for _, m := range before.Members {
		if after.Find(m.Name) == nil {
			lines = append(lines, "- "+m.Name+" "+m.Version)
		}
	}
	return lines
}

func (l *ladder) askedNames() []string {
	var names []string
	for _, j := range l.jobs {
		if j.Package.Asked {
			names = append(names, j.Name+" "+j.Version)
		}
	}
	return names
}

// newer lists the newest stable releases of what was asked for, where they are
// newer than what is installed.
func (l *ladder) newer() []string {
	var newer []string
	for _, p := range l.Packages {
		if newest := newestStable(p); p.Asked && p.Kept && newest != p.Release {
			newer = append(newer, p.Name()+" "+newest.Version.String())
		}
	}
	return newer
}

// newestStable is the newest stable release of a package's recipe, or the one
// on the ladder if none is newer.
func newestStable(p *resolve.Package) *recipe.Release {
	newest := p.Release
	for _, x := range p.Recipe.Releases {
		if x.Track == recipe.Stable && x.Version.Compare(newest.Version) > 0 {
			newest = x
		}
	}
	return newest
}

func isOrAre(names []string) string {
	if len(names) == 1 {
		return names[0] + " is"
	}
	return strings.Join(names, ", ") + " are"
}

func refs(jobs []*build.Job) []store.Ref {
	all := []store.Ref{}
	for _, j := range jobs {
		all = append(all, j.Ref)
	}
	return all
}

// sizes adds up what builds take on the disk.
func sizes(receipts []*store.Receipt) string {
	var total int64
	for _, r := range receipts {
		total += r.Size
	}
	return term.Bytes(total)
}
