package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"fernladder/core/problem"

	"github.com/spf13/cobra"

	"fernladder/core/clean"
	"fernladder/core/host"
	"fernladder/core/landing"
	"fernladder/core/machine"
	"fernladder/core/safefs"
	"fernladder/core/store"
	"fernladder/internal/term"
)

func (a *app) ownerCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "owner FILE...",
		Short: "Say which package a file belongs to",
		Long: `Says which build a file belongs to: on the landing, in a directory that is linked to
it, in a tree, or anywhere that links lead from into the root. Of a file that is not
ours, it says which package of the operating system has it. A name without a slash is
a program of the landing, or else any file that is called so.`,
		Example: `  fernladder owner mistplan                   a program on the landing
  fernladder owner /usr/local/bin/*
  fernladder owner libdewcalc.so.1            any file of that name, in every tree`,
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) == 0 {
				return usage("owner needs a file, for example: fernladder owner /usr/local/bin/mistplan")
			}
			return nil
		},
		RunE: func(c *cobra.Command, args []string) error { return a.owners(c.Context(), args) },
	}
}

// owned is an answer of owner, in JSON.
type owned struct {
	File    string    `json:"file"` // as it was asked for
	Package string    `json:"package,omitempty"`
	Build   store.Ref `json:"build,omitzero"`
	InTree  string    `json:"in_tree,omitempty"` // the path below the tree
	Config  bool      `json:"config,omitempty"`
	Foreign bool      `json:"foreign,omitempty"`        // it is in the tree, and no part of the build
	System  string    `json:"system_package,omitempty"` // of the operating system, which has it
	On      string    `json:"landing,omitempty"`        // asked, needed, beside or no
}

func (a *app) owners(ctx context.Context, files []string) error {
	m, err := a.open()
	if err != nil {
		return err
	}
	current, err := landing.Current(m.Store)
	if err != nil {
		return err
	}
	answers := []owned{}
	var none []string
	for _, file := range files {
		found, err := a.owner(m, file)
		if errors.Is(err, fs.ErrNotExist) {
			a.screen.Note("%s: there is no such file.", term.OneLine(file))
			none = append(none, file)
			continue
		}
		if err != nil {
			return err
		}
		for i := range found {
			if found[i].Build.Name != "" {
				found[i].On = current.How(found[i].Build)
			}
		}
		if len(found) == 0 {
			system := systemOwner(ctx, m, file)
			found = []owned{{File: file, System: system}}
			none = append(none, file)
		}
		answers = append(answers, found...)
	}
	if a.screen.JSON {
		if err := a.screen.PrintJSON(answers); err != nil {
			return err
		}
	} else {
		for _, o := range answers {
			a.screen.Print("%s", a.ownedText(o))
		}
	}
	if len(none) > 0 {
		return &alreadyShown{problem.New(problem.Other, none[0], "%s to no package of Fern Ladder", map[bool]string{true: none[0] + " belongs", false: strings.Join(none, ", ") + " belong"}[len(none) == 1])}
	}
	return nil
}

func (a *app) ownedText(o owned) string {
	what := term.OneLine(o.File) + ": "
	switch {
	case o.Config:
		return what + a.screen.Strong(o.Package) + ", its configuration"
	case o.Package == "" && o.System != "":
		return what + "the operating system's package " + o.System
	case o.Package == "":
		return what + "no package of Fern Ladder, and none of the operating system that it knows of"
	}
	what += fmt.Sprintf("%s %s (%s), %s", a.screen.Strong(o.Package), o.Build.Version, o.Build.ID, term.OneLine(o.InTree))
	if o.Foreign {
		what += "; somebody has put it there, it is no part of the build"
	}
	if o.On == "no" {
		what += "; not on the landing"
	}
	return what
}

// owner finds whose a file is; none where it is not ours.
func (a *app) owner(m *machine.Machine, file string) ([]owned, error) {
	path, err := filepath.Abs(file)
	if err != nil {
		return nil, err
	}
	_, here := os.Lstat(path)
	if !strings.Contains(file, "/") && here != nil {
		for _, dir := range []string{"bin", "sbin"} {
			if program := filepath.Join(m.Used(), dir, file); safefs.Exists(program) {
				path, here = program, nil
				break
			}
		}
	}
	if !strings.Contains(file, "/") && here != nil {
		found, err := m.Store.Named(file)
		if err != nil {
			return nil, err
		}
		var all []owned
		for _, o := range found {
			all = append(all, owned{File: file, Package: o.Name, Build: o.Build, InTree: o.File})
		}
		return all, nil
	}
	o, ours, err := m.Store.OwnerOf(path)
	if err != nil || !ours {
		return nil, err
	}
	return []owned{{File: file, Package: o.Name, Build: o.Build, InTree: o.File, Config: o.Config, Foreign: !o.Listed}}, nil
}

// systemOwner is the operating system's package that has a file, or "".
func systemOwner(ctx context.Context, m *machine.Machine, file string) string {
	path, err := filepath.Abs(file)
	if err != nil || m.Packages == nil {
		return ""
	}
	paths := host.Spellings(path)
	owners, err := m.Packages.Owning(ctx, paths)
	if err != nil {
		return ""
	}
	for _, p := range paths {
		if owners[p] != "" {
			return owners[p]
		}
	}
	return ""
}

func (a *app) whyCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "why NAME",
		Short: "Say why a package is there, and what would go with it",
		Long: `Says who asked for a build, and by which command it came onto the landing; what needs
it, as what; which settings, lock file and states of the landing have it; and what
would leave the landing, or be of no more use, without it.`,
		Example:           "  fernladder why loamdb\n  fernladder why mistplan@3f9c",
		Args:              exactlyOne,
		ValidArgsFunction: a.completeInstalled,
		RunE:              func(_ *cobra.Command, args []string) error { return a.why(args[0]) },
	}
}

func (a *app) why(name string) error {
	m, r, err := a.openInstalled(name)
	if err != nil {
		return err
	}
	w, err := clean.Why(m, r.Ref)
	if err != nil {
		return err
	}
	if a.screen.JSON {
		return a.screen.PrintJSON(w)
	}
	a.screen.Print("%s %s (%s)", a.screen.Strong(r.Name), r.Version, r.ID)
	say := func(format string, args ...any) { a.screen.Print("  "+format, args...) }
	since := ""
	if w.Since > 0 {
		since = fmt.Sprintf(" since landing %d", w.Since)
		if w.By != "" {
			since += ": fernladder " + term.OneLine(w.By)
		}
	}
	switch w.Landing {
	case "asked":
		say("It was asked for, and is on the landing%s", since)
	case "needed":
		say("It is on the landing because what was asked for runs with it,%s", since)
	case "beside":
		say("It was asked for, and is on the landing beside another build%s", since)
	default:
		say("It is not on the landing.")
	}
	if w.Wanted != "" {
		say("The settings want it (%s).", w.Wanted)
	}
	if w.Locked != "" {
		say("%s has it.", w.Locked)
	}
	if len(w.States) > 0 {
		say("Other states of the landing have it: %s.", numbers(w.States))
	}
	for _, d := range w.Needed {
		text := fmt.Sprintf("%s %s (%s) needs it, %s", d.Name, d.Version, d.ID, asWhat(string(d.Role)))
		switch {
		case d.OnLanding:
			text += "; that is on the landing"
		case len(d.Way) > 1:
			text += "; asked for: " + strings.Join(d.Way, " ← ")
		}
		say("%s", text)
	}
	switch {
	case len(w.Kept) > 0:
		say("It cannot leave the landing, for %s runs with it.", isAnd(w.Kept))
	case w.Landing != "no":
		say("With it would leave the landing: %s", orDefault(strings.Join(refTexts(w.With), ", "), "nothing else"))
	}
	if len(w.Unused) > 0 {
		say("Of no use without it: %s", strings.Join(refTexts(w.Unused), ", "))
	}
	if w.Landing == "no" && len(w.Needed) == 0 && len(w.States) == 0 && w.Locked == "" && w.Wanted == "" {
		say("Nothing needs it. fernladder clean --trees would delete it.")
	}
	return nil
}

func asWhat(role string) string {
	return map[string]string{"tool": "to be built", "library": "as a library", "runtime": "to run"}[role]
}

func refTexts(refs []store.Ref) (texts []string) {
	for _, r := range refs {
		texts = append(texts, r.Name+" "+r.Version)
	}
	slices.Sort(texts)
	return texts
}
