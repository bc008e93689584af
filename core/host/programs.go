package host

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"strings"
)

// Programs are those of the operating system, found in the directories of Path and nowhere else.
type Programs struct {
	Path []string
	// Asked remembers answers. If it is nil, nothing is remembered.
	Asked *Answers
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

// Compiler identifies the C compiler of a name: the first line of its version, and its target.
// It is "" if there is none.
func (p Programs) Compiler(ctx context.Context, name string) string {
	argv := p.compiler(name)
	if argv == nil {
		return ""
	}
	ask := func(question string) string {
		out, _, err := p.run(ctx, "", append(slices.Clone(argv), question)...)
		if err != nil {
			return ""
		}
		line, _, _ := strings.Cut(out, "\n")
		return line
	}
	return strings.TrimSpace(ask("--version") + " " + ask("-dumpmachine"))
}
