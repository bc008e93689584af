package cli

import (
	"context"
	"errors"
	"io/fs"
	"strings"

	"fernladder/core/advice"
	"fernladder/core/build"
	"fernladder/core/install"
	"fernladder/core/landing"
	"fernladder/core/machine"
	"fernladder/core/plan"
	"fernladder/core/store"
	"fernladder/internal/term"
)

// watch builds what is named and records what it reads.
func (a *app) watch(ctx context.Context, ask plan.Ask) error {
	m, p, err := a.pinned(ctx, ask)
	if err != nil {
		return err
	}
	if err := a.expect(ctx, m, p); err != nil {
		return err
	}
	_, err = install.Watch(ctx, m, p)
	if err := a.failed(m, err); err != nil {
		return err
	}
	return a.showUsed(m, refs(p.Asked()), false)
}

// used shows what the last builds of packages have used of the operating system
// without their recipes saying so.
func (a *app) used(names []string, write bool) error {
	if len(names) == 0 {
		return usage("--used needs the name of a package that was built, for example: fernladder host mistplan --used")
	}
	m, err := a.open()
	if err != nil {
		return err
	}
	var builds []store.Ref
	for _, name := range names {
		last, err := lastUsed(m.Store, name)
		if err != nil {
			return err
		}
		builds = append(builds, last)
	}
	return a.showUsed(m, builds, write)
}

// lastUsed is the last build of a package of which it is known what it has used.
func lastUsed(s *store.Store, name string) (store.Ref, error) {
	if _, err := lastBuild(s, name); err != nil {
		return store.Ref{}, err
	}
	last, found, err := landing.LastLogged(s, name, func(r store.Ref) bool {
		_, err := build.UsedBy(s, r)
		return err == nil
	})
	if err == nil && !found {
		err = usage("of no build of %s it is known what it has used; fernladder build --watch %s finds out", name, name)
	}
	return last, err
}

func (a *app) showUsed(m *machine.Machine, builds []store.Ref, write bool) error {
	all := []*build.Used{}
	for _, b := range builds {
		u, err := build.UsedBy(m.Store, b)
		if errors.Is(err, fs.ErrNotExist) {
			continue // it was not built
		}
		if err != nil {
			return m.Store.Wrap(err)
		}
		r, err := m.Shelves.Find(b.Name)
		if err == nil {
			u.Uses = advice.Undeclared(r, u, m.System.Family)
		}
		all = append(all, u)
		if !a.screen.JSON {
			a.showUses(m, u, write)
		}
		if write && err != nil {
			return err
		}
		if write && len(u.Uses) > 0 {
			if err := advice.WriteUses(r, u.Uses, m.System.Family); err != nil {
				return err
			}
			a.screen.Print("%s says so now.", r.File)
		}
	}
	if a.screen.JSON {
		return a.screen.PrintJSON(all)
	}
	return nil
}

func (a *app) showUses(m *machine.Machine, u *build.Used, write bool) {
	from := "as far as compilers, pkg-config and what was configured tell; --watch at its build tells all"
	if u.Watched {
		from = "every file that it has read was recorded"
	}
	name := a.screen.Strong(u.Build.Name) + " " + u.Build.Version
	switch {
	case u.Bare:
		a.screen.Print("%s was built in a bare room: it saw nothing of this machine but what its recipe and those of its needs declare.", name)
	case len(u.Uses) == 0:
		a.screen.Print("%s uses nothing of this machine but what its recipe says, what comes with that, and the compilers\n(%s of the system; %s).", name, term.Count(u.Files, "file"), from)
	default:
		a.screen.Print("%s uses of this machine what its recipe does not say (%s):\n", name, from)
	}
	for _, use := range u.Uses {
		a.screen.Print("%s\n", indent(advice.UseText(m.System.Family, use)))
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
