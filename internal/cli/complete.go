package cli

import (
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"fernladder/core/build"
	"fernladder/core/landing"
	"fernladder/core/recipe"
	"fernladder/core/session"
	"fernladder/internal/term"
)

// completeRecipes offers the names of all recipes to shells that complete
// command lines; completeInstalled those of packages that are built. Behind NAME@,
// both offer the ids of builds.
func (a *app) completeRecipes(c *cobra.Command, args []string, start string) ([]string, cobra.ShellCompDirective) {
	if strings.Contains(start, "@") {
		return a.completeInstalled(c, args, start)
	}
	m, err := a.open()
	if err != nil {
		return nil, cobra.ShellCompDirectiveError
	}
	if name, _, asked := strings.Cut(start, ":"); asked {
		return releases(m, name)
	}
	names, err := m.Shelves.Names()
	if err != nil {
		return nil, cobra.ShellCompDirectiveError
	}
	return names, cobra.ShellCompDirectiveNoFileComp
}

// releases offers the releases of a recipe, as NAME:VERSION.
func releases(s *session.Session, name string) (all []string, _ cobra.ShellCompDirective) {
	r, err := s.Shelves.Find(name)
	if err != nil {
		return nil, cobra.ShellCompDirectiveError
	}
	for _, x := range r.Releases {
		version := x.Version.String()
		if x.Track == recipe.Tip {
			version = string(recipe.Tip)
		}
		all = append(all, name+":"+version+"\t"+string(x.Track))
	}
	return all, cobra.ShellCompDirectiveNoFileComp
}

// completeOption offers options of the named packages and, behind NAME=, their values.
func (a *app) completeOption(_ *cobra.Command, args []string, start string) (all []string, _ cobra.ShellCompDirective) {
	s, err := a.open()
	if err != nil {
		return nil, cobra.ShellCompDirectiveError
	}
	option, _, valued := strings.Cut(start, "=")
	of, prefix := args, ""
	if name, rest, other := strings.Cut(option, "."); other {
		of, prefix, option = []string{name}, name+".", rest
	}
	for _, name := range of {
		name, _, _ = strings.Cut(name, ":")
		r, err := s.Shelves.Find(name)
		if err != nil {
			continue
		}
		for _, o := range r.Options {
			switch values := o.Choices(); {
			case !valued:
				all = append(all, prefix+o.Name+"=\t"+described(o.About))
			case o.Name == option:
				for _, v := range values {
					all = append(all, prefix+o.Name+"="+v)
				}
			}
		}
	}
	directive := cobra.ShellCompDirectiveNoFileComp
	if !valued {
		directive |= cobra.ShellCompDirectiveNoSpace
	}
	return all, directive
}

// described is a text of a recipe, which a shell prints as it is.
func described(text string) string { return term.Visible(text) }

// completePreset offers the presets of the named packages and of the settings.
func (a *app) completePreset(_ *cobra.Command, args []string, _ string) (all []string, _ cobra.ShellCompDirective) {
	s, err := a.open()
	if err != nil {
		return nil, cobra.ShellCompDirectiveError
	}
	for _, name := range args {
		name, _, _ = strings.Cut(name, ":")
		if r, err := s.Shelves.Find(name); err == nil {
			for _, p := range r.Presets {
				all = append(all, p.Name+"\t"+described(p.About))
			}
		}
	}
	for _, p := range s.Settings.Presets {
		all = append(all, p.Name)
	}
	return all, cobra.ShellCompDirectiveNoFileComp
}

// completions are the values of flags that have only some, and files that are pictures.
func (a *app) completions(root *cobra.Command) {
	values := map[string][]string{"isolation": {"sealed", "fenced", "open"}, "edited": {"keep", "fresh"},
		"severity": {"low", "medium", "high", "critical"}, "until": build.LoggedStages, "stage": build.LoggedStages}
	forCommand := map[string][]string{"env as": strings.Split(formNames, ", "), "pack format": {"deb", "rpm"},
		"sbom format": {"spdx", "cyclonedx"}}
	for _, c := range root.Commands() {
		for name, fixed := range values {
			offer(c, name, fixed)
		}
		for _, name := range []string{"as", "format"} {
			offer(c, name, forCommand[c.Name()+" "+name])
		}
		register := func(name string, f cobra.CompletionFunc) {
			if c.Flags().Lookup(name) != nil {
				c.RegisterFlagCompletionFunc(name, f) // fails only for a flag that does not exist
			}
		}
		register("option", a.completeOption)
		register("preset", a.completePreset)
		register("why", a.completeRecipes)
		register("draw", func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
			return []string{"svg", "png", "html"}, cobra.ShellCompDirectiveFilterFileExt
		})
		register("to", func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
			return nil, cobra.ShellCompDirectiveFilterDirs
		})
	}
}

// offer offers the values of a flag, if the command has it.
func offer(c *cobra.Command, flag string, values []string) {
	if c.Flags().Lookup(flag) != nil && values != nil {
		c.RegisterFlagCompletionFunc(flag, cobra.FixedCompletions(values, cobra.ShellCompDirectiveNoFileComp))
	}
}

func (a *app) completeInstalled(_ *cobra.Command, _ []string, start string) ([]string, cobra.ShellCompDirective) {
	m, err := a.open()
	if err != nil {
		return nil, cobra.ShellCompDirectiveError
	}
	receipts, err := m.Store.Receipts()
	if err != nil {
		return nil, cobra.ShellCompDirectiveError
	}
	_, _, byID := strings.Cut(start, "@")
	var names []string
	same := sameRelease(receipts)
	for _, r := range receipts {
		if byID {
			names = append(names, landing.NameOf(r.Ref)+"\t"+r.Version+" "+apart(r, same))
		} else {
			names = append(names, r.Name)
		}
	}
	return slices.Compact(names), cobra.ShellCompDirectiveNoFileComp
}
