package cli

import (
	"fmt"
	"strings"

	"fernladder/core/build"
	"fernladder/core/diagnose"
	"fernladder/core/draft"
	"fernladder/core/host"
	"fernladder/core/recipe"
)

// advise adds to a failed build what would remedy it: the lines that its recipe
// needs, where something is missing.
func (a *app) advise(s *session, f *build.Failure) {
	if f.Cause == nil {
		return
	}
	r, err := s.shelves.Find(f.Package)
	if err != nil {
		return
	}
	switch f.Cause.Kind {
	case diagnose.MissingProgram, diagnose.MissingHeader, diagnose.MissingLibrary, diagnose.MissingModule, diagnose.MissingPackage:
		f.Advice = a.adviseMissing(s, r, f.Cause)
	case diagnose.Elsewhere:
		f.Advice = []string{fmt.Sprintf("Where a package has to be built in its own directory, in_tree = true in [build] of %s helps.", r.File)}
	case diagnose.MissingPython, diagnose.MissingPerl:
		f.Advice = []string{"The operating system's packages have such modules; install it there, and note it in " + r.File + " as a [[host]] need on the program that has it."}
	case diagnose.TooOld:
		f.Advice = []string{fmt.Sprintf("A recipe for %s in that version would do: [[need]] in %s, with version = %q.", f.Cause.Name(), r.File, f.Cause.Range)}
	case diagnose.WrongOption:
		f.Advice = []string{fmt.Sprintf("Take it out of args or the options in %s, or ask for a release that has it.", r.File)}
	case diagnose.NoMemory:
		f.Advice = []string{"Build with fewer jobs at once: -j 1"}
	case diagnose.Network:
		f.Advice = []string{fmt.Sprintf("Builds have no network. What it fetches can be an [[extra]] in %s.", r.File)}
	case diagnose.CompilerTooNew, diagnose.CompileError:
		f.Advice = []string{"A newer release, or a patch beside the recipe (patches = [\"patches/….patch\"]), is what helps."}
	}
}

// adviseMissing says who has what is missing: a recipe on the shelves, or
// perhaps the operating system.
func (a *app) adviseMissing(s *session, r *recipe.Recipe, c *diagnose.Cause) []string {
	var advice []string
	known, err := draft.Survey(s.shelves, s.store)
	if err != nil {
		return nil
	}
	kinds := map[diagnose.Kind]string{diagnose.MissingProgram: "program", diagnose.MissingHeader: "header", diagnose.MissingLibrary: "library",
		diagnose.MissingModule: "module", diagnose.MissingPackage: "package"}
	role := recipe.Library
	if c.Kind == diagnose.MissingProgram {
		role = recipe.Tool
	}
	for _, name := range c.Names {
		wish := draft.Wish{Kind: kinds[c.Kind], Name: name}
		if c.Kind == diagnose.MissingHeader { // recipes do not list headers; a folder or a name tells as much
			wish.Name, _, _ = strings.Cut(strings.TrimSuffix(name, ".h"), "/")
		}
		provider, sure, found := known.Find(wish)
		if !found || provider == r.Name {
			continue
		}
		says := "There is a recipe " + provider + "; if it is that,"
		if sure {
			says = "The recipe " + provider + " has it:"
		}
		advice = append(advice, fmt.Sprintf("%s add to %s:", says, r.File), "    [[need]]", fmt.Sprintf("    recipe = %q", provider), fmt.Sprintf("    role   = %q", role))
		break
	}
	if c.Kind == diagnose.MissingPackage {
		return advice // the operating system is not asked for those
	}
	says := "If the operating system is to have it, add to " + r.File + ":"
	if len(advice) > 0 {
		says = "Or, if the operating system is to have it:"
	}
	question := host.Question{Kind: host.Kind(kinds[c.Kind]), Name: c.Name()}
	advice = append(advice, says, "    [[host]]", fmt.Sprintf("    %s = %q", kinds[c.Kind], c.Name()))
	family, files := s.workshop.Machine.Family, s.workshop.HostFiles()
	owners := files.Owners([]host.Question{question})[question]
	switch {
	case len(owners) == 1:
		advice = append(advice, fmt.Sprintf("    packages = { %s = %q }", family, owners[0]))
	case len(owners) > 1:
		advice = append(advice, fmt.Sprintf("    packages = { %s = %q }   # or %s", family, owners[0], strings.Join(owners[1:min(4, len(owners))], ", ")))
	case !files.There():
		return append(advice, "fernladder host --refresh finds out which package has it.")
	default:
		return append(advice, "No package of this operating system has it, as far as its lists say.")
	}
	return append(advice, "and then: fernladder host "+r.Name+" --install")
}
