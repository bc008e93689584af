package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"

	"fernladder/core/build"
	"fernladder/core/host"
	"fernladder/core/keyfile"
	"fernladder/core/recipe"
	"fernladder/core/resolve"
	"fernladder/core/seal"
	"fernladder/core/store"
	"fernladder/core/used"
	"fernladder/internal/term"
)

// watch builds what is named and records what it reads. What is built already is
// built a second time, and only the record of that is kept.
func (a *app) watch(ctx context.Context, names []string, f *ladderFlags) error {
	l, err := a.plan(ctx, names, f)
	if err != nil {
		return err
	}
	var again, asked []*build.Job
	for _, j := range l.jobs {
		if !j.Package.Asked {
			continue
		}
		j.Watch = true
		asked = append(asked, j)
		if l.store.Installed(j.Ref) {
			again = append(again, j)
		}
	}
	if err := l.store.Prepare(); err != nil {
		return err
	}
	if err := a.isolate(ctx, l.session); err != nil {
		return err
	}
	if l.workshop.Isolation != seal.Sealed {
		return build.ErrNotWatched
	}
	if err := a.construct(ctx, l); err != nil {
		return err
	}
	if len(again) > 0 {
		if err := a.again(ctx, l, again, func(b *build.Builder, j *build.Job) error { return b.Watch(ctx, j) }); err != nil {
			return err
		}
	}
	if err := a.keepLock(ctx, l, f); err != nil {
		return err
	}
	return a.showUsed(l.session, refs(asked), false)
}

// used shows what the last builds of packages have used of the operating system
// without their recipes saying so.
func (a *app) used(names []string, write bool) error {
	if len(names) == 0 {
		return usage("--used needs the name of a package that was built, for example: fernladder host mistplan --used")
	}
	s, err := a.open()
	if err != nil {
		return err
	}
	var builds []store.Ref
	for _, name := range names {
		w, err := resolve.ParseWanted(name)
		if err != nil {
			return usage("%v", err)
		}
		last, err := lastUsed(s.store, w)
		if err != nil {
			return err
		}
		builds = append(builds, last)
	}
	return a.showUsed(s, builds, write)
}

// lastUsed is the last build of a package of which it is known what it has used.
func lastUsed(s *store.Store, w resolve.Wanted) (store.Ref, error) {
	if _, err := lastBuild(s, w); err != nil {
		return store.Ref{}, err
	}
	last, found, err := lastLogged(s, w, func(r store.Ref) bool {
		_, err := build.UsedBy(s, r)
		return err == nil
	})
	if err == nil && !found {
		err = usage("of no build of %s it is known what it has used; fernladder build --watch %s finds out", w.Name, w.Name)
	}
	return last, err
}

func (a *app) showUsed(s *session, builds []store.Ref, write bool) error {
	all := []*build.Used{}
	for _, b := range builds {
		u, err := build.UsedBy(s.store, b)
		if errors.Is(err, fs.ErrNotExist) {
			continue // it was not built
		}
		if err != nil {
			return s.store.Wrap(err)
		}
		r, err := s.shelves.Find(b.Name)
		if err == nil { // as far as the recipe does not say it by now
			u.Uses = slices.DeleteFunc(u.Uses, func(use used.Use) bool { return saysUse(r, use, s.workshop.Machine.Family) })
		}
		all = append(all, u)
		if !a.screen.JSON {
			a.showUses(s, u, write)
		}
		if write && err != nil {
			return err
		}
		if write && len(u.Uses) > 0 {
			if err := a.writeUsed(s, r, u); err != nil {
				return err
			}
		}
	}
	if a.screen.JSON {
		return a.screen.PrintJSON(all)
	}
	return nil
}

func (a *app) showUses(s *session, u *build.Used, write bool) {
	from := "as far as compilers, pkg-config and what was configured tell; --watch at its build tells all"
	if u.Watched {
		from = "every file that it has read was recorded"
	}
	name := a.screen.Strong(u.Build.Name) + " " + u.Build.Version
	if len(u.Uses) == 0 {
		a.screen.Print("%s uses nothing of this machine but what its recipe says, what comes with that, and the compilers\n(%s of the system; %s).", name, term.Count(u.Files, "file"), from)
	} else {
		a.screen.Print("%s uses of this machine what its recipe does not say (%s):\n", name, from)
	}
	for _, use := range u.Uses {
		a.screen.Print("%s\n", indent(useText(s.workshop.Machine.Family, use)))
	}
	if len(u.Others) > 0 {
		a.screen.Print("Programs have also looked at files of %s, which no recipe asks for.", isAnd(u.Others))
	}
	if u.Record != "" {
		a.screen.Print("Every file: %s", u.Record)
	}
	if !write && len(u.Uses) > 0 {
		a.screen.Note("To write this into its recipe: fernladder host %s --used --write", u.Build.Name)
	}
}

func indent(text string) string { return "    " + strings.ReplaceAll(text, "\n", "\n    ") }

// useText is how a recipe says that it needs what was used.
func useText(family string, u used.Use) string {
	text := fmt.Sprintf("[[host]]   # %s: %s", u.How, strings.Join(u.Files[:min(2, len(u.Files))], ", "))
	if more := len(u.Files) - 2; more > 0 {
		text += fmt.Sprintf(" and %d more", more)
	}
	text = strings.Map(func(c rune) rune { // files can be called anything
		if c < ' ' || c == 0x7f {
			return '?'
		}
		return c
	}, text)
	text += fmt.Sprintf("\n%s = %s", u.Kind, keyfile.Quote(u.Name))
	if name := packageOf(u, family); name != "" && slices.Contains(host.Families, family) {
		text += fmt.Sprintf("\npackages = { %s = %s }", family, keyfile.Quote(name))
	}
	return text
}

// packageOf is the package that a person installs for what was used.
func packageOf(u used.Use, family string) string {
	if packages := host.PackageOf(u.Name, family); u.Kind == host.Program && len(packages) == 1 {
		return packages[0]
	}
	return u.Package
}

// saysUse tells whether a recipe asks for what was used, or for something else of
// the same package.
func saysUse(r *recipe.Recipe, u used.Use, family string) bool {
	return says(r, u.Question) || slices.ContainsFunc(r.HostNeeds, func(n *recipe.HostNeed) bool {
		return slices.Contains(n.PackagesOf(family), packageOf(u, family))
	})
}

// writeUsed adds what was used to the end of the recipe.
func (a *app) writeUsed(s *session, r *recipe.Recipe, u *build.Used) error {
	var missing []string
	for _, use := range u.Uses {
		missing = append(missing, useText(s.workshop.Machine.Family, use))
	}
	if err := editRecipe(r, func(e *keyfile.Edit) { e.Append(strings.Join(missing, "\n\n")) }); err != nil {
		return err
	}
	a.screen.Print("%s says so now.", r.File)
	return nil
}
