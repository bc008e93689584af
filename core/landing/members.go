package landing

import (
	"cmp"
	"fmt"
	"slices"

	"fernladder/core/problem"
	"fernladder/core/recipe"
	"fernladder/core/store"
)

// Clash is the error for two builds of one package that want the plain names.
type Clash struct {
	Wanted store.Ref // on the landing by one reason
	Needed store.Ref // by another: By runs with it
	By     store.Ref
}

func (e *Clash) Error() string {
	return fmt.Sprintf("%s %s runs with %s %s (%s), but %s %s (%s) would be on the landing too\n"+
		"  Only one of them can have the plain names. The landing did not change.",
		e.By.Name, e.By.Version, e.Needed.Name, e.Needed.Version, e.Needed.ID, e.Wanted.Name, e.Wanted.Version, e.Wanted.ID)
}

// An Asked build was requested for the landing.
type Asked struct {
	store.Ref
	Beside bool   // under the names for when another build of the package has the plain ones
	Preset string // the named set of options that it was built by, or ""
}

// Asked are the requested builds.
func (s State) Asked() []Asked {
	var all []Asked
	for _, m := range s.Members {
		if m.Asked {
			all = append(all, Asked{Ref: m.Ref, Beside: m.Beside, Preset: m.Preset})
		}
	}
	return all
}

// Plain are requested builds that get the plain names.
func Plain(refs ...store.Ref) []Asked {
	var all []Asked
	for _, r := range refs {
		all = append(all, Asked{Ref: r})
	}
	return all
}

// Members works out what is on the landing if these builds are requested: they, and all their
// runtime needs. needs returns the needs of a build. If two builds of a package request the
// plain names, the later one counts. Its error is a *Clash, or that of needs.
func Members(asked []Asked, needs func(store.Ref) ([]store.Link, error)) ([]Member, error) {
	var members []Member
	plain := map[string]store.Ref{}
	there := map[store.Ref]bool{}
	for _, a := range asked {
		if there[a.Ref] {
			continue
		}
		if !a.Beside {
			if other, taken := plain[a.Name]; taken {
				return nil, &Clash{Wanted: other, Needed: a.Ref, By: a.Ref}
			}
			plain[a.Name] = a.Ref
		}
		there[a.Ref] = true
		members = append(members, Member{Ref: a.Ref, Asked: true, Beside: a.Beside, Preset: a.Preset})
	}
	for i := 0; i < len(members); i++ {
		all, err := needs(members[i].Ref)
		if err != nil {
			return nil, err
		}
		for _, need := range all {
			if need.Role != recipe.Runtime || there[need.Ref] {
				continue
			}
			if other, taken := plain[need.Name]; taken {
				return nil, &Clash{Wanted: other, Needed: need.Ref, By: members[i].Ref}
			}
			plain[need.Name], there[need.Ref] = need.Ref, true
			members = append(members, Member{Ref: need.Ref})
		}
	}
	slices.SortFunc(members, func(a, b Member) int {
		return cmp.Or(cmp.Compare(a.Name, b.Name), cmp.Compare(order(a), order(b)), cmp.Compare(a.String(), b.String()))
	})
	return members, nil
}

func order(m Member) int {
	if m.Beside {
		return 1
	}
	return 0
}

// ProblemKind is the kind of the error.
func (e *Clash) ProblemKind() problem.Kind { return problem.NoLadder }
