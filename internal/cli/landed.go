package cli

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"fernladder/core/install"
	"fernladder/core/landing"
	"fernladder/core/recipe"
	"fernladder/core/store"
	"fernladder/internal/term"
)

// showLanded reports a change of the landing, except for its members.
func (a *app) showLanded(l install.Landed) {
	a.showConfigs(l.Configs)
	if l.After.Number == 0 {
		a.screen.Print("The landing is empty.")
	} else {
		a.screen.Print("Landing %d is in use: %s", l.After.Number, landing.Directory(a.session.Store))
	}
	var fresh []landing.Naming
	for _, n := range l.After.Named {
		if !slices.ContainsFunc(l.Before.Named, func(o landing.Naming) bool { return sameNaming(o, n) }) {
			fresh = append(fresh, n)
		}
	}
	a.showNamed(fresh)
	a.showWithout(l.After)
	a.showShared(l.Shared)
	for _, c := range l.Caches {
		if c.Problem != "" {
			a.screen.Note("The %s cache was not renewed: %s", c.Name, c.Problem)
		} else {
			a.screen.Print("Renewed: %s", c.File)
		}
	}
	if len(l.Forgotten) > 0 {
		a.screen.Note("Expired and forgotten: landing %s.", numbers(l.Forgotten))
	}
}

// showWithout reports builds whose runtime need is beside another build: the plain names start
// that one.
func (a *app) showWithout(state landing.State) {
	m := a.session
	for _, member := range state.Members {
		needs, err := m.Store.Needs(member.Ref)
		if err != nil {
			continue // missing ones are reported elsewhere
		}
		for _, need := range needs {
			if with := state.Has(need.Ref); need.Role == recipe.Runtime && with != nil && with.Beside {
				a.screen.Note("%s %s runs with %s %s, which is beside another build: the plain names start that one.", member.Name,
					member.Version, need.Name, need.Version)
			}
		}
	}
}

func sameNaming(a, b landing.Naming) bool {
	return a.Build == b.Build && a.File == b.File && a.Why == b.Why && slices.Equal(a.As, b.As)
}

func numbers(all []int) string {
	return strings.Trim(strings.ReplaceAll(fmt.Sprint(all), " ", ", "), "[]")
}

// showNamed reports which files are not on the landing under their own names, and why.
func (a *app) showNamed(all []landing.Naming) {
	type key struct {
		r   store.Ref
		why landing.Why
		by  string
	}
	var order []key
	groups := map[key][]landing.Naming{}
	for _, n := range all {
		k := key{n.Build, n.Why, n.Winner}
		if groups[k] == nil {
			order = append(order, k)
		}
		groups[k] = append(groups[k], n)
	}
	for _, k := range order {
		list := groups[k]
		who := k.r.Name + " " + k.r.Version
		switch k.why {
		case landing.BySystem:
			a.screen.Print("%s: %s not linked under that name, because the operating system has %s. To give ours precedence: "+
				"before_system = [%q] in the settings.",
				who, areOrIs(names(list)), systems(list), k.r.Name)
		case landing.OverIt:
			a.screen.Print("%s: %s before the operating system's %s.", who, comes(names(list)), systems(list))
		case landing.ByWinner:
			a.screen.Print("%s: %s not linked under that name: the settings give it to %s.", who, areOrIs(names(list)), k.by)
		case landing.ByRule:
			for _, n := range list {
				if len(n.As) == 0 {
					a.screen.Print("%s: %s is not linked, as the settings say.", who, n.File)
				} else {
					a.screen.Print("%s: %s is %s, as the settings say.", who, n.File, strings.Join(n.As, " and "))
				}
			}
		case landing.ByLink:
			what := isAnd(names(list)) + " are links"
			if len(list) == 1 {
				what = list[0].File + " is a link"
			}
			a.screen.Print("%s: %s at the top of its tree, and not linked.", who, what)
		case landing.Untrusted:
			a.screen.Print("%s: not linked, because programs of the system may act on files there by themselves: %s. If you "+
				"trust the package with that: trusted_owners = [%q] in the settings.",
				who, isAnd(names(list)), k.r.Name)
		case landing.ByFronted:
			a.screen.Print("%s is beside another build: %s.", who, strings.Join(renamed(list), ", "))
		}
	}
}

func names(list []landing.Naming) (texts []string) {
	for _, n := range list {
		if !strings.HasPrefix(n.File, "share/man/") {
			texts = append(texts, n.File)
		}
	}
	if len(texts) == 0 {
		for _, n := range list {
			texts = append(texts, n.File)
		}
	}
	const few = 5
	if len(texts) > few {
		texts = append(texts[:few:few], fmt.Sprintf("%d more", len(texts)-few))
	}
	return texts
}

func systems(list []landing.Naming) string {
	var texts []string
	for _, n := range list {
		if !slices.Contains(texts, n.System) {
			texts = append(texts, n.System)
		}
	}
	const few = 3
	if len(texts) > few {
		texts = append(texts[:few:few], "others")
	}
	return isAnd(texts)
}

func renamed(list []landing.Naming) (texts []string) {
	for _, n := range list {
		texts = append(texts, n.File+" is "+strings.Join(n.As, " and "))
	}
	return texts
}

func areOrIs(names []string) string {
	if len(names) == 1 {
		return names[0] + " is"
	}
	return isAnd(names) + " are"
}

func comes(names []string) string {
	if len(names) == 1 {
		return names[0] + " comes"
	}
	return isAnd(names) + " come"
}

// showShared reports what belongs to us in a shared directory.
func (a *app) showShared(s *landing.Shared) {
	switch {
	case s == nil:
	case s.Directory == "":
		a.screen.Print("Nothing is linked in a shared directory any more.")
	default:
		a.screen.Print("Also linked in %s: %s.", s.Directory, term.Count(len(s.Links), "name"))
		a.showBlocked(s)
	}
}

// showBlocked reports which names in a shared directory do not belong to us.
func (a *app) showBlocked(s *landing.Shared) {
	const few = 10
	for i, b := range s.Blocked {
		if i == few {
			a.screen.Note("And %d more. All of them: fernladder landing --json", len(s.Blocked)-few)
			break
		}
		a.screen.Note("%s is %s that is not ours, and stays.", filepath.Join(s.Directory, string(b.Path)), b.Is)
	}
	for _, b := range s.Strange {
		a.screen.Note("%s was our link; now it is %s, which stays.", filepath.Join(s.Directory, string(b.Path)), b.Is)
	}
}

// aheadOfLock reports where the lock file has other builds than the restored landing, because
// the next install would change them again.
func (a *app) aheadOfLock(l install.Landed) error {
	other, file, err := install.OtherThanLocked(a.session.Machine, l.After)
	if err != nil || len(other) == 0 {
		return err
	}
	var texts, args []string
	for _, o := range other {
		texts = append(texts, o.Locked.Name+" "+o.Locked.Version.String())
		args = append(args, o.On.Name+":"+o.On.Version)
	}
	a.screen.Note("%s still has %s, to which the next install returns. To lock what is on the landing: fernladder lock %s",
		file, strings.Join(texts, ", "), strings.Join(args, " "))
	return nil
}
