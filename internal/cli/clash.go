package cli

import (
	"fmt"
	"slices"
	"strings"

	"fernladder/core/advice"
	"fernladder/core/host"
	"fernladder/core/machine"
	"fernladder/core/recipe"
)

// clashes reports which programs and libraries of a package the operating system has too, and
// which one has precedence where.
func clashes(m *machine.Machine, name string, o recipe.Offers) []string {
	const few = 4
	var lines []string
	for _, c := range advice.Clashes(m, o) {
		what, who := "programs",
			"On the landing, ours have that name only if before_system in the settings or the recipe says so."
		if c.Kind == host.Library {
			what, who = "libraries", "Builds that need the recipe use its own."
		}
		if len(c.Names) == 1 {
			what = string(c.Kind)
		}
		from := ""
		if len(c.Owners) > 0 {
			from = " (" + strings.Join(c.Owners[:min(3, len(c.Owners))], ", ") + ")"
		}
		names := slices.Clone(c.Names[:min(few, len(c.Names))])
		if len(c.Names) > few {
			names = append(names, fmt.Sprintf("%d more", len(c.Names)-few))
		}
		lines = append(lines, fmt.Sprintf("%s: the operating system%s has the %s %s, too. %s", name, from, what,
			strings.Join(names, ", "), who))
	}
	return lines
}
