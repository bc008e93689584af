package cli

import (
	"fmt"
	"slices"
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
	case diagnose.InSource:
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

// remedy is what answers something that is missing: a recipe on the shelves, or
// the operating system, or either.
type remedy struct {
	recipe string // "" for none
	sure   bool   // it is known to have what is missing; otherwise its name speaks for it
	role   recipe.Role
	host   host.Question // with no kind where the operating system is not asked for such things
	owners []string      // its packages that have it, as far as is known
	family string
}

// remedyOf finds out what answers a cause. There is none where the recipe names
// it already.
func (s *session) remedyOf(r *recipe.Recipe, c *diagnose.Cause) (m remedy) {
	kinds := map[diagnose.Kind]string{diagnose.MissingProgram: "program", diagnose.MissingHeader: "header", diagnose.MissingLibrary: "library",
		diagnose.MissingModule: "module", diagnose.MissingPackage: "package"}
	kind := kinds[c.Kind]
	if kind == "" {
		return m
	}
	if s.known == nil {
		var err error
		if s.known, err = draft.Survey(s.shelves, s.store); err != nil {
			return m
		}
	}
	m.role, m.family = recipe.Library, s.workshop.Machine.Family
	if c.Kind == diagnose.MissingProgram {
		m.role = recipe.Tool
	}
	for _, name := range c.Names {
		wish := draft.Wish{Kind: kind, Name: name}
		if c.Kind == diagnose.MissingHeader { // recipes do not list headers; a folder or a name tells as much
			wish.Name, _, _ = strings.Cut(strings.TrimSuffix(name, ".h"), "/")
		}
		provider, sure, found := s.known.Find(wish)
		needed := slices.ContainsFunc(r.Needs, func(n *recipe.Need) bool { return slices.Contains(n.Names(), provider) })
		if found && provider != r.Name && !needed {
			m.recipe, m.sure = provider, sure
			break
		}
	}
	question := host.Question{Kind: host.Kind(kind), Name: c.Name()}
	if c.Kind != diagnose.MissingPackage && !slices.ContainsFunc(r.HostNeeds, func(n *recipe.HostNeed) bool { return n.Question() == question }) {
		m.host, m.owners = question, s.workshop.HostFiles().Owners([]host.Question{question})[question]
	}
	return m
}

// text is what a recipe needs: the need on the recipe that answers, or else on
// the operating system. It is "" where nothing does.
func (m remedy) text() string {
	switch {
	case m.recipe != "":
		return m.needText()
	case m.host.Kind != "":
		return m.hostText()
	}
	return ""
}

func (m remedy) needText() string {
	return fmt.Sprintf("[[need]]\nrecipe = %q\nrole   = %q", m.recipe, m.role)
}

func (m remedy) hostText() string {
	text := fmt.Sprintf("[[host]]\n%s = %q", m.host.Kind, m.host.Name)
	if len(m.owners) > 0 {
		text += fmt.Sprintf("\npackages = { %s = %q }", m.family, m.owners[0])
	}
	if len(m.owners) > 1 {
		text += "   # or " + strings.Join(m.owners[1:min(4, len(m.owners))], ", ")
	}
	return text
}

// adviseMissing says who has what is missing, and how the recipe asks for it.
func (a *app) adviseMissing(s *session, r *recipe.Recipe, c *diagnose.Cause) []string {
	m := s.remedyOf(r, c)
	var advice []string
	add := func(says, text string) {
		advice = append(advice, says)
		for line := range strings.Lines(text) {
			advice = append(advice, "    "+strings.TrimRight(line, "\n"))
		}
	}
	if m.recipe != "" {
		says := "There is a recipe " + m.recipe + "; if it is that, add to " + r.File + ":"
		if m.sure {
			says = "The recipe " + m.recipe + " has it: add to " + r.File + ":"
		}
		add(says, m.needText())
	}
	if m.host.Kind == "" {
		return advice
	}
	says := "If the operating system is to have it, add to " + r.File + ":"
	if m.recipe != "" {
		says = "Or, if the operating system is to have it:"
	}
	add(says, m.hostText())
	switch {
	case len(m.owners) > 0:
		return append(advice, "and then: fernladder host "+r.Name+" --install")
	case !s.workshop.HostFiles().There():
		return append(advice, "fernladder host --refresh finds out which package has it.")
	}
	return append(advice, "No package of this operating system has it, as far as its lists say.")
}
