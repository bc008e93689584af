package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"strings"

	"github.com/spf13/cobra"

	"fernladder/core/advice"
	"fernladder/core/build"
	"fernladder/core/host"
	"fernladder/core/machine"
	"fernladder/core/plan"
	"fernladder/internal/term"
)

func (a *app) hostCommand() *cobra.Command {
	var ask plan.Ask
	refresh, used, write := false, false, false
	var may installing
	c := &cobra.Command{
		Use:   "host [NAME...]",
		Short: "Show what this machine must have for the ladder, and what it lacks",
		Long: `Looks for everything that the builds of a ladder need of the operating system:
the programs that they run, and what their recipes name. Shows each once, and the
line that installs what is missing. With --install, the package manager first says
what it would do, and does it after asking, unless that changes what is there; then
everything is looked for again. Which package has a thing is what the recipe
says, or else what the package manager's lists of files say, which --refresh
fetches and keeps.

With --used, it shows what the last build of a package has used of this machine
that its recipe does not say, as the lines to add; --write adds them.`,
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
			return a.host(c.Context(), with(&ask, args), may)
		},
	}
	a.addLadderFlags(c, &ask, false)
	c.Flags().BoolVar(&may.install, "install", false, "install what is missing, after asking")
	c.Flags().BoolVar(&refresh, "refresh", false, "fetch the package manager's lists of the files of all packages first")
	c.Flags().BoolVar(&used, "used", false, "show what the last build has used of this machine without its recipe saying so")
	c.Flags().BoolVar(&write, "write", false, "with --used, add it to the recipe")
	c.Flags().BoolVar(&may.yes, "yes", false, "with --install, do not ask")
	c.Flags().BoolVar(&may.alsoChange, "also-change", false, "with --install, let the package manager also remove, upgrade and downgrade what is there")
	return c
}

// refreshHostFiles makes the index of the files of the operating system's
// packages anew.
func (a *app) refreshHostFiles(ctx context.Context) error {
	m, err := a.open()
	if err != nil {
		return err
	}
	if a.offline {
		return usage("--refresh fetches lists, which --offline forbids")
	}
	if err := m.Store.Prepare(); err != nil {
		return err
	}
	a.screen.Note("Fetching the package manager's lists of files …")
	entries, err := m.HostFiles.Refresh(ctx, m.Programs)
	if err != nil {
		return err
	}
	if a.screen.JSON {
		return a.screen.PrintJSON(map[string]int{"files": entries})
	}
	a.screen.Print("It is known now which packages have %d headers, libraries, modules and programs.", entries)
	return nil
}

// hostFinding is a finding in JSON, with the recipe that has the same.
type hostFinding struct {
	host.Finding
	Recipe string `json:"recipe,omitempty"`
}

func hostFindings(findings []host.Finding, offers map[host.Question]string) []hostFinding {
	all := make([]hostFinding, len(findings))
	for i, f := range findings {
		all[i] = hostFinding{Finding: f}
		if f.Lacking() {
			all[i].Recipe = offers[f.Question]
		}
	}
	return all
}

func (a *app) host(ctx context.Context, ask plan.Ask, may installing) error {
	m, p, err := a.plan(ctx, ask)
	if err != nil {
		return err
	}
	findings, missing := build.LookAtHost(ctx, m, p.Jobs, true)
	if may.install && missing != nil {
		if err := a.installMissing(ctx, m, missing, may); err != nil {
			return err
		}
		if m, err = a.open(); err != nil { // it has answers of its own
			return err
		}
		findings, missing = build.LookAtHost(ctx, m, p.Jobs, true)
	}
	if a.screen.JSON {
		var offers map[host.Question]string
		out := map[string]any{}
		if missing != nil {
			offers = advice.Offer(missing, advice.Look(m))
			out["install"], out["unknown"] = missing.InstallLine()
		}
		out["needs"] = hostFindings(findings, offers)
		if err := a.screen.PrintJSON(out); err != nil {
			return err
		}
	} else {
		a.showHost(m, p, findings)
	}
	if missing == nil {
		return nil
	}
	if a.screen.JSON {
		return &alreadyShown{missing}
	}
	return missing
}

func (a *app) showHost(m *machine.Machine, p *plan.Plan, findings []host.Finding) {
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
			state = "there, version not known"
		}
		if f.Lacking() {
			lacks++
		}
		wanted := f.Range.String()
		if wanted == "any" {
			wanted = ""
		}
		rows[i] = []string{string(f.Kind), a.screen.Strong(f.Name), state, f.Version, wanted, strings.Join(f.By, ", ") + f.OrElse()}
	}
	a.screen.Table([]string{"kind", "name", "state", "version", "needed", "for"}, rows)
	for _, pkg := range p.Packages {
		for _, line := range clashes(m, pkg.Name(), pkg.Recipe.Offers) {
			a.screen.Print("%s", line)
		}
	}
	a.screen.Print("\n%s for %s on this machine (%s, %s): %s.", term.Count(len(findings), "thing"), term.Count(len(p.Jobs), "package"), cmp.Or(m.System.Release, "unknown system"), m.System.Arch,
		map[bool]string{true: "all are there", false: fmt.Sprintf("%d missing", lacks)}[lacks == 0])
}

// asRoot is a command with what makes root run it, where root does not run us.
func asRoot(argv []string) []string {
	if os.Geteuid() == 0 {
		return argv
	}
	return append([]string{"sudo"}, argv...)
}

// installing is what a person allows the package manager to do.
type installing struct {
	install    bool
	yes        bool // without asking
	alsoChange bool // also to remove, upgrade and downgrade what is there
}

// installMissing has the operating system's own package manager install what is missing, once
// it has said what that would change.
func (a *app) installMissing(ctx context.Context, m *machine.Machine, missing *host.Missing, may installing) error {
	packages, _ := missing.Packages()
	if line, _ := missing.InstallLine(); line == "" {
		return missing
	}
	add, err := m.Programs.Add(ctx, m.System.Family, packages)
	if err != nil {
		if errors.Is(err, host.Clash) {
			return &refusedInstall{packages, err.Error(), "If the recipe can use either, list both in either = [ … ] of [[host]]; or turn off the option that needs one.", missing}
		}
		line, _ := missing.InstallLine()
		return &refusedInstall{packages, strings.TrimRight(err.Error(), "."), "Install them by hand: " + line, missing}
	}
	if !add.Harmless() && !may.alsoChange {
		return &refusedInstall{packages, "that would " + add.Changes(), "To allow it, add --also-change.", missing}
	}
	argv := asRoot(add.Argv)
	a.screen.Note("This will run: %s", strings.Join(argv, " "))
	a.screen.Note("It installs %s: %s", term.Count(len(add.Installs), "package"), strings.Join(add.Installs, " "))
	if !add.Harmless() {
		a.screen.Note("And it will %s", add.Changes())
	}
	if !may.yes {
		if !a.screen.Interactive(os.Stdin) {
			return usage("--install asks before it runs anything, and there is nobody to ask; add --yes to do without")
		}
		if !a.agrees("Run it?") {
			return usage("nothing was installed")
		}
	}
	return a.runInstaller(ctx, argv, a.err)
}

// refusedInstall is the error when the package manager was not run.
type refusedInstall struct {
	packages  []string
	why, next string
	missing   *host.Missing
}

func (e *refusedInstall) Error() string {
	return fmt.Sprintf("not installed: %s; %s\n  %s", strings.Join(e.packages, " "), e.why, e.next)
}

func (e *refusedInstall) Unwrap() error { return e.missing }

// runInstaller runs the package manager. It is asked to end, and never killed: what it
// has begun, it finishes.
func (a *app) runInstaller(ctx context.Context, argv []string, out io.Writer) error {
	command := exec.CommandContext(ctx, argv[0], argv[1:]...)
	command.Stdin, command.Stdout, command.Stderr = os.Stdin, out, out
	command.Env = append(os.Environ(), "DEBIAN_FRONTEND=noninteractive", "LC_ALL=C")
	command.Cancel = func() error { return command.Process.Signal(os.Interrupt) }
	if err := command.Run(); err != nil {
		return fmt.Errorf("%s: %w", strings.Join(argv, " "), err)
	}
	return nil
}
