package cli

import (
	"context"
	"errors"
	"os"
	"slices"

	"github.com/spf13/cobra"

	"fernladder/core/build"
	"fernladder/core/plan"
	"fernladder/internal/term"
)

func (a *app) fetchCommand() *cobra.Command {
	var ask plan.Ask
	c := &cobra.Command{
		Use:   "fetch [NAME...]",
		Short: "Download and verify everything the ladder needs",
		Long: `Downloads the archive of every package that is still to be built, each from the first of
its URLs that serves the right file, and takes the builds that depots have. After that,
everything works offline.`,
		Example:           `  fernladder fetch glasshouse`,
		ValidArgsFunction: a.completeRecipes,
		RunE:              func(c *cobra.Command, args []string) error { return a.fetch(c.Context(), with(&ask, args)) },
	}
	a.addLadderFlags(c, &ask, false)
	addPrefixFlags(c, &ask)
	return c
}

func (a *app) fetch(ctx context.Context, ask plan.Ask) error {
	s, err := a.open()
	if err != nil {
		return err
	}
	request := a.building(ask).LadderRequest
	r, err := s.Fetch(ctx, request)
	if err := a.failed(err); err != nil {
		return err
	}
	return a.answer(r, func() {
		if len(r.Taken) > 0 {
			a.screen.Print("%s taken from depots.", wereTaken(len(r.Taken)))
		}
		switch {
		case len(r.Ladder.Todo()) == 0 && len(r.Taken) > 0:
		case len(r.Ladder.Todo()) == 0:
			a.screen.Print("Nothing to fetch: everything is built.")
		case r.Fetched == 0:
			a.screen.Print("Nothing to fetch: all sources are here, verified.")
		default:
			a.screen.Print("The sources of %s are here, verified.", term.Count(r.Fetched, "package"))
		}
		for _, j := range r.Gathered {
			a.screen.Note("Not yet here: the extras that %s gathers. To gather them: fernladder build --until unpack %s",
				j.Name, j.Name)
		}
	})
}

func wereTaken(n int) string {
	if n == 1 {
		return "1 build was"
	}
	return term.Count(n, "build") + " were"
}

func (a *app) buildCommand() *cobra.Command {
	var ask plan.Ask
	again, prove, shell, watch := false, false, false, false
	c := &cobra.Command{
		Use:   "build [NAME...]",
		Short: "Build the ladder without changing what is in use",
		Long: `Builds these packages and everything they need, each into its own tree. The landing and
the lock file do not change, and later commands do not prefer these builds. Existing
builds are not built again; a failed or interrupted build continues where it stopped.`,
		Example: `  fernladder build mistplan
  fernladder build mistplan -o plots=off        a second build beside the first
  fernladder build --again mistplan             once more, in the place of the build that is there
  fernladder build --prove mistplan             twice, and compare what comes out
  fernladder build --watch mistplan             and record every file of the system that it uses
  fernladder build --until configure mistplan   stop after a stage; the next build goes on from there
  fernladder build --shell mistplan             look around where a build has failed, or has stopped`,
		ValidArgsFunction: a.completeRecipes,
		RunE: func(c *cobra.Command, args []string) error {
			if err := errors.Join(onlyOne(c, "again", "prove", "shell", "watch", "until"),
				onlyOne(c, "until", "cluster")); err != nil {
				return err
			}
			if err := a.onNodes(c, &ask); err != nil {
				return err
			}
			asked := with(&ask, args)
			switch {
			case shell:
				return a.buildShell(c.Context(), asked)
			case again:
				return a.buildAgain(c.Context(), asked)
			case prove:
				return a.prove(c.Context(), asked)
			case watch:
				return a.watch(c.Context(), asked)
			}
			return a.buildLadder(c.Context(), asked)
		},
	}
	a.addLadderFlags(c, &ask, true)
	a.addClusterFlags(c, &ask)
	addPrefixFlags(c, &ask)
	c.Flags().BoolVar(&again, "again", false,
		"build the named packages again; the existing tree stays until the new one is complete and tried")
	c.Flags().BoolVar(&prove, "prove", false,
		"build the named packages a second time, in another directory, and show what differs")
	c.Flags().BoolVar(&watch, "watch", false,
		"record every file that the builds of the named packages read, and show what they use of this machine; existing "+
			"builds are built again")
	c.Flags().BoolVar(&shell, "shell", false, "open a shell in the room of a failed build, with its environment")
	c.Flags().StringVar(&ask.Until, "until", "",
		"build the named packages up to this `STAGE`: unpack, patch, configure, compile, check or place; their needs are "+
			"built completely")
	return c
}

func (a *app) buildLadder(ctx context.Context, ask plan.Ask) error {
	r, err := a.build(ctx, a.building(ask))
	if err != nil {
		return err
	}
	return a.answer(r, func() { a.showBuilt(r.Ladder.Plan) })
}

func (a *app) showBuilt(p *plan.Plan) {
	if len(p.Todo()) == 0 {
		a.screen.Print("Nothing to build.")
	}
	for _, j := range p.Asked() {
		if j.Until == "" {
			a.screen.Print("%s %s%s is in %s", a.screen.Strong(j.Name), j.Version, forPrefix(j), j.Tree)
			continue
		}
		a.screen.Print("%s %s is built up to %s in %s", a.screen.Strong(j.Name), j.Version, j.Until,
			a.session.Store.Work(j.Ref))
		if slices.Contains(build.LoggedStages, j.Until) {
			a.screen.Note("Its output: fernladder log %s --stage %s", j.Name, j.Until)
		}
		a.screen.Note("To look around: fernladder build --shell %s. To continue: fernladder build %[1]s", j.Name)
	}
}

// buildAgain builds what is named once more, in place of what exists.
func (a *app) buildAgain(ctx context.Context, ask plan.Ask) error {
	s, err := a.open()
	if err != nil {
		return err
	}
	b, all, err := s.Rebuild(ctx, a.building(ask))
	if all == nil && err != nil {
		return a.told(ctx, b.Ladder, b.Run, err)
	}
	shown := a.answer(all, func() {
		for _, j := range b.Ladder.Asked() {
			if !b.Ladder.Installed[j.Ref] {
				a.screen.Print("%s %s did not exist, and is built: %s", a.screen.Strong(j.Name), j.Version, j.Tree)
			}
		}
		for _, r := range all {
			a.showUnrecorded(r.Unrecorded)
			if r.Err == nil {
				a.screen.Print("%s %s is built again in %s (%s before), in the same place.", a.screen.Strong(r.Build.Name),
					r.Build.Version, seconds(r.Took), seconds(r.Was))
			}
		}
	})
	return a.failed(errors.Join(shown, err))
}

// forPrefix says for which directory a job is, where that is not its tree.
func forPrefix(j *build.Job) string {
	if !j.Away() {
		return ""
	}
	return ", for " + j.Prefix + ","
}

// buildShell opens a shell where a build has failed.
func (a *app) buildShell(ctx context.Context, ask plan.Ask) error {
	if len(ask.Names) != 1 {
		return usage("build --shell takes one name")
	}
	s, err := a.open()
	if err != nil {
		return err
	}
	var shell *term.Shell
	status, err := s.Shell(ctx, a.ladder(ask), func() (*os.File, error) {
		if shell, err = term.OpenShell(os.Stdin, os.Stdout); err != nil {
			return nil, err
		}
		return shell.Terminal, nil
	})
	if shell != nil {
		shell.Close()
	}
	if err != nil {
		return err
	}
	if status != 0 {
		a.screen.Note("The shell ended with status %d.", status)
	}
	return nil
}
