package cli

import (
	"context"
	"os"
	"strings"

	"fernladder/core/host"
	"fernladder/core/install"
	"fernladder/core/recipe"
	"fernladder/core/session"
	"fernladder/internal/term"
)

// installer asks once what may be installed of the operating system, and installs that for a draft
// and its probe. It is nil without --install.
func (a *app) installer(ctx context.Context, s *session.Session, f draftFlags) (install.Installer, error) {
	libraries, programs := true, true
	switch {
	case !f.install:
		return nil, nil
	case f.yes:
	case !a.screen.Interactive(os.Stdin):
		return nil,
			usage("--install asks before it installs anything, and needs a terminal for that; to skip the question, add --yes")
	default:
		libraries = a.agrees("May the probe install libraries and headers of the operating system that are missing?")
		programs = a.agrees("And programs that the build runs?")
	}
	if !s.HostFiles.There() && !a.offline { // they have the owners of files
		if err := a.refreshHostFiles(ctx); err != nil {
			a.screen.Note("%v", err)
		}
	}
	return func(ctx context.Context, packages []string, program bool) (bool, error) {
		if program && !programs || !program && !libraries {
			return false, nil
		}
		return a.addition(ctx, s, packages)
	}, nil
}

// addition installs packages, if that changes nothing that is there.
func (a *app) addition(ctx context.Context, s *session.Session, packages []string) (bool, error) {
	refused := func(why string) (bool, error) {
		a.screen.Note("Not installed: %s. %s", strings.Join(packages, " "), why)
		return false, ctx.Err()
	}
	add, err := s.Programs.Add(ctx, s.System.Family, packages)
	if err != nil {
		return refused(err.Error())
	}
	if !add.Harmless() {
		return refused("It would " + add.Changes())
	}
	argv := session.AsRoot(add.Argv)
	a.screen.Note("Installing %s (%s)", strings.Join(packages, " "), term.Count(len(add.Installs), "package"))
	var out strings.Builder
	if err := session.RunInstaller(ctx, argv, os.Stdin, &out); err != nil {
		return refused(err.Error() + "\n" + indent(strings.TrimSpace(out.String())))
	}
	return true, nil
}

// probe builds a drafted recipe, and tells what came of that.
func (a *app) probe(ctx context.Context, s *session.Session, name string, may install.Installer) error {
	steps := install.Probing{Install: may,
		Answered: func(r *recipe.Recipe, lines string) { a.screen.Note("Added to %s:\n%s", r.File, indent(lines)) },
		Undone:   func(lines string) { a.screen.Note("That did not help, and is removed again:\n%s", indent(lines)) },
	}
	r, err := s.Probe(ctx, name, steps)
	done := r.Probed
	if line := host.Remover(s.System.Family); len(done.Useless) > 0 {
		a.screen.Note("Installed for guesses that did not help: %s. To remove it: %s", strings.Join(done.Useless, " "),
			strings.Join(session.AsRoot(append(line, done.Useless...)), " "))
	}
	if done.Failure != nil {
		next := "Change it"
		if done.Lacks {
			next = "Have it installed (fernladder host " + name + " --install), or change it"
		}
		a.screen.Note("%s records it. %s, then: fernladder build %s", done.Recipe.File, next, done.Recipe.Buildable())
	}
	if done.Failure != nil || err != nil {
		return a.failed(err)
	}
	return a.answer(r, func() {
		a.screen.Print("It builds: %s in %s. The recipe records it, and what it offers.", term.Count(r.Files, "file"),
			seconds(r.Seconds))
		for _, line := range r.Wrong {
			a.screen.Print("Not as the recipe says: %s", line)
		}
		if len(r.Wrong) == 0 {
			a.screen.Print("Its libraries and features are as the recipe says.")
		}
	})
}
