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
	"fernladder/core/machine"
	"fernladder/core/plan"
	"fernladder/core/resolve"
	"fernladder/core/store"
	"fernladder/internal/term"
)

// addLadderFlags adds those of the commands that work out a ladder.
func (a *app) addLadderFlags(c *cobra.Command, ask *plan.Ask, builds bool) {
	c.Flags().StringArrayVarP(&ask.Options, "option", "o", nil, "set an option of what is named, `NAME=VALUE`, or of any package on the ladder, PACKAGE.NAME=VALUE")
	c.Flags().StringArrayVar(&ask.Presets, "preset", nil, "set options of what is named by a preset, `PRESET`, of its recipe or of the settings")
	c.Flags().StringArrayVar(&ask.Prefer, "prefer", nil, "where a need lists alternatives (either), prefer the package or thing of the operating system `NAME`")
	if builds {
		c.Flags().BoolVar(&ask.Locked, "locked", false, "build exactly what ladder.lock says, or nothing")
		c.Flags().StringVar(&a.isolation, "isolation", "", "build at this `LEVEL` of isolation: open, fenced or sealed")
		c.Flags().Var(edited{&ask.Edited}, "edited", "where somebody has changed what a failed build has left, `WHAT` to do: keep it, and mark what is built from it, or begin with a fresh source; nothing is built, if nothing is said")
		c.Flags().BoolVar(&a.output, "output", false, "on a terminal, show the last line that each build has printed, too")
		c.Flags().IntVarP(&a.jobs, "jobs", "j", 0, "run at most `N` jobs at once, over all packages")
	}
}

// addPrefixFlags adds the flags that say for which directory something is built.
func addPrefixFlags(c *cobra.Command, ask *plan.Ask) {
	c.Flags().StringVar(&ask.Prefix, "prefix", "", "build what is named, and all it needs but tools, for the directory `DIR`, as /opt/glasshouse; nothing is put there")
	c.Flags().BoolVar(&ask.System, "system-prefix", false, "let that be /usr, where the operating system has its own files")
}

// addClusterFlags adds the flags that let the nodes of a cluster build.
func (a *app) addClusterFlags(c *cobra.Command, ask *plan.Ask) {
	c.Flags().BoolVar(&ask.Cluster, "cluster", false, "build on the nodes of the cluster that the settings say ([cluster]), by jobs of its batch scheduler")
	c.Flags().BoolVar(&a.nodes.Detach, "detach", false, "with --cluster: leave when the jobs are submitted; fernladder follow comes back to them")
}

// onNodes notes which command it is that nodes may build for, and says what does not go
// together with building on a cluster, or without it.
func (a *app) onNodes(c *cobra.Command, ask *plan.Ask) error {
	a.nodes.Command = c.Name()
	if a.nodes.Detach && !ask.Cluster {
		return usage("--detach goes with --cluster")
	}
	if ask.Cluster && c.Flags().Changed("jobs") {
		return usage("--jobs does not go with --cluster: processors and most_jobs in [cluster] in the settings say how many there are")
	}
	for _, name := range []string{"prove", "shell", "watch"} {
		if ask.Cluster && c.Flags().Changed(name) {
			return usage("--%s does not go with --cluster", name)
		}
	}
	return nil
}

// edited is a flag with a policy about sources that somebody has changed.
type edited struct{ policy *build.EditedPolicy }

func (e edited) String() string { return "" }
func (e edited) Type() string   { return "string" }

func (e edited) Set(text string) error {
	if *e.policy = build.EditedPolicy(text); *e.policy != build.KeepEdited && *e.policy != build.FreshSource {
		return fmt.Errorf("it can be %s or %s", build.KeepEdited, build.FreshSource)
	}
	return nil
}

// with is what is asked for with these names.
func with(ask *plan.Ask, names []string) plan.Ask {
	asked := *ask
	asked.Names = names
	if asked.Prefix != "/" {
		asked.Prefix = strings.TrimRight(asked.Prefix, "/")
	}
	return asked
}

// plan opens the machine and works out the ladder.
func (a *app) plan(ctx context.Context, ask plan.Ask) (*machine.Machine, *plan.Plan, error) {
	m, err := a.open()
	if err != nil {
		return nil, nil, err
	}
	return a.planOn(ctx, m, ask)
}

func (a *app) planOn(ctx context.Context, m *machine.Machine, ask plan.Ask) (*machine.Machine, *plan.Plan, error) {
	p, err := plan.For(ctx, m, ask)
	if err != nil {
		return m, nil, err
	}
	for _, o := range p.Orphans {
		a.screen.Note("%s stays at %s: no shelf has a recipe for it any more.", o.Name, o.Version)
	}
	a.tellMissed(p)
	return m, p, nil
}

// tellMissed tells of options that were chosen earlier and that the releases of the plan do
// not have, or not as they were.
func (a *app) tellMissed(p *plan.Plan) {
	for _, pkg := range p.Packages {
		for _, o := range pkg.Missed {
			if now, has := pkg.Options[o.Name]; has {
				a.screen.Note("%s of %s was %s so far, which %s does not have any more; it is %s now.", o.Name, pkg.Name(), o.Values[0], pkg.Release.Version, now)
			} else {
				a.screen.Note("%s of %s was %s so far; %s has no such option any more.", o.Name, pkg.Name(), o.Values[0], pkg.Release.Version)
			}
		}
	}
}

// missedOf are the same of one package, by their names.
func missedOf(p *resolve.Package) map[string]string {
	missed := map[string]string{}
	for _, o := range p.Missed {
		missed[o.Name] = o.Values[0]
	}
	return missed
}

// pinned looks up the heads of branches that are asked for, says so, and then works
// out the ladder.
func (a *app) pinned(ctx context.Context, ask plan.Ask) (*machine.Machine, *plan.Plan, error) {
	m, err := a.open()
	if err != nil {
		return nil, nil, err
	}
	pins, err := install.Pin(ctx, m, ask)
	for _, p := range pins {
		switch {
		case p.Before.Commit == "":
			a.screen.Note("Pinned the tip of %s to %s (%s) in %s.", p.Name, p.Now.Version, p.Now.Commit, p.File)
		case p.Before.Commit == p.Now.Commit:
			a.screen.Note("The tip of %s is still %s (%s).", p.Name, p.Now.Version, p.Now.Commit)
		default:
			a.screen.Note("Moved the tip of %s from %s to %s (%s) in %s.", p.Name, p.Before.Version, p.Now.Version, p.Now.Commit, p.File)
		}
	}
	if err != nil {
		return m, nil, err
	}
	return a.planOn(ctx, m, ask)
}

// expect lets the progress know what is to be built, and how long that should take.
func (a *app) expect(ctx context.Context, m *machine.Machine, p *plan.Plan) error {
	if err := p.Estimate(m); err != nil {
		return err
	}
	e := term.Expected{Packages: len(p.Todo()), Times: map[term.Build]time.Duration{}, Output: a.output}
	for ref, estimate := range p.Estimates {
		e.Times[term.Build(ref)] = estimate.Time
	}
	if p.Ask.Cluster { // nodes are not these processors
		a.screen.Progress(a.now).Expect(e)
		return nil
	}
	e.Left = func(done map[term.Build]bool, running map[term.Build]time.Duration) time.Duration {
		ended, going := map[store.Ref]bool{}, map[store.Ref]time.Duration{}
		for b := range done {
			ended[store.Ref(b)] = true
		}
		for b, d := range running {
			going[store.Ref(b)] = d
		}
		return p.Left(ended, going)
	}
	a.screen.Progress(a.now).Expect(e)
	return nil
}

// run builds what a plan says, and tells in the end how that went.
func (a *app) run(ctx context.Context, m *machine.Machine, p *plan.Plan) error {
	if err := a.expect(ctx, m, p); err != nil {
		return err
	}
	if p.Ask.Cluster {
		return a.runOnNodes(ctx, m, p)
	}
	report, err := install.Run(ctx, m, p)
	return a.told(ctx, m, report, p.Slots, err)
}

// told tells how builds went, and returns the error that decides the exit status.
func (a *app) told(ctx context.Context, m *machine.Machine, report *install.Report, slots int, err error) error {
	if ctx.Err() == nil && !is[*cluster.Left](err) {
		a.summary(report, slots)
	}
	for _, w := range report.Wrong {
		a.screen.Note("%s is not right:\n%s", w.Recipe, indent(strings.Join(w.What, "\n")))
	}
	a.showUnrecorded(report.Unrecorded)
	return a.failed(m, err)
}

// failed shows all of what failed, with what would help, and returns the error that
// decides the exit status.
func (a *app) failed(m *machine.Machine, err error) error {
	var all *install.Failures
	if !errors.As(err, &all) {
		return err
	}
	help := newHelper(m)
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
		a.screen.Note("Not built, because they stand on what failed: %s.", strings.Join(skipped, ", "))
	}
	return &alreadyShown{errs[0]}
}

// built plans a ladder and builds it.
func (a *app) built(ctx context.Context, ask plan.Ask) (m *machine.Machine, p *plan.Plan, err error) {
	err = install.Again(a.removedMeanwhile, func() error {
		if m, p, err = a.pinned(ctx, ask); err != nil {
			return err
		}
		return a.run(ctx, m, p)
	})
	return m, p, err
}

// showUnrecorded tells that a build that is done could not be written into the history.
func (a *app) showUnrecorded(err error) {
	if err != nil {
		a.screen.Note("The history could not be written: %v", err)
	}
}

func (a *app) removedMeanwhile() {
	a.screen.Note("Another fernladder has removed what this needs. It is built again.")
}

func refs(jobs []*build.Job) []store.Ref {
	all := []store.Ref{}
	for _, j := range jobs {
		all = append(all, j.Ref)
	}
	return all
}
