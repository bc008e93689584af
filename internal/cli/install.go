package cli

import (
	"context"
	"errors"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"fernladder/core/install"
	"fernladder/core/landing"
	"fernladder/core/plan"
	"fernladder/core/session"
	"fernladder/core/store"
	"fernladder/internal/term"
)

func (a *app) installCommand() *cobra.Command {
	var ask plan.Ask
	c := &cobra.Command{
		Use:   "install [NAME...]",
		Short: "Build what is missing, and put it on the landing",
		Long: `Builds these packages and everything they need, then puts them on the landing, with their
runtime needs. The landing changes in one step, and only when everything is built. What is
on the landing or locked keeps its release if that fits; fernladder upgrade moves it. What
the settings want of a package applies wherever the package is needed. Without names, the
landing is brought to what the settings want; everything else leaves it. NAME@ID names an
existing build.`,
		Example: `  fernladder install glasshouse
  fernladder install mistplan:1.9.4           instead of another version
  fernladder install mistplan@3f9c            a build that was only tried so far
  fernladder install glasshouse -o alarm=off -j 4
  fernladder install glasshouse:1.9 --beside  a second version, beside the first
  fernladder install                          what fernladder.toml says is wanted`,
		ValidArgsFunction: a.completeRecipes,
		RunE:              a.installs(&ask),
	}
	a.addLadderFlags(c, &ask, true)
	a.addClusterFlags(c, &ask)
	c.Flags().BoolVar(&ask.Beside, "beside", false,
		"keep other builds of the package on the landing, with the plain names")
	return c
}

func (a *app) upgradeCommand() *cobra.Command {
	ask := plan.Ask{Upgrade: true}
	c := &cobra.Command{
		Use:   "upgrade [NAME...]",
		Short: "Move what is installed to the newest releases on the shelves",
		Long: `Works out the ladder again, with the newest releases of these packages, wherever they are
used: requested packages that need them are built again. What they need moves only where it
has to. Without names, everything moves: what the settings want, or
else all packages that were requested. Options stay as they are. Builds what is new,
changes the landing and moves the lock file. The tip of a branch moves to its newest
commit.`,
		Example: `  fernladder upgrade                          everything
  fernladder upgrade mistplan                 one package
  fernladder plan --upgrade                   what it would do`,
		ValidArgsFunction: a.completeInstalled,
		RunE:              a.installs(&ask),
	}
	a.addLadderFlags(c, &ask, true)
	a.addClusterFlags(c, &ask)
	return c
}

// installs is what install and upgrade do with the given names.
func (a *app) installs(ask *plan.Ask) func(*cobra.Command, []string) error {
	return func(c *cobra.Command, args []string) error {
		if err := a.onNodes(c, ask); err != nil {
			return err
		}
		return a.install(c.Context(), with(ask, args))
	}
}

func (a *app) install(ctx context.Context, ask plan.Ask) error {
	s, err := a.open()
	if err != nil {
		return err
	}
	request, foretold := a.building(ask), false
	build := request.Planned
	request.Planned = func(l *session.Ladder) error {
		foretold = l.AllWanted || ask.Upgrade
		if lines := a.changes(l.Plan, l.Before.Members, l.After); foretold && len(lines) > 0 && !a.screen.JSON {
			a.screen.Print("The landing will change:\n  %s", strings.Join(lines, "\n  "))
			if err := l.Estimate(s.Machine); err != nil {
				return err
			}
			steps, err := l.Steps(s.Store)
			if err != nil {
				return err
			}
			a.showSteps(steps)
		}
		return build(l)
	}
	r, err := s.Install(ctx, request)
	if err := a.told(ctx, r.Ladder, r.Run, err); err != nil {
		return fitting(err, ask)
	}
	if r.Unlocked != nil {
		a.screen.Note("%s stays as it was: %v", r.Ladder.Lock.Shown, r.Unlocked)
	}
	return a.answer(r, func() {
		a.showInstalled(r, foretold)
		a.showNotice(r.Holes)
	})
}

// fitting adds the command that resolves a clash by choosing one build.
func fitting(err error, ask plan.Ask) error {
	var clash *landing.Clash
	if !errors.As(err, &clash) || slices.Contains(ask.Names, clash.By.Name) || len(ask.Names) == 0 {
		return err
	}
	command := append([]string{"fernladder", "install", clash.By.Name}, ask.Names...)
	for _, preset := range ask.Presets {
		command = append(command, "--preset", preset)
	}
	for _, option := range ask.Options {
		command = append(command, "-o", option)
	}
	return &helped{err, []string{"To have them all fit together: " + strings.Join(command, " ")}}
}

func (a *app) showInstalled(r *session.InstallReport, foretold bool) {
	l, p := r.Landed, r.Ladder.Plan
	if !foretold {
		for _, line := range a.changes(p, l.Before.Members, l.After.Members) {
			a.screen.Print("%s", line)
		}
	}
	switch {
	case l.Changed() && slices.Equal(l.Before.Members, l.After.Members):
		if l.Before.Rules == l.After.Rules {
			a.screen.Print("The landing was incomplete, and was made again.")
		}
		a.showLanded(l)
	case !l.Changed() && l.Linked:
		a.showShared(l.Shared)
	case !l.Changed():
		a.screen.Print("Nothing to do: %s already on the landing.", isOrAre(askedNames(p)))
		if !foretold {
			a.newer(p)
		}
	default:
		a.showLanded(l)
		a.showNotes(p, l)
		if l.Before.Number == 0 && a.session.Settings.Landing.Shared == "" {
			a.screen.Note("To use it in this shell: eval \"$(fernladder env)\"")
		}
	}
}

func (a *app) showConfigs(configs []store.ConfigChange) {
	for _, c := range configs {
		switch c.What {
		case store.ConfigRenewed:
			a.screen.Print("%s was unchanged, and has the new sample now.", c.File)
		case store.ConfigKept:
			sample := c.Sample
			if c.Laid != "" {
				sample = c.Laid
			}
			a.screen.Print("%s keeps your edits; the new sample is beside it:\n  diff %s %s", c.File, c.File, sample)
		case store.ConfigStrange:
			a.screen.Note("%s is no longer a file, and stays as it is; the package reads its configuration there. The "+
				"sample: %s", c.File, c.Sample)
		}
	}
}

// showNotes shows the notes of recipes after an install, and the configuration files of new
// packages.
func (a *app) showNotes(p *plan.Plan, l install.Landed) {
	m := a.session
	for _, j := range p.Asked() {
		if r, err := m.Store.Receipt(j.Ref); err == nil && r.Notes != "" {
			a.screen.Print("%s: %s", a.screen.Strong(r.Name), strings.TrimSpace(r.Notes))
		}
	}
	for _, member := range l.After.Members {
		r, err := m.Store.Receipt(member.Ref)
		if err != nil || l.Before.Find(member.Name) != nil {
			continue
		}
		for _, c := range r.Configs {
			a.screen.Print("%s is configured in %s", a.screen.Strong(r.Name), m.Store.ConfigFile(r.Name, c.File))
		}
	}
}

// newer reports releases that an upgrade would move to.
func (a *app) newer(p *plan.Plan) {
	var newer, names []string
	for _, pkg := range p.Newer() {
		newer = append(newer, pkg.Name()+" "+plan.Newest(pkg).Version.String())
		names = append(names, pkg.Name())
	}
	if len(newer) > 0 {
		a.screen.Note("Newer on the shelf: %s. To move: fernladder upgrade %s", strings.Join(newer, ", "),
			strings.Join(names, " "))
	}
}

// changes reports what was added, removed and changed between two states, and how builds of the
// same release differ. The plan, which can be nil, has builds that do not exist yet.
func (a *app) changes(p *plan.Plan, before, after []landing.Member) []string {
	made := func(r store.Ref) (store.Made, bool) {
		if p != nil {
			for _, j := range p.Jobs {
				if j.Ref == r {
					return j.Made(), true
				}
			}
		}
		receipt, err := a.session.Store.Receipt(r)
		if err != nil {
			return store.Made{}, false
		}
		return receipt.Made(), true
	}
	var lines []string
	d := landing.Compare(before, after)
	for _, m := range d.Came {
		lines = append(lines, "+ "+m.Name+" "+m.Version+beside(m))
	}
	for _, move := range d.Moved {
		line := "~ " + moved(move)
		if move.From.Version != move.To.Version || move.From.Ref == move.To.Ref {
			lines = append(lines, line)
			continue
		}
		old, had := made(move.From.Ref)
		if now, has := made(move.To.Ref); had && has {
			line += ": " + strings.Join(now.Against(old), ", ")
		}
		lines = append(lines, line)
	}
	for _, m := range d.Went {
		lines = append(lines, "- "+m.Name+" "+m.Version)
	}
	return lines
}

func askedNames(p *plan.Plan) []string {
	var names []string
	for _, j := range p.Asked() {
		names = append(names, j.Name+" "+j.Version)
	}
	return names
}

func isOrAre(names []string) string {
	if len(names) == 1 {
		return names[0] + " is"
	}
	return strings.Join(names, ", ") + " are"
}

// sizes adds up what builds take on the disk.
func sizes(receipts []*store.Receipt) string {
	var total int64
	for _, r := range receipts {
		total += r.Size
	}
	return term.Bytes(total)
}
