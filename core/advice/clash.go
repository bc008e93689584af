package advice

import (
	"maps"
	"slices"

	"fernladder/core/host"
	"fernladder/core/machine"
	"fernladder/core/recipe"
)

// A Clash is something that both a package and the operating system have, of one kind.
type Clash struct {
	Kind   host.Kind // program or library
	Names  []string
	Owners []string // the operating system's packages that have it, as far as is known
}

// Clashes finds the programs and libraries of a package that the operating system has,
// too.
func Clashes(m *machine.Machine, o recipe.Offers) []Clash {
	loader := host.SystemLibraries()
	there := map[host.Kind]func(string) bool{
		host.Program: func(name string) bool { return m.Programs.Find(name) != "" },
		host.Library: func(name string) bool { return loader.Finds("lib" + name + ".so") },
	}
	var all []Clash
	for _, kind := range []host.Kind{host.Program, host.Library} {
		c := Clash{Kind: kind}
		var questions []host.Question
		for _, name := range map[host.Kind][]string{host.Program: o.Programs, host.Library: o.Libraries}[kind] {
			if there[kind](name) {
				c.Names = append(c.Names, name)
				questions = append(questions, host.Question{Kind: kind, Name: name})
			}
		}
		if len(c.Names) == 0 {
			continue
		}
		owners := map[string]bool{}
		for _, found := range m.HostFiles.Owners(questions) {
			owners[found[0]] = true
		}
		c.Owners = slices.Sorted(maps.Keys(owners))
		all = append(all, c)
	}
	return all
}
