package host

import (
	"context"
	"errors"
	"fmt"
	"os/exec"
	"slices"
	"strings"

	"fernladder/core/pattern"
	"fernladder/core/problem"
)

// An Addition is what the package manager would do to install packages, according to a
// simulation.
type Addition struct {
	Argv     []string // the command that does it, without recommended packages and without questions
	Installs []string // packages
	Upgrades []string // that are there
	Removes  []string
}

// Harmless reports whether no installed package changes.
func (a *Addition) Harmless() bool { return len(a.Upgrades) == 0 && len(a.Removes) == 0 }

// Changes lists the installed packages that would change.
func (a *Addition) Changes() string {
	var all []string
	for what, names := range map[string][]string{"remove ": a.Removes, "upgrade or downgrade ": a.Upgrades} {
		if len(names) > 0 {
			all = append(all, what+strings.Join(names, ", "))
		}
	}
	slices.Sort(all)
	return strings.Join(all, "; ")
}

// CheckPackageName returns an error for a text that a package manager does not simply read as
// the name of a package: with a suffix, apt-get removes one.
func CheckPackageName(name string) error {
	if !packageName.MatchString(name) {
		return fmt.Errorf("%q is not the name of a package", name)
	}
	return nil
}

var packageName = pattern.New(`^[A-Za-z0-9]([A-Za-z0-9._+:-]*[A-Za-z0-9+])?$`)

// Remover is the command with which a family of operating systems removes packages, with what
// only they needed; nil if it is not known.
func Remover(family string) []string {
	return map[string][]string{
		"debian": {"apt-get", "autoremove"}, "fedora": {"dnf", "remove"}, "suse": {"zypper", "remove", "--clean-deps"},
		"arch": {"pacman", "-Rs"}, "alpine": {"apk", "del"},
	}[family]
}

// errNoPretending is the error for a package manager that cannot simulate an installation.
var errNoPretending = errors.New("the package manager of this system cannot report what it would do")

// adders are the commands of package managers to simulate an installation, and to do it.
var adders = map[string]struct {
	program  string
	pretend  []string
	argv     []string
	readWhat func(out string, a *Addition)
}{
	"debian": {"apt-get", []string{"-s", "-q", "install", "--no-install-recommends"},
		[]string{"-y", "-q", "install", "--no-install-recommends"}, aptWould},
	"fedora": {"dnf", []string{"-q", "--assumeno", "--setopt=install_weak_deps=False", "install"},
		[]string{"-y", "-q", "--setopt=install_weak_deps=False", "install"}, dnfWould},
	"suse": {"zypper", []string{"--non-interactive", "install", "--dry-run", "--no-recommends"},
		[]string{"--non-interactive", "install", "--no-recommends"}, zypperWould},
	"arch": {"pacman", []string{"-S", "--needed", "--print", "--print-format", "%n"},
		[]string{"-S", "--needed", "--noconfirm"}, nil},
	"alpine": {"apk", []string{"add", "--simulate"}, []string{"add"}, apkWould},
}

// Add finds out what installing packages would do. It changes nothing. The caller checks whether
// the command is harmless before running it.
func (p Programs) Add(ctx context.Context, family string, packages []string) (*Addition, error) {
	how, known := adders[family]
	program := p.Find(how.program)
	if !known || program == "" {
		return nil, errNoPretending
	}
	for _, name := range packages {
		if err := CheckPackageName(name); err != nil {
			return nil, err
		}
	}
	out, errOut, err := p.run(ctx, "", slices.Concat([]string{program}, how.pretend, packages)...)
	refused := errors.As(err, new(*exec.ExitError)) && family == "fedora" // which is told not to install anything
	if m := clashes.FindStringSubmatch(out + errOut); err != nil && m != nil {
		return nil, problem.New(problem.Host, m[1]+m[3], "%s and %s cannot be installed together", m[1]+m[3], m[2]+m[4]).
			Coded(Clash)
	}
	if err != nil && !refused {
		lines := strings.Split(strings.TrimSpace(errOut+"\n"+out), "\n")
		return nil, fmt.Errorf("%s: %s", how.program, strings.TrimPrefix(strings.TrimSpace(lines[0]), "E: "))
	}
	a := &Addition{Argv: slices.Concat([]string{program}, how.argv, packages)}
	if how.readWhat == nil { // a list of what would be installed; it upgrades installed ones
		for _, name := range strings.Fields(out) {
			if _, _, err := p.run(ctx, "", program, "-Q", name); err == nil {
				a.Upgrades = append(a.Upgrades, name)
			} else {
				a.Installs = append(a.Installs, name)
			}
		}
		return a, nil
	}
	how.readWhat(out, a)
	if family == "debian" && a.Harmless() { // should the machine be another by then
		a.Argv = slices.Concat([]string{program}, how.argv, []string{"--no-remove", "--no-upgrade"}, packages)
	}
	return a, nil
}

// clashes matches messages of package managers about that.
var clashes = pattern.New(`(?m)^[ \t]*(\S+) : (?:Conflicts|Breaks): (\S+)|(?:package ` +
	`|: )(\S+)(?: from \S+)? conflicts with (\S+)`)

var aptLine = pattern.New(`(?m)^(Inst|Remv) (\S+)( \[[^\]]*\])?`)

// aptWould reads Inst NAME [OLD] (NEW …) and Remv NAME [OLD].
func aptWould(out string, a *Addition) {
	for _, m := range aptLine.FindAllStringSubmatch(out, -1) {
		switch {
		case m[1] == "Remv":
			a.Removes = append(a.Removes, m[2])
		case m[3] != "":
			a.Upgrades = append(a.Upgrades, m[2])
		default:
			a.Installs = append(a.Installs, m[2])
		}
	}
}

// dnfWould reads the table of a transaction: headings, and lines that begin with a space and the
// package's name.
func dnfWould(out string, a *Addition) {
	var to *[]string
	for line := range strings.Lines(out) {
		words := strings.Fields(line)
		switch head := strings.TrimSpace(line); {
		case len(words) == 0 || strings.HasPrefix(head, "Transaction Summary"):
			to = nil
		case strings.HasPrefix(head, "Installing"):
			to = &a.Installs
		case strings.HasPrefix(head, "Upgrading"), strings.HasPrefix(head, "Downgrading"),
			strings.HasPrefix(head, "Reinstalling"):
			to = &a.Upgrades
		case strings.HasPrefix(head, "Removing"):
			to = &a.Removes
		case to != nil && strings.HasPrefix(line, " ") && words[0] != "replacing":
			*to = append(*to, words[0])
		}
	}
}

// zypperWould reads sentences, each followed by a line of names.
func zypperWould(out string, a *Addition) {
	var to *[]string
	for line := range strings.Lines(out) {
		switch line = strings.TrimSpace(line); {
		case strings.Contains(line, "going to be installed"):
			to = &a.Installs
		case strings.Contains(line, "going to be upgraded"), strings.Contains(line, "going to be downgraded"),
			strings.Contains(line, "going to be reinstalled"):
			to = &a.Upgrades
		case strings.Contains(line, "going to be REMOVED"):
			to = &a.Removes
		case line == "":
			to = nil
		case to != nil:
			*to = append(*to, strings.Fields(line)...)
		}
	}
}

var apkLine = pattern.New(`(?m)^\(\d+/\d+\) (Installing|Upgrading|Downgrading|Replacing|Purging) (\S+)`)

// apkWould reads (1/3) Installing NAME (VERSION).
func apkWould(out string, a *Addition) {
	for _, m := range apkLine.FindAllStringSubmatch(out, -1) {
		switch m[1] {
		case "Installing":
			a.Installs = append(a.Installs, m[2])
		case "Purging":
			a.Removes = append(a.Removes, m[2])
		default:
			a.Upgrades = append(a.Upgrades, m[2])
		}
	}
}

// Clash is the problem of packages that cannot be installed together.
const Clash problem.Code = "package_clash"
