package build

import (
	"context"
	"errors"

	"fernladder/core/event"
	"fernladder/core/host"
	"fernladder/core/recipe"
	"fernladder/core/sandbox"
)

// bareRoom finds out which parts of the operating system the build must not see. why is the
// reason if it sees all of it, or "".
func (a *attempt) bareRoom(ctx context.Context) (sight *sandbox.Sight, why string, err error) {
	b := a.job.Recipe.Build
	switch {
	case a.b.level != sandbox.Sealed:
		return nil, "it is not sealed", nil
	case !b.Bare:
		return nil, "its recipe says: " + b.BareWhy, nil
	case a.m.Settings.NotBare != "":
		return nil, "the settings say: " + a.m.Settings.NotBare, nil
	case a.m.Bare == nil:
		return nil, "the package database of this machine is unknown", nil
	}
	sight, err = a.m.Bare.Sight(ctx, a.declared())
	return sight, "", err
}

// bare reports whether the build has seen only what it declares.
func (a *attempt) bare() bool { return a.b.level == sandbox.Sealed && a.journal.NotBare == "" }

// declared lists what the build, and the builds it depends on, declare to need of the operating
// system; a library includes what it was linked with.
func (a *attempt) declared() sandbox.Declared {
	var d sandbox.Declared
	for _, name := range a.job.programs() {
		d.Questions = append(d.Questions, host.Question{Kind: host.Program, Name: name})
	}
	library := false
	seen := map[*Job]bool{}
	var add func(j *Job)
	add = func(j *Job) {
		if seen[j] {
			return
		}
		seen[j] = true
		for _, n := range j.Recipe.HostNeeds {
			d.Questions = append(d.Questions, n.Question())
			d.Packages = append(d.Packages, n.PackagesOf(a.m.System.Family)...)
			library = library || n.Question().Kind == host.Module
		}
		for _, link := range j.Package.ByHost {
			d.Questions = append(d.Questions, link.As.Question())
			d.Packages = append(d.Packages, link.As.PackagesOf(a.m.System.Family)...)
			library = true
		}
		for i, link := range j.Package.Needs {
			library = library || link.Role == recipe.Library
			add(j.Needs[i])
		}
	}
	add(a.job)
	if a.cache != nil {
		d.Questions = append(d.Questions, host.Question{Kind: host.Program, Name: ccache})
	}
	if library { // the trees of needs are found with it
		d.Questions = append(d.Questions, host.Question{Kind: host.Program, Name: "pkg-config"})
	}
	d.Whole = append(d.Whole, a.m.OwnPath()...)
	d.Mounted = []string{a.m.Store.Root}
	return d
}

// enterBare makes a room that hides everything undeclared. If the kernel cannot do that, the
// build is remarked on, and nothing is hidden.
func (a *attempt) enterBare(ctx context.Context, spec sandbox.Room) (*sandbox.Session, error) {
	if a.system == "" && a.m.Packages != nil {
		a.system = a.m.Packages.State()
	}
	sight, why, err := a.bareRoom(ctx)
	if err != nil {
		return nil, err
	}
	a.journal.NotBare = why
	if sight != nil {
		if a.cache != nil {
			if err := a.cache.front(a.m.Programs, sight); err != nil {
				return nil, err
			}
		}
		if spec.Layer = sight.Layer; spec.Layer == "" || !spec.Apart() {
			spec.Layer = ""
			spec.Hidden, err = sight.Hidden()
		}
		if err != nil {
			return nil, err
		}
	}
	session, err := spec.Enter(a.dirs.stage)
	if errors.Is(err, sandbox.NotBare) && spec.Layer != "" { // which may have been deleted, or be of no use
		spec.Layer = ""
		if spec.Hidden, err = sight.Hidden(); err != nil {
			return nil, err
		}
		session, err = spec.Enter(a.dirs.stage)
	}
	if errors.Is(err, sandbox.NotBare) {
		a.journal.NotBare = err.Error()
		a.emit(event.Event{Kind: event.Remarked, Text: "it sees all of this machine: " + err.Error()})
		spec.Hidden, spec.Layer = nil, ""
		session, err = spec.Enter(a.dirs.stage)
	}
	return session, err
}
