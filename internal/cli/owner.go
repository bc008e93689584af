package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"fernladder/core/session"
	"fernladder/core/store"
	"fernladder/internal/term"
)

func (a *app) ownerCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "owner FILE...",
		Short: "Show which package a file belongs to",
		Long: `Shows which build a file belongs to: a file on the landing, in a directory that is linked
to it, in a tree, or anywhere else from which links lead into the root. For other files it
shows the package of the operating system. A name without a slash is a program of the
landing, or else any file of that name.`,
		Example: `  fernladder owner mistplan                   a program on the landing
  fernladder owner /usr/local/bin/*
  fernladder owner libdewcalc.so.1            any file of that name, in every tree`,
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) == 0 {
				return usage("owner needs a file, for example: fernladder owner /usr/local/bin/%s", a.exampleName())
			}
			return nil
		},
		RunE: func(c *cobra.Command, args []string) error { return a.owners(c.Context(), args) },
	}
}

func (a *app) owners(ctx context.Context, files []string) error {
	s, err := a.open()
	if err != nil {
		return err
	}
	owners, missing, err := s.Owners(ctx, files)
	if owners == nil {
		return err
	}
	for _, file := range missing {
		a.screen.Note("%s: there is no such file.", term.OneLine(file))
	}
	if shown := a.answer(owners, func() {
		for _, o := range owners {
			a.screen.Print("%s", a.ownedText(o))
		}
	}); shown != nil {
		return shown
	}
	return judged(err)
}

func (a *app) ownedText(o session.Owner) string {
	what := term.OneLine(o.File) + ": "
	switch {
	case o.Config:
		return what + a.screen.Strong(o.Package) + ", its configuration"
	case o.Package == "" && o.System != "":
		return what + "the operating system's package " + o.System
	case o.Package == "":
		return what + "no package of Fern Ladder or of the operating system"
	}
	what += fmt.Sprintf("%s %s (%s), %s", a.screen.Strong(o.Package), o.Build.Version, o.Build.ID, term.OneLine(o.InTree))
	if o.Foreign {
		what += "; it was added later, and is not part of the build"
	}
	if o.On == "no" {
		what += "; not on the landing"
	}
	return what
}

func (a *app) whyCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "why NAME",
		Short: "Show why a package is installed, and what would go with it",
		Long: `Shows who requested a build and which command put it on the landing; what needs it, and in
which role; which settings, lock file and states of the landing have it; and what would
leave the landing, or have no more use, without it.`,
		Example:           "  fernladder why loamdb\n  fernladder why mistplan@3f9c",
		Args:              a.exactlyOne,
		ValidArgsFunction: a.completeInstalled,
		RunE:              func(_ *cobra.Command, args []string) error { return a.why(args[0]) },
	}
}

func (a *app) why(name string) error {
	s, err := a.open()
	if err != nil {
		return err
	}
	r, w, err := s.Why(name)
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
		say("It was requested, and is on the landing%s", since)
	case "needed":
		say("It is on the landing because a requested package needs it to run,%s", since)
	case "beside":
		say("It was requested, and is on the landing beside another build%s", since)
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
		say("It cannot leave the landing, because %s needs it to run.", isAnd(w.Kept))
	case w.Landing != "no":
		say("With it, these would leave the landing: %s", orDefault(strings.Join(refTexts(w.With), ", "), "nothing else"))
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
