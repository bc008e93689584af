package clean

import (
	"slices"
	"strings"

	"fernladder/core/landing"
	"fernladder/core/machine"
	"fernladder/core/plan"
	"fernladder/core/store"
)

// Reasons are why a build exists.
type Reasons struct {
	Build   store.Ref   `json:"build"`
	Landing string      `json:"landing"`             // asked, needed, beside or no
	By      string      `json:"by,omitempty"`        // the command by which it came onto the landing in use
	Since   int         `json:"since,omitempty"`     // the state in which it did
	Wanted  string      `json:"wanted,omitempty"`    // where the settings want the package
	Locked  string      `json:"locked,omitempty"`    // the lock file that has this build
	States  []int       `json:"landings"`            // earlier and later states that have it
	Needed  []Dependant `json:"needed_by"`           // builds that need it
	With    []store.Ref `json:"would_go"`            // builds that would leave the landing with it
	Kept    []string    `json:"cannot_go,omitempty"` // packages on the landing that need it to run
	Unused  []store.Ref `json:"would_be_unused"`     // trees that would no longer be needed
}

// A Dependant is a build that needs another.
type Dependant struct {
	store.Link          // the build, and the role in which it needs the other
	OnLanding  bool     `json:"on_landing"`
	Way        []string `json:"way"` // names on the path of needs from a request to it
}

// Why finds out why a build exists, and what would go with it.
func Why(m *machine.Machine, r store.Ref) (*Reasons, error) {
	all, err := m.Store.Receipts()
	if err != nil {
		return nil, err
	}
	states, err := landing.History(m.Store)
	if err != nil {
		return nil, err
	}
	w := &Reasons{Build: r, States: []int{}, Needed: []Dependant{}, With: []store.Ref{}, Unused: []store.Ref{}}
	var current landing.State
	for _, x := range states {
		if x.InUse {
			current = x.State
		} else if x.Has(r) != nil {
			w.States = append(w.States, x.Number)
		}
	}
	if current.Has(r) != nil {
		w.Since, w.By = came(states, current, r)
	}
	w.Landing = current.How(r)
	for _, entry := range m.Settings.Wanted {
		if entry.Name == r.Name {
			w.Wanted = entry.Position.String()
		}
	}
	if err := w.locked(m); err != nil {
		return nil, err
	}
	w.dependants(all, current)
	return w, w.removal(m.Store, all, current, states)
}

// came finds the state since which a build has been on the landing without interruption.
func came(states []landing.Remembered, current landing.State, r store.Ref) (int, string) {
	byNumber := map[int]landing.State{}
	for _, x := range states {
		byNumber[x.Number] = x.State
	}
	at := current
	for {
		before, known := byNumber[at.From]
		if !known || before.Has(r) == nil || before.Number >= at.Number {
			return at.Number, at.Command
		}
		at = before
	}
}

func (w *Reasons) locked(m *machine.Machine) error {
	file, err := plan.ReadLock(m)
	if err != nil {
		return err
	}
	for _, b := range file.Builds {
		if b.Name == w.Build.Name && b.ID == w.Build.ID {
			w.Locked = file.Shown
		}
	}
	return nil
}

// dependants are the builds that need this one, each with the path from a requested one.
func (w *Reasons) dependants(all []*store.Receipt, current landing.State) {
	from := map[store.Ref]store.Ref{}
	var queue []store.Ref
	byRef := map[store.Ref]*store.Receipt{}
	for _, x := range all {
		byRef[x.Ref] = x
	}
	for _, asked := range current.Asked() {
		from[asked.Ref] = asked.Ref
		queue = append(queue, asked.Ref)
	}
	for ; len(queue) > 0; queue = queue[1:] {
		if x := byRef[queue[0]]; x != nil {
			for _, need := range x.Needs {
				if _, seen := from[need.Ref]; !seen {
					from[need.Ref] = x.Ref
					queue = append(queue, need.Ref)
				}
			}
		}
	}
	for _, x := range all {
		for _, need := range x.Needs {
			if need.Ref != w.Build {
				continue
			}
			d := Dependant{Link: store.Link{Ref: x.Ref, Role: need.Role}, OnLanding: current.Has(x.Ref) != nil}
			for at := x.Ref; ; at = from[at] {
				before, reached := from[at]
				if !reached {
					d.Way = nil
					break
				}
				d.Way = append(d.Way, at.Name)
				if before == at {
					break
				}
			}
			slices.Reverse(d.Way)
			w.Needed = append(w.Needed, d)
		}
	}
}

// removal works out what would go with the build: from the landing, and of trees.
func (w *Reasons) removal(s *store.Store, all []*store.Receipt, current landing.State,
	states []landing.Remembered) error {
	var left []landing.Member
	if current.Has(w.Build) != nil {
		asked, err := without(s, current, func(r store.Ref) bool { return r == w.Build })
		if runs, is := err.(*Runs); is {
			w.Kept = append(w.Kept, runs.With)
			return nil
		}
		if err != nil {
			return err
		}
		if left, err = landing.Members(asked, s.Needs); err != nil {
			return err
		}
		after := landing.State{Members: left}.ByRef()
		if after[w.Build] != nil {
			w.Kept = append(w.Kept, runner(s, left, w.Build))
			return nil
		}
		for _, member := range current.Members {
			if member.Ref != w.Build && after[member.Ref] == nil {
				w.With = append(w.With, member.Ref)
			}
		}
	} else {
		left = current.Members
	}
	others := slices.DeleteFunc(slices.Clone(all), func(r *store.Receipt) bool { return r.Ref == w.Build })
	now := landing.Remembered{State: landing.State{Members: left}}
	kept := slices.DeleteFunc(slices.Clone(states), func(x landing.Remembered) bool {
		return x.InUse || x.Has(w.Build) != nil
	})
	before := map[store.Ref]bool{}
	for _, r := range unused(all, states, What{}) {
		before[r.Ref] = true
	}
	for _, r := range unused(others, append(kept, now), What{}) {
		if !before[r.Ref] {
			w.Unused = append(w.Unused, r.Ref)
		}
	}
	slices.SortFunc(w.Unused, func(a, b store.Ref) int { return strings.Compare(a.String(), b.String()) })
	return nil
}
