package host

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
)

// Programs are those of the operating system, found in the directories of
// Path and nowhere else.
type Programs struct {
	Path []string
}

// Find returns the file of a program, or "".
func (p Programs) Find(name string) string {
	if filepath.IsAbs(name) {
		return executable(name)
	}
	for _, dir := range p.Path {
		if file := executable(filepath.Join(dir, name)); file != "" {
			return file
		}
	}
	return ""
}

func executable(file string) string {
	if info, err := os.Stat(file); err == nil && info.Mode().IsRegular() && info.Mode()&0o111 != 0 {
		return file
	}
	return ""
}

// Compiler says which C compiler a name stands for: the first line it prints of
// its version, and what it compiles for. It is "" when there is none.
func (p Programs) Compiler(ctx context.Context, name string) string {
	words := strings.Fields(name)
	if len(words) == 0 {
		return ""
	}
	file := p.Find(words[0])
	if file == "" {
		return ""
	}
	ask := func(question string) string {
		command := exec.CommandContext(ctx, file, append(slices.Clone(words[1:]), question)...)
		command.Env = []string{"LC_ALL=C", "PATH=" + strings.Join(p.Path, ":")}
		out, err := command.Output()
		if err != nil {
			return ""
		}
		line, _, _ := strings.Cut(string(out), "\n")
		return line
	}
	return strings.TrimSpace(ask("--version") + " " + ask("-dumpmachine"))
}

// Missing is the error for programs that the operating system lacks.
type Missing struct {
	Programs []MissingProgram
	Path     []string // where they were looked for
	Machine  Machine
}

// MissingProgram is one of them.
type MissingProgram struct {
	Name string   `json:"name"`
	By   []string `json:"needed_by"` // packages
}

func (e *Missing) Error() string {
	text := "This machine lacks programs that the builds need:"
	for _, m := range e.Programs {
		text += fmt.Sprintf("\n    %s, needed by %s", m.Name, strings.Join(m.By, ", "))
	}
	text += fmt.Sprintf("\n  They were looked for in %s.", strings.Join(e.Path, ":"))
	if line := e.InstallLine(); line != "" {
		text += "\n  Install them: " + line
	}
	return text
}

// InstallLine is the command that installs what is missing, or "" when it is
// not known for this operating system.
func (e *Missing) InstallLine() string {
	installer := map[string]string{
		"debian": "apt-get install", "fedora": "dnf install", "suse": "zypper install",
		"arch": "pacman -S", "alpine": "apk add",
	}[e.Machine.Family]
	if installer == "" {
		return ""
	}
	var packages []string
	for _, m := range e.Programs {
		packages = append(packages, packageOf(m.Name, e.Machine.Family))
	}
	slices.Sort(packages)
	return installer + " " + strings.Join(slices.Compact(packages), " ")
}

// packageOf names the operating system's package with one of the programs that
// the methods run. Most are called like the program.
func packageOf(program, family string) string {
	switch {
	case program == "cc":
		return "gcc"
	case program == "ninja" && (family == "debian" || family == "fedora"):
		return "ninja-build"
	}
	return program
}
