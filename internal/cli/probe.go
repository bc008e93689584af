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

// mayInstall is what a person has allowed a probe to install.
type mayInstall struct{ libraries, programs bool }

// askInstall asks once what a probe may install of the operating system.
func (a *app) askInstall(f draftFlags) (may mayInstall, err error) {
	switch {
	case !f.install:
		return may, nil
	case f.yes:
		return mayInstall{true, true}, nil
	case !a.screen.Interactive(os.Stdin):
		return may,
			usage("--install asks before it installs anything, and needs a terminal for that; to skip the question, add --yes")
	}
	may.libraries = a.agrees("May the probe install libraries and headers of the operating system that are missing?")
	may.programs = a.agrees("And programs that the build runs?")
	return may, nil
}

// addition installs packages for a probe, if that changes nothing that is there.
func (a *app) addition(ctx context.Context, s *session.Session, may mayInstall, packages []string,
	program bool) (bool, error) {
	if program && !may.programs || !program && !may.libraries {
		return false, nil
	}
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
func (a *app) probe(ctx context.Context, s *session.Session, name string, f draftFlags) error {
	may, err := a.askInstall(f)
	if err != nil {
		return err
	}
	if f.install && !s.HostFiles.There() && !a.offline { // they have the owners of files
		if err := a.refreshHostFiles(ctx); err != nil {
			a.screen.Note("%v", err)
		}
	}
	steps := install.Probing{
		Answered: func(r *recipe.Recipe, lines string) { a.screen.Note("Added to %s:\n%s", r.File, indent(lines)) },
		Undone:   func(lines string) { a.screen.Note("That did not help, and is removed again:\n%s", indent(lines)) },
	}
	if f.install {
		steps.Install = func(ctx context.Context, packages []string, program bool) (bool, error) {
			return a.addition(ctx, s, may, packages, program)
		}
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
