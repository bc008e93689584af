package cli

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"fernladder/core/build"
	"fernladder/core/diagnose"
	"fernladder/core/host"
	"fernladder/core/recipe"
)

// advise adds to a failed build what would remedy it: the lines that its recipe
// needs, where something is missing.
func (a *app) advise(s *session, f *build.Failure) {
	if f.Cause == nil {
		return
	}
	if r, err := s.shelves.Find(f.Package); err == nil {
		f.Advice = s.advice(r, f.Cause)
	}
}

// advice says in lines what to do about a cause. The recipe is nil where the log
// is of something else than a build of a recipe.
func (s *session) advice(r *recipe.Recipe, c *diagnose.Cause) []string {
	file := "its recipe"
	if r != nil {
		file = r.File
	}
	say := func(format string, args ...any) []string { return []string{fmt.Sprintf(format, args...)} }
	switch c.Kind {
	case diagnose.InSource:
		return say("Where a package has to be built in its own directory, in_tree = true in [build] of %s helps.", file)
	case diagnose.MissingInSource:
		return say("The archive is not complete for this build: some leave out what their repository has (submodules, generated files), which an [[extra]] or a git release in %s brings.", file)
	case diagnose.TooNew:
		if c.Name() == "cmake" {
			return say("Newer releases know it. For this one: args = [\"-DCMAKE_POLICY_VERSION_MINIMUM=3.5\"] in [build] of %s.", file)
		}
		return say("A newer release, or an older %s as a tool of its own recipe, is what helps.", c.Name())
	case diagnose.WrongOption:
		return say("Take it out of args or the options in %s, or ask for a release that has it.", file)
	case diagnose.NoTarget:
		return say("What the makefile is asked for is a step of %s; one that replaces it is what helps.", file)
	case diagnose.NoMemory:
		return say("Build with fewer jobs at once: -j 1")
	case diagnose.Race:
		return say("If it goes well with -j 1: parallel = false in [build] of %s.", file)
	case diagnose.Network:
		return say("Builds have no network. What it fetches can be an [[extra]] in %s.", file)
	case diagnose.CompilerTooNew, diagnose.CompileError:
		return say("A newer release, or a patch beside the recipe (patches = [\"patches/….patch\"]), is what helps.")
	case diagnose.CompilerTooOld:
		return say("An older release, or a newer compiler as a need with role = \"tool\" in %s, is what helps.", file)
	case diagnose.WarningError:
		return say("In %s: [build.env] with CFLAGS = \"-O2 -Wno-error\" (CXXFLAGS for C++), or the option of the source that turns it off.", file)
	case diagnose.NotRelocatable:
		return say("In %s: [build.env] with CFLAGS = \"-O2 -fPIC\".", file)
	case diagnose.Undefined:
		if library, is := strings.CutPrefix(c.Found, "-l"); is {
			return say("It is in the library %s: LIBS = %q in [build.env] of %s makes configure scripts link it.", library, c.Found, file)
		}
	}
	return s.adviceForMissing(r, c)
}

// adviceForMissing says who has what is missing, and how a recipe asks for it.
func (s *session) adviceForMissing(r *recipe.Recipe, c *diagnose.Cause) []string {
	m := s.remedyOf(r, c)
	var advice []string
	add := func(text, format string, args ...any) {
		advice = append(advice, fmt.Sprintf(format, args...))
		for line := range strings.Lines(text) {
			advice = append(advice, "    "+strings.TrimRight(line, "\n"))
		}
	}
	by, in := "a recipe asks for it by", "a recipe"
	if r != nil {
		by, in = "add to "+r.File, r.File
	}
	nowhere := len(m.owners) == 0 && s.workshop.HostFiles().There()
	switch {
	case m.recipe != "" && m.sure:
		add(m.needText(), "The recipe %s has it; %s:", m.recipe, by)
	case m.recipe != "":
		add(m.needText(), "There is a recipe %s; if it is that, %s:", m.recipe, by)
	}
	if c.Kind == diagnose.TooOld && m.recipe == "" {
		advice = append(advice, fmt.Sprintf("A recipe for %s in that version, and a [[need]] on it with version = %q, would do.", c.Name(), c.Range))
		return advice
	}
	switch {
	case m.host.Kind == "" || nowhere && m.recipe != "":
	case nowhere:
		advice = append(advice, fmt.Sprintf("No recipe on the shelves and no package of this operating system has the %s, as far as its lists say.", thing(m.host)))
	case m.recipe != "":
		add(m.hostText(), "Or, if the operating system is to have it:")
	case len(m.owners) > 0:
		add(m.hostText(), "%s of this operating system has the %s; %s:", m.owners[0], thing(m.host), by)
	default:
		add(m.hostText(), "If the operating system is to have it, %s:", by)
	}
	advice = append(advice, s.howToHave(r, m)...)
	if c.Without != "" {
		add("args = ["+fmt.Sprintf("%q", c.Without)+"]", "Or without it, as it says itself: in [build] of %s", in)
	}
	return advice
}

// thing says what a question asks for.
func thing(q host.Question) string {
	kind := map[host.Kind]string{host.Module: "pkg-config module", host.Python: "Python module", host.Perl: "Perl module"}[q.Kind]
	return cmp.Or(kind, string(q.Kind)) + " " + q.Name
}

// howToHave says how the operating system gets what is missing.
func (s *session) howToHave(r *recipe.Recipe, m remedy) []string {
	installer := host.Installer(m.family)
	switch {
	case m.host.Kind == "":
		return nil
	case len(m.owners) > 0 && r != nil:
		return []string{"and then: fernladder host " + r.Name + " --install"}
	case len(m.owners) > 0 && installer != nil:
		return []string{"and then: " + strings.Join(append(slices.Clone(installer), m.owners[0]), " ")}
	case len(m.owners) == 0 && !s.workshop.HostFiles().There():
		return []string{"fernladder host --refresh finds out which package has it."}
	}
	return nil
}
