package host

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"fernladder/core/problem"
	"fernladder/core/version"
)

// A Need is something that builds need of the operating system.
type Need struct {
	Question
	Range    version.Range `json:"-"`
	Packages []string      `json:"packages,omitempty"` // of this operating system that have it, as recipes say
	By       []string      `json:"needed_by"`          // names of packages
	At       string        `json:"at,omitempty"`       // FILE:LINE
	Or       []Question    `json:"or,omitempty"`       // the alternatives
}

// OrElse lists the alternatives in parentheses, or returns "".
func (n Need) OrElse() string {
	if len(n.Or) == 0 {
		return ""
	}
	names := make([]string, len(n.Or))
	for i, q := range n.Or {
		names[i] = q.String()
	}
	return " (or " + strings.Join(names, ", ") + ")"
}

// State says how the operating system meets a need.
type State string

// The states.
const (
	There   State = "there"
	TooOld  State = "too_old" // or too new: not in the range
	Unknown State = "unknown" // it exists, but does not tell its version
	Absent  State = "missing"
)

// A Finding is a need with what the operating system has.
type Finding struct {
	Need
	Answer
	State State `json:"state"`
	// Packages of this operating system that have it, according to its package manager.
	Owners []string `json:"owners,omitempty"`
}

// Check looks for everything that is needed. Something of unknown version is accepted, because
// nothing shows that it does not fit. Programs are only asked for their versions, which takes
// some of them long, if a need is about it or versions is set.
func (p Programs) Check(ctx context.Context, cc string, needs []Need, versions bool) []Finding {
	questions := make([]Question, len(needs))
	ranged := map[Question]bool{}
	for i, n := range needs {
		questions[i] = n.Question
		ranged[n.Question] = ranged[n.Question] || versions || n.Range.String() != "any"
	}
	answers := p.Ask(ctx, cc, questions, func(q Question) bool { return ranged[q] })
	findings := make([]Finding, len(needs))
	for i, n := range needs {
		f := Finding{Need: n, Answer: answers[n.Question], State: There}
		v, err := version.Parse(f.Version)
		switch {
		case !f.There:
			f.State = Absent
		case n.Range.String() == "any":
		case err != nil:
			f.State = Unknown
		case !n.Range.Contains(v):
			f.State = TooOld
		}
		findings[i] = f
	}
	return findings
}

// Lacking reports whether the need is not met.
func (f Finding) Lacking() bool { return f.State == Absent || f.State == TooOld }

// String names what is missing.
func (f Finding) String() string {
	switch f.State {
	case TooOld:
		return fmt.Sprintf("%s is %s here, but %s is needed", f.Question, f.Version, f.Range)
	case Absent:
		if f.Range.String() != "any" {
			return fmt.Sprintf("%s %s", f.Question, f.Range)
		}
	}
	return f.Question.String()
}

// Missing is the error for what the operating system lacks.
type Missing struct {
	Needs   []Finding
	Path    []string // the search path of programs
	Machine Machine
}

// Lacking is the error for findings that do not meet their needs, or nil.
func Lacking(findings []Finding, path []string, machine Machine) *Missing {
	missing := &Missing{Path: path, Machine: machine}
	for _, f := range findings {
		if f.Lacking() {
			missing.Needs = append(missing.Needs, f)
		}
	}
	if len(missing.Needs) == 0 {
		return nil
	}
	return missing
}

func (e *Missing) Error() string {
	text := "This machine lacks what the builds need:"
	for _, f := range e.Needs {
		text += fmt.Sprintf("\n    %s%s, needed by %s", f, f.OrElse(), strings.Join(f.By, ", "))
		if f.At != "" {
			text += fmt.Sprintf(" (%s)", f.At)
		}
	}
	if slices.ContainsFunc(e.Needs, func(f Finding) bool { return f.Kind == Program }) {
		text += fmt.Sprintf("\n  Programs were looked for in %s.", strings.Join(e.Path, ":"))
	}
	line, unknown := e.InstallLine()
	if line != "" {
		text += "\n  Install what is known by name: " + line
		if len(unknown) == 0 {
			text = strings.Replace(text, "Install what is known by name", "Install them", 1)
		}
	}
	if len(unknown) > 0 {
		text += fmt.Sprintf("\n  The packages of this system that have %s are unknown; packages = { … } in the recipe "+
			"names them, and so do the package manager's lists of files, once fetched.", strings.Join(unknown, ", "))
	}
	return text
}

// Installer is the command with which a family of operating systems installs packages, or nil if
// it is not known.
func Installer(family string) []string {
	return map[string][]string{
		"debian": {"apt-get", "install"}, "fedora": {"dnf", "install"}, "suse": {"zypper", "install"},
		"arch": {"pacman", "-S"}, "alpine": {"apk", "add"},
	}[family]
}

// LookUp finds the packages of missing things if the recipes do not name them.
func (e *Missing) LookUp(files Files) {
	var questions []Question
	for _, f := range e.Needs {
		if len(f.Packages) == 0 {
			questions = append(questions, f.Question)
		}
	}
	owners := files.Owners(questions)
	for i, f := range e.Needs {
		e.Needs[i].Owners = owners[f.Question]
	}
}

// InstallLine is the command that installs what is missing, or "" if there is none for this
// operating system; and what it does not install, because the package is not known.
func (e *Missing) InstallLine() (line string, unknown []string) {
	packages, unknown := e.Packages()
	installer := Installer(e.Machine.Family)
	if installer == nil || len(packages) == 0 {
		return "", unknown
	}
	return strings.Join(append(slices.Clone(installer), packages...), " "), unknown
}

// Packages are those of the operating system that have what is missing.
func (e *Missing) Packages() (packages, unknown []string) {
	for _, f := range e.Needs {
		names := f.Packages
		if len(names) == 0 && f.Kind == Program {
			names = PackageOf(f.Name, e.Machine.Family)
		}
		if len(names) == 0 && (len(f.Owners) == 1 || len(f.Owners) > 1 && f.Owners[0] == f.Name) {
			names = f.Owners[:1]
		}
		switch {
		case len(names) == 0 && len(f.Owners) > 1:
			unknown = append(unknown, f.Question.String()+" (one of "+strings.Join(f.Owners[:min(4, len(f.Owners))], ", ")+")")
		case len(names) == 0:
			unknown = append(unknown, f.Question.String())
		}
		packages = append(packages, names...)
	}
	slices.Sort(packages)
	return slices.Compact(packages), unknown
}

// PackageOf names the operating system's package with one of the programs that builds run, if
// that hardly differs between systems.
func PackageOf(program, family string) []string {
	switch program {
	case "cc":
		return []string{"gcc"}
	case "c++":
		return map[string][]string{"debian": {"g++"}, "fedora": {"gcc-c++"}, "suse": {"gcc-c++"}, "arch": {"gcc"},
			"alpine": {"g++"}}[family]
	case "ninja":
		if family == "debian" || family == "fedora" {
			return []string{"ninja-build"}
		}
		return []string{"ninja"}
	case "svn":
		return []string{"subversion"}
	case "autoreconf", "autoconf":
		return []string{"autoconf"}
	case "libtoolize":
		return []string{"libtool"}
	case "autopoint":
		return map[string][]string{"debian": {"autopoint"}, "fedora": {"gettext-devel"}, "suse": {"gettext-tools"},
			"arch": {"gettext"}, "alpine": {"gettext-dev"}}[family]
	case "make", "cmake", "meson", "patch", "git", "pkg-config", "automake", "bison", "flex", "m4", "gperf",
		"perl", "python3":
		return []string{program}
	}
	return nil
}

// ProblemKind is the kind of the error.
func (e *Missing) ProblemKind() problem.Kind { return problem.Host }
