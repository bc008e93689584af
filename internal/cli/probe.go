package cli

import (
	"context"
	"os"
	"strings"

	"fernladder/core/host"
	"fernladder/core/install"
	"fernladder/core/machine"
	"fernladder/core/recipe"
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
		return may, usage("--install asks before it installs anything, and there is nobody to ask; add --yes to do without")
	}
	may.libraries = a.agrees("May the probe install libraries and headers of the operating system that are missing?")
	may.programs = a.agrees("And programs that the build runs?")
	return may, nil
}

// addition installs packages for a probe, if that changes nothing that is there.
func (a *app) addition(ctx context.Context, m *machine.Machine, may mayInstall, packages []string, program bool) (bool, error) {
	if program && !may.programs || !program && !may.libraries {
		return false, nil
	}
	refused := func(why string) (bool, error) {
		a.screen.Note("Not installed: %s. %s", strings.Join(packages, " "), why)
		return false, ctx.Err()
	}
	add, err := m.Programs.Add(ctx, m.System.Family, packages)
	if err != nil {
		return refused(err.Error())
	}
	if !add.Harmless() {
		return refused("It would " + add.Changes())
	}
	argv := asRoot(add.Argv)
	a.screen.Note("Installing %s (%s)", strings.Join(packages, " "), term.Count(len(add.Installs), "package"))
	var out strings.Builder
	if err := a.runInstaller(ctx, argv, &out); err != nil {
		return refused(err.Error() + "\n" + indent(strings.TrimSpace(out.String())))
	}
	return true, nil
}

// probe builds a drafted recipe, and tells what came of that.
func (a *app) probe(ctx context.Context, m *machine.Machine, name string, f draftFlags) error {
	may, err := a.askInstall(f)
	if err != nil {
		return err
	}
	if f.install && !m.HostFiles.There() && !a.offline { // without them nobody knows which package has what
		if err := a.refreshHostFiles(ctx); err != nil {
			a.screen.Note("%v", err)
		}
	}
	probing := install.Probing{
		Answered: func(r *recipe.Recipe, lines string) { a.screen.Note("Added to %s:\n%s", r.File, indent(lines)) },
		Undone:   func(lines string) { a.screen.Note("That did not help, and is taken out again:\n%s", indent(lines)) },
	}
	if f.install {
		probing.Install = func(ctx context.Context, packages []string, program bool) (bool, error) {
			return a.addition(ctx, m, may, packages, program)
		}
	}
	done, err := install.Probe(ctx, m, name, probing)
	if line := host.Remover(m.System.Family); len(done.Useless) > 0 {
		a.screen.Note("Installed for guesses that did not help: %s. To remove it: %s", strings.Join(done.Useless, " "), strings.Join(asRoot(append(line, done.Useless...)), " "))
	}
	switch {
	case done.Failure != nil:
		next := "Change it"
		if done.Lacks {
			next = "Have it installed (fernladder host " + name + " --install), or change it"
		}
		a.screen.Note("%s says so now. %s, then: fernladder build %s", done.Recipe.File, next, done.Recipe.Buildable())
		return a.failed(m, err)
	case err != nil:
		return a.failed(m, err)
	}
	r := done.Receipt
	if a.screen.JSON {
		return a.screen.PrintJSON(map[string]any{"probed": r.Ref, "files": r.Files, "seconds": r.Seconds, "wrong": append([]string{}, done.Wrong...)})
	}
	a.screen.Print("It builds: %s in %s. The recipe says so, and what it offers.", term.Count(r.Files, "file"), seconds(r.Seconds))
	for _, line := range done.Wrong {
		a.screen.Print("Not as the recipe says: %s", line)
	}
	if len(done.Wrong) == 0 {
		a.screen.Print("Its libraries and features are as the recipe says.")
	}
	return nil
}
