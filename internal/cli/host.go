package cli

import (
	"cmp"
	"context"
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"fernladder/core/host"
	"fernladder/core/plan"
	"fernladder/core/session"
	"fernladder/internal/term"
)

func (a *app) hostCommand() *cobra.Command {
	var ask plan.Ask
	refresh, used, write := false, false, false
	var r session.HostRequest
	yes := false
	c := &cobra.Command{
		Use:   "host [NAME...]",
		Short: "Show what the ladder needs of this machine, and what is missing",
		Long: `Looks for everything that the builds of a ladder need of the operating system: programs
that they run, and what their recipes name. Shows each once, and the line that installs
what is missing. With --install, the package manager first reports what it would do, and
does it after asking, unless it would change existing packages; then everything is looked
for again. Which package has a thing is stated in the recipe, or else in the package
manager's lists of files, which --refresh fetches and keeps.

With --used, it shows what the last build of a package used of this machine without
declaring it, as lines for the recipe; --write adds them.`,
		Example: `  fernladder host glasshouse
  fernladder host glasshouse --install
  fernladder host --refresh
  fernladder host mistplan --used`,
		ValidArgsFunction: a.completeRecipes,
		RunE: func(c *cobra.Command, args []string) error {
			if err := onlyOne(c, "used", "install"); err != nil {
				return err
			}
			if write && !used {
				return usage("--write writes what --used shows; give both")
			}
			if used {
				return a.used(args, write)
			}
			if refresh {
				if err := a.refreshHostFiles(c.Context()); err != nil || len(args) == 0 {
					return err
				}
			}
			r.Ask = with(&ask, args)
			return a.host(c.Context(), r, yes)
		},
	}
	a.addLadderFlags(c, &ask, false)
	c.Flags().BoolVar(&r.Install, "install", false, "install what is missing, after asking")
	c.Flags().BoolVar(&refresh, "refresh", false, "fetch the package manager's lists of the files of all packages first")
	c.Flags().BoolVar(&used, "used", false, "show what the last build used of this machine without declaring it")
	c.Flags().BoolVar(&write, "write", false, "with --used, add it to the recipe")
	c.Flags().BoolVar(&yes, "yes", false, "with --install, do not ask")
	c.Flags().BoolVar(&r.AlsoChange, "also-change", false,
		"with --install, also let the package manager remove, upgrade and downgrade packages")
	return c
}

// refreshHostFiles fetches the package manager's lists of the files of all packages.
func (a *app) refreshHostFiles(ctx context.Context) error {
	s, err := a.open()
	if err != nil {
		return err
	}
	if !a.offline {
		a.screen.Note("Fetching the package manager's lists of files …")
	}
	entries, err := s.RefreshHostFiles(ctx)
	if err != nil {
		return err
	}
	return a.answer(map[string]int{"files": entries}, func() {
		a.screen.Print("The packages of %d headers, libraries, modules and programs are known now.", entries)
	})
}

func (a *app) host(ctx context.Context, r session.HostRequest, yes bool) error {
	s, err := a.open()
	if err != nil {
		return err
	}
	r.Input, r.Output = os.Stdin, a.err
	r.Confirm = func(add *host.Addition, argv []string) error { return a.confirmInstall(add, argv, yes) }
	report, err := s.Host(ctx, r)
	if report == nil {
		return err
	}
	if shown := a.answer(report, func() { a.showHost(report) }); shown != nil {
		return shown
	}
	if err != nil && a.screen.JSON {
		err = &alreadyShown{err}
	}
	return err
}

// confirmInstall says what the package manager would do, and asks whether it may.
func (a *app) confirmInstall(add *host.Addition, argv []string, yes bool) error {
	a.screen.Note("This will run: %s", strings.Join(argv, " "))
	a.screen.Note("It installs %s: %s", term.Count(len(add.Installs), "package"), strings.Join(add.Installs, " "))
	if !add.Harmless() {
		a.screen.Note("And it will %s", add.Changes())
	}
	switch {
	case yes:
	case !a.screen.Interactive(os.Stdin):
		return usage("--install asks before it runs anything, and needs a terminal for that; to skip the question, add --yes")
	case !a.agrees("Run it?"):
		return usage("nothing was installed")
	}
	return nil
}

func (a *app) showHost(r *session.HostReport) {
	m, p, findings := a.session, r.Ladder.Plan, r.Needs
	rows := make([][]string, len(findings))
	lacks := 0
	for i, f := range findings {
		state := a.screen.Good("there")
		switch f.State {
		case host.Absent:
			state = a.screen.Bad("missing")
		case host.TooOld:
			state = a.screen.Bad("does not fit")
		case host.Unknown:
			state = "there, version unknown"
		}
		if f.Lacking() {
			lacks++
		}
		wanted := f.Range.String()
		if wanted == "any" {
			wanted = ""
		}
		rows[i] = []string{string(f.Kind), a.screen.Strong(f.Name), state, f.Version, wanted,
			strings.Join(f.By, ", ") + f.OrElse()}
	}
	a.screen.Table([]string{"kind", "name", "state", "version", "needed", "for"}, rows)
	for _, pkg := range p.Packages {
		for _, line := range clashes(m.Machine, pkg.Name(), pkg.Recipe.Offers) {
			a.screen.Print("%s", line)
		}
	}
	sum := "all are there"
	if lacks > 0 {
		sum = fmt.Sprintf("%d missing", lacks)
	}
	a.screen.Print("\n%s for %s on this machine (%s, %s): %s.", term.Count(len(findings), "need"),
		term.Count(len(p.Jobs), "package"), cmp.Or(m.System.Release, "unknown system"), m.System.Arch, sum)
}
