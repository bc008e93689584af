package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"fernladder/core/build"
	"fernladder/core/cluster"
	"fernladder/core/install"
	"fernladder/core/plan"
	"fernladder/core/session"
	"fernladder/core/store"
	"fernladder/internal/term"
)

// addLadderFlags adds those of the commands that work out a ladder.
func (a *app) addLadderFlags(c *cobra.Command, ask *plan.Ask, builds bool) {
	c.Flags().StringArrayVarP(&ask.Options, "option", "o", nil,
		"set an option of the named packages, `NAME=VALUE`, or of any package on the ladder, PACKAGE.NAME=VALUE")
	c.Flags().StringArrayVar(&ask.Presets, "preset", nil,
		"set options of the named packages by a `PRESET` of their recipes or the settings")
	c.Flags().StringArrayVar(&ask.Prefer, "prefer", nil,
		"where a need lists alternatives (either), prefer the package or thing of the operating system `NAME`")
	c.Flags().BoolVar(&ask.NoDepots, "no-depots", false, "take nothing from the depots of the settings; build it here")
	if builds {
		c.Flags().BoolVar(&ask.Locked, "locked", false, "build exactly what ladder.lock says, or nothing")
		c.Flags().StringVar(&a.isolation, "isolation", "", "build at this `LEVEL` of isolation: open, fenced or sealed")
		c.Flags().Var(edited{&ask.Edited}, "edited",
			"if the source of a failed build was changed by hand, `WHAT` to do: keep it, and mark the result, or start with "+
				"a fresh source (default: build nothing)")
		c.Flags().BoolVar(&a.output, "output", false, "on a terminal, also show the last output line of each build")
		c.Flags().IntVarP(&a.jobs, "jobs", "j", 0, "run at most `N` jobs at once, over all packages")
	}
}

// addPrefixFlags adds the flags that say for which directory something is built.
func addPrefixFlags(c *cobra.Command, ask *plan.Ask) {
	c.Flags().StringVar(&ask.Prefix, "prefix", "",
		"build the named packages, and all they need except tools, for the directory `DIR`, as /opt/glasshouse; nothing "+
			"is put there")
	c.Flags().BoolVar(&ask.System, "system-prefix", false, "allow /usr, which has the operating system's own files")
}

// addClusterFlags adds the flags for building on the nodes of a cluster.
func (a *app) addClusterFlags(c *cobra.Command, ask *plan.Ask) {
	c.Flags().BoolVar(&ask.Cluster, "cluster", false,
		"build on the nodes of the cluster in the settings ([cluster]), as jobs of its batch scheduler")
	c.Flags().BoolVar(&a.nodes.Detach, "detach", false,
		"with --cluster: exit when the jobs are submitted; fernladder follow returns to them")
}

// onNodes notes which command nodes build for, and refuses flags that contradict building on a
// cluster, or require it.
func (a *app) onNodes(c *cobra.Command, ask *plan.Ask) error {
	a.nodes.Command = c.Name()
	if a.nodes.Detach && !ask.Cluster {
		return usage("--detach needs --cluster")
	}
	if ask.Cluster && c.Flags().Changed("jobs") {
		return usage("--jobs cannot be combined with --cluster: see processors and most_jobs in [cluster] in the settings")
	}
	for _, name := range []string{"prove", "shell", "watch"} {
		if ask.Cluster && c.Flags().Changed(name) {
			return usage("--%s cannot be combined with --cluster", name)
		}
	}
	return nil
}

// edited is a flag with a policy about sources that was changed by hand.
type edited struct{ policy *build.EditedPolicy }

func (e edited) String() string { return "" }
func (e edited) Type() string   { return "string" }

func (e edited) Set(text string) error {
	if *e.policy = build.EditedPolicy(text); *e.policy != build.KeepEdited && *e.policy != build.FreshSource {
		return fmt.Errorf("it can be %s or %s", build.KeepEdited, build.FreshSource)
	}
	return nil
}

// with is the request with these names.
func with(ask *plan.Ask, names []string) plan.Ask {
	asked := *ask
	asked.Names = names
	if asked.Prefix != "/" {
		asked.Prefix = strings.TrimRight(asked.Prefix, "/")
	}
	return asked
}

// ladder is a request for the ladder of packages; it reports what a person should know before
// the plan is carried out.
func (a *app) ladder(ask plan.Ask) session.LadderRequest {
	return session.LadderRequest{Ask: ask, Planned: a.planned}
}

// planned reports what a person should know about a ladder before it is carried out.
func (a *app) planned(l *session.Ladder) error {
	a.tellPins(l.Pins)
	for _, o := range l.Orphans {
		a.screen.Note("%s stays at %s: no shelf has a recipe for it.", o.Name, o.Version)
	}
	a.tellMissed(l.Plan)
	return nil
}

// building is the request of a command that builds.
func (a *app) building(ask plan.Ask) session.BuildRequest {
	r := session.BuildRequest{LadderRequest: a.ladder(ask), Nodes: a.nodes}
	r.Nodes.Leave = a.leaves
	r.Planned = func(l *session.Ladder) error {
		if err := a.planned(l); err != nil {
			return err
		}
		return a.expect(l.Plan)
	}
	return r
}

func (a *app) tellPins(pins []install.Pinned) {
	for _, p := range pins {
		switch {
		case p.Before.Commit == "":
			a.screen.Note("Pinned the tip of %s to %s (%s) in %s.", p.Name, p.Now.Version, p.Now.Commit, p.File)
		case p.Before.Commit == p.Now.Commit:
			a.screen.Note("The tip of %s is still %s (%s).", p.Name, p.Now.Version, p.Now.Commit)
		default:
			a.screen.Note("Moved the tip of %s from %s to %s (%s) in %s.", p.Name, p.Before.Version, p.Now.Version,
				p.Now.Commit, p.File)
		}
	}
}

// expect tells the progress display what will be built, and how long that should take.
func (a *app) expect(p *plan.Plan) error {
	if err := p.Estimate(a.session.Machine); err != nil {
		return err
	}
	e := term.Expected{Packages: len(p.Todo()), Times: map[term.Build]time.Duration{}, Output: a.output}
	for ref, estimate := range p.Estimates {
		e.Times[term.Build(ref)] = estimate.Time
	}
	if !p.Ask.Cluster { // nodes are not these processors
		slots := a.session.Slots
		e.Slots = func() (used, all int) { return slots.InUse(), slots.Number() }
		e.Left = func(done map[term.Build]bool, running map[term.Build]time.Duration) (time.Duration, []string,
			time.Duration) {
			ended, going := map[store.Ref]bool{}, map[store.Ref]time.Duration{}
			for b := range done {
				ended[store.Ref(b)] = true
			}
			for b, d := range running {
				going[store.Ref(b)] = d
			}
			path, longest := p.LongestLeft(ended, going)
			return p.Left(ended, going), path, longest
		}
	}
	a.screen.Progress(a.now).Expect(e)
	return nil
}

// told reports the outcome of builds, and returns the error that decides the exit status.
func (a *app) told(ctx context.Context, l *session.Ladder, run *install.Report, err error) error {
	if run != nil {
		if ctx.Err() == nil && !is[*cluster.Left](err) {
			slots := l.Slots
			if l.Ask.Cluster {
				slots = 0
			}
			a.summary(run, slots)
		}
		for _, w := range run.Wrong {
			a.screen.Note("%s is not right:\n%s\nfernladder draft %s --probe looks for what makes it right.", w.Recipe,
				indent(strings.Join(w.What, "\n")), w.Package)
		}
		a.showUnrecorded(run.Unrecorded)
	}
	return a.failed(err)
}

// build builds a ladder, and reports the outcome.
func (a *app) build(ctx context.Context, r session.BuildRequest) (*session.BuildReport, error) {
	s, err := a.open()
	if err != nil {
		return nil, err
	}
	b, err := s.Build(ctx, r)
	return b, a.told(ctx, b.Ladder, b.Run, err)
}

// tellMissed reports options that were chosen earlier and that the releases of the plan do not
// have, or not with that value.
func (a *app) tellMissed(p *plan.Plan) {
	for _, pkg := range p.Packages {
		for _, o := range pkg.Missed {
			if now, has := pkg.Options[o.Name]; has {
				a.screen.Note("%s of %s was %s, which %s no longer has; it is now %s.", o.Name, pkg.Name(), o.Values[0],
					pkg.Release.Version, now)
			} else {
				a.screen.Note("%s of %s was %s; %s no longer has that option.", o.Name, pkg.Name(), o.Values[0],
					pkg.Release.Version)
			}
		}
	}
}

// failed shows all failures, with help, and returns the error that decides the exit status.
func (a *app) failed(err error) error {
	var all *install.Failures
	if !errors.As(err, &all) {
		return err
	}
	help := newHelper(a.session.Machine)
	var errs []error
	for _, r := range all.Results {
		if r.Err != nil {
			errs = append(errs, help.with(r.Err))
		}
	}
	if a.screen.JSON {
		for _, err := range errs[1:] {
			_, kind := status(err)
			a.reportJSON(err, kind)
		}
		return errs[0]
	}
	for _, err := range errs {
		a.screen.Fail(err.Error())
	}
	if skipped := all.Skipped(); len(skipped) > 0 {
		a.screen.Note("Not built, because they depend on what failed: %s.", strings.Join(skipped, ", "))
	}
	return &alreadyShown{errs[0]}
}

// showUnrecorded reports that a finished build could not be added to the history.
func (a *app) showUnrecorded(err error) {
	if err != nil {
		a.screen.Note("The history could not be written: %v", err)
	}
}
