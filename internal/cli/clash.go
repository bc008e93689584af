package cli

import (
	"fmt"
	"slices"
	"strings"

	"fernladder/core/draft"
	"fernladder/core/host"
	"fernladder/core/machine"
	"fernladder/core/recipe"
	"fernladder/core/store"
)

// clashes tells which programs and libraries of a package the operating system
// has too, and which of them wins where.
func clashes(m *machine.Machine, name string, o recipe.Offers) []string {
	var lines []string
	report := func(kind host.Kind, both []string, who string) {
		if len(both) == 0 {
			return
		}
		var questions []host.Question
		for _, what := range both {
			questions = append(questions, host.Question{Kind: kind, Name: what})
		}
		var packages []string
		for _, owners := range m.HostFiles.Owners(questions) {
			packages = append(packages, owners[0])
		}
		slices.Sort(packages)
		from := ""
		if packages = slices.Compact(packages); len(packages) > 0 {
			from = " (" + strings.Join(packages[:min(3, len(packages))], ", ") + ")"
		}
		const few = 4
		names := both[:min(few, len(both))]
		if len(both) > few {
			names = append(slices.Clone(names), fmt.Sprintf("%d more", len(both)-few))
		}
		lines = append(lines, fmt.Sprintf("%s: the operating system%s has the %s %s, too. %s", name, from, map[bool]string{true: string(kind), false: map[host.Kind]string{host.Program: "programs", host.Library: "libraries"}[kind]}[len(both) == 1], strings.Join(names, ", "), who))
	}
	var programs []string
	for _, program := range o.Programs {
		if m.Programs.Find(program) != "" {
			programs = append(programs, program)
		}
	}
	report(host.Program, programs, "Where fernladder env is in force, those of the landing come first.")
	loader := host.SystemLibraries()
	var libraries []string
	for _, library := range o.Libraries {
		if loader.Finds("lib" + library + ".so") {
			libraries = append(libraries, library)
		}
	}
	report(host.Library, libraries, "Builds that need the recipe use its own.")
	return lines
}

// treeClashes are the clashes of a package that is installed.
func treeClashes(m *machine.Machine, r store.Ref) []string {
	files, err := m.Store.Files(r)
	if err != nil {
		return nil // then there are no files to speak of
	}
	return clashes(m, r.Name, draft.Offered(files))
}
