package cli

import (
	"context"
	"strings"

	"fernladder/core/advice"
	"fernladder/core/build"
	"fernladder/core/plan"
	"fernladder/core/store"
	"fernladder/internal/term"
)

// watch builds what is named and records what it reads.
func (a *app) watch(ctx context.Context, ask plan.Ask) error {
	s, err := a.open()
	if err != nil {
		return err
	}
	b, err := s.Watch(ctx, a.building(ask).LadderRequest)
	if err != nil {
		return a.failed(err)
	}
	var builds []store.Ref
	for _, j := range b.Ladder.Asked() {
		builds = append(builds, j.Ref)
	}
	all, err := s.UsesOf(builds, false)
	if err != nil {
		return err
	}
	return a.answer(all, func() { a.showUsed(all, false) })
}

// used shows what the last builds of packages used of the operating system without declaring
// it.
func (a *app) used(names []string, write bool) error {
	s, err := a.open()
	if err != nil {
		return err
	}
	all, err := s.Uses(names, write)
	if err != nil {
		return err
	}
	return a.answer(all, func() { a.showUsed(all, write) })
}

func (a *app) showUsed(all []*build.Used, write bool) {
	for _, u := range all {
		a.showUses(u, write)
		if r, err := a.session.Shelves.Find(u.Build.Name); err == nil && write && len(u.Uses) > 0 {
			a.screen.Print("%s declares it now.", r.File)
		}
	}
}

func (a *app) showUses(u *build.Used, write bool) {
	from := "according to compilers, pkg-config and configure logs; --watch records everything"
	if u.Watched {
		from = "every file that it read was recorded"
	}
	name := a.screen.Strong(u.Build.Name) + " " + u.Build.Version
	switch {
	case u.Bare:
		a.screen.Print("%s was built in a bare room: it saw only what its recipe and those of its needs declare.", name)
	case len(u.Uses) == 0:
		a.screen.Print("%s uses only what its recipe declares of this machine, what comes with that, and the "+
			"compilers\n(%s of the system; %s).", name, term.Count(u.Files, "file"), from)
	default:
		a.screen.Print("%s uses parts of this machine that its recipe does not declare (%s):\n", name, from)
	}
	for _, use := range u.Uses {
		a.screen.Print("%s\n", indent(advice.UseText(a.session.System.Family, use)))
	}
	if len(u.Others) > 0 {
		a.screen.Print("Programs also looked at files of %s, which no recipe declares.", isAnd(u.Others))
	}
	if u.Record != "" {
		a.screen.Print("Every file: %s", u.Record)
	}
	if !write && len(u.Uses) > 0 {
		a.screen.Note("To write this into its recipe: fernladder host %s --used --write", u.Build.Name)
	}
}

func indent(text string) string { return "    " + strings.ReplaceAll(text, "\n", "\n    ") }
