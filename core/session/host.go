package session

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"slices"
	"strings"

	"fernladder/core/advice"
	"fernladder/core/build"
	"fernladder/core/host"
	"fernladder/core/plan"
	"fernladder/core/problem"
)

// A HostRequest asks what the operating system must have for a ladder.
type HostRequest struct {
	plan.Ask
	Install    bool // have its package manager install missing packages
	AlsoChange bool // let that also remove, upgrade and downgrade packages

	// Confirm is asked before the package manager runs; nil: it runs.
	Confirm func(*host.Addition, []string) error
	Input   io.Reader // of the package manager
	Output  io.Writer
}

// HostReport is what the builds of a ladder need of the operating system.
type HostReport struct {
	Install string        `json:"install,omitempty"` // the command that installs missing packages
	Unknown []string      `json:"unknown,omitempty"` // missing things in no known package
	Needs   []HostFinding `json:"needs"`

	Ladder *Ladder `json:"-"`
}

// A HostFinding is one need, and the recipe that has the same, where it is missing.
type HostFinding struct {
	host.Finding
	Recipe string `json:"recipe,omitempty"`
}

// FindingsWith adds to findings the recipes that have what is missing.
func FindingsWith(findings []host.Finding, offers map[host.Question]string) []HostFinding {
	all := make([]HostFinding, len(findings))
	for i, f := range findings {
		all[i] = HostFinding{Finding: f}
		if f.Lacking() {
			all[i].Recipe = offers[f.Question]
		}
	}
	return all
}

// Host reports what the operating system must have for a ladder. Its error is a
// *host.Missing where it lacks something.
func (s *Session) Host(ctx context.Context, r HostRequest) (*HostReport, error) {
	l, err := s.Ladder(ctx, LadderRequest{Ask: r.Ask})
	if err != nil {
		return nil, err
	}
	jobs := slices.DeleteFunc(slices.Clone(l.Jobs), func(j *build.Job) bool {
		return len(j.From) > 0 || s.Settings.OnlyDepots
	})
	findings, missing := build.LookAtHost(ctx, s.Machine, jobs, true)
	if r.Install && missing != nil {
		if err := s.install(ctx, missing, r); err != nil {
			return nil, err
		}
		if s, err = s.renewed(); err != nil {
			return nil, err
		}
		findings, missing = build.LookAtHost(ctx, s.Machine, jobs, true)
	}
	report := &HostReport{Ladder: l}
	var offers map[host.Question]string
	if missing != nil {
		offers = advice.Offer(missing, advice.Look(s.Machine))
		report.Install, report.Unknown = missing.InstallLine()
	}
	report.Needs = FindingsWith(findings, offers)
	if missing != nil {
		return report, missing
	}
	return report, nil
}

// refused is the error where the package manager was not run. It unwraps to what is missing.
type refused struct {
	*problem.Problem
	missing *host.Missing
}

func (e *refused) Unwrap() error { return e.missing }

// install has the package manager install what is missing, once it has said what that would
// change.
func (s *Session) install(ctx context.Context, missing *host.Missing, r HostRequest) error {
	packages, _ := missing.Packages()
	line, _ := missing.InstallLine()
	if line == "" {
		return missing
	}
	refuse := func(why, next string) error {
		return &refused{problem.New(problem.Host, "", "not installed: %s; %s\n  %s", strings.Join(packages, " "), why, next),
			missing}
	}
	add, err := s.Programs.Add(ctx, s.System.Family, packages)
	switch {
	case errors.Is(err, host.Clash):
		return refuse(err.Error(),
			"If the recipe can use either, list both in either = [ … ] of [[host]]; or turn off the option that needs one.")
	case err != nil:
		return refuse(strings.TrimRight(err.Error(), "."), "Install them by hand: "+line)
	case !add.Harmless() && !r.AlsoChange:
		return refuse("that would "+add.Changes(), "To allow it, add --also-change.")
	}
	argv := AsRoot(add.Argv)
	if r.Confirm != nil {
		if err := r.Confirm(add, argv); err != nil {
			return err
		}
	}
	return RunInstaller(ctx, argv, r.Input, r.Output)
}

// AsRoot is a command with sudo, where this program does not run as root.
func AsRoot(argv []string) []string {
	if os.Geteuid() == 0 {
		return argv
	}
	return append([]string{"sudo"}, argv...)
}

// RunInstaller runs a package manager. When the context ends it is asked to end, and never
// killed: it completes what it began.
func RunInstaller(ctx context.Context, argv []string, in io.Reader, out io.Writer) error {
	command := exec.CommandContext(ctx, argv[0], argv[1:]...)
	command.Stdin, command.Stdout, command.Stderr = in, out, out
	command.Env = append(os.Environ(), "DEBIAN_FRONTEND=noninteractive", "LC_ALL=C")
	command.Cancel = func() error { return command.Process.Signal(os.Interrupt) }
	if err := command.Run(); err != nil {
		return fmt.Errorf("%s: %w", strings.Join(argv, " "), err)
	}
	return nil
}

// RefreshHostFiles fetches the package manager's lists of the files of all packages, and
// returns how many headers, libraries, modules and programs they have.
func (s *Session) RefreshHostFiles(ctx context.Context) (int, error) {
	if s.Offline {
		return 0, problem.New(problem.Usage, "", "offline, no lists are fetched")
	}
	if err := s.Store.Prepare(); err != nil {
		return 0, err
	}
	return s.HostFiles.Refresh(ctx, s.Programs)
}
