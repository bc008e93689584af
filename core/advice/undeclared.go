package advice

import (
	"fmt"
	"slices"
	"strings"

	"fernladder/core/build"
	"fernladder/core/host"
	"fernladder/core/recipe"
	"fernladder/core/tomlfile"
	"fernladder/core/traces"
)

// Undeclared are what a build has used of the operating system and its recipe does not declare.
func Undeclared(r *recipe.Recipe, u *build.Used, family string) []traces.Use {
	return slices.DeleteFunc(slices.Clone(u.Uses), func(use traces.Use) bool { return declaresUse(r, use, family) })
}

// declaresUse reports whether a recipe requests what was used, or something else of the same
// package.
func declaresUse(r *recipe.Recipe, u traces.Use, family string) bool {
	return declares(r, u.Question) || slices.ContainsFunc(r.HostNeeds, func(n *recipe.HostNeed) bool {
		return slices.Contains(n.PackagesOf(family), packageOf(u, family))
	})
}

// UseText is what was used in the form of a recipe's need.
func UseText(family string, u traces.Use) string {
	about := fmt.Sprintf("%s: %s", u.How, strings.Join(u.Files[:min(2, len(u.Files))], ", "))
	if more := len(u.Files) - 2; more > 0 {
		about += fmt.Sprintf(" and %d more", more)
	}
	about = strings.Map(func(c rune) rune { // files can be called anything
		if c < ' ' || c == 0x7f {
			return '?'
		}
		return c
	}, about)
	return recipe.HostEntry{Question: u.Question, About: about,
		Packages: recipe.OfFamily(family, packageOf(u, family))}.Text()
}

// WriteUses adds what was used to the end of a recipe.
func WriteUses(r *recipe.Recipe, uses []traces.Use, family string) error {
	texts := make([]string, len(uses))
	for i, u := range uses {
		texts[i] = UseText(family, u)
	}
	return r.Change(func(e *tomlfile.Edit) { e.Append(strings.Join(texts, "\n\n")) })
}

// packageOf is the package that a person installs for what was used.
func packageOf(u traces.Use, family string) string {
	if packages := host.PackageOf(u.Name, family); u.Kind == host.Program && len(packages) == 1 {
		return packages[0]
	}
	return u.Package
}
