package landing

import (
	"cmp"
	"encoding/json"
	"fmt"
	"path/filepath"
	"slices"
	"time"

	"fernladder/core/durable"
	"fernladder/core/problem"
	"fernladder/core/safefs"
	"fernladder/core/store"
)

// A Difference is how one state differs from another.
type Difference struct {
	Came  []Member `json:"came"`
	Went  []Member `json:"went"`
	Moved []Move   `json:"moved"`
}

// A Move is a package that both states have, as different builds.
type Move struct {
	From Member `json:"from"`
	To   Member `json:"to"`
}

// Compare returns what was added, removed and changed between two states. A build that has the
// plain names in only one of them has moved to itself.
func Compare(before, after []Member) (d Difference) {
	old, now := State{Members: before}, State{Members: after}
	for _, m := range after {
		same, plain := old.Has(m.Ref), old.Find(m.Name)
		switch {
		case same != nil && (same.Beside != m.Beside || same.Preset != m.Preset):
			d.Moved = append(d.Moved, Move{From: *same, To: m})
		case same != nil:
		case !m.Beside && plain != nil && now.Has(plain.Ref) == nil:
			d.Moved = append(d.Moved, Move{From: *plain, To: m})
		default:
			d.Came = append(d.Came, m)
		}
	}
	for _, m := range before {
		if now.Has(m.Ref) == nil && !slices.ContainsFunc(d.Moved, func(v Move) bool { return v.From.Ref == m.Ref }) {
			d.Went = append(d.Went, m)
		}
	}
	return d
}

// A Remembered state is one that exists, with what it changed.
type Remembered struct {
	State
	InUse   bool
	Changes Difference  // against the state it was made from, as far as that is known
	Missing []store.Ref // members whose trees are missing
	Damaged error       // why it cannot be read, or nil
}

// History returns all states, the oldest first.
func History(s *store.Store) ([]Remembered, error) {
	numbers, err := States(s)
	if err != nil {
		return nil, err
	}
	current, err := Current(s)
	if err != nil {
		return nil, err
	}
	members := map[int][]Member{}
	var all []Remembered
	for _, n := range numbers {
		state, err := Read(s, n)
		if err != nil && !safefs.Exists(stateFile(s, n)) {
			continue // it was forgotten meanwhile
		}
		if err != nil {
			all = append(all, Remembered{State: State{Number: n}, Damaged: err})
			continue
		}
		members[n] = state.Members
		all = append(all, Remembered{State: state, InUse: n == current.Number,
			Changes: Compare(members[state.From], state.Members), Missing: missing(s, state)})
	}
	return all, nil
}

func missing(s *store.Store, state State) (gone []store.Ref) {
	for _, m := range state.Members {
		if !s.Installed(m.Ref) {
			gone = append(gone, m.Ref)
		}
	}
	return gone
}

// Lost is the error for a state that cannot be restored, because trees of it are gone.
type Lost struct {
	Number int
	Builds []store.Ref
}

func (e *Lost) Error() string {
	text := fmt.Sprintf("landing %d cannot be used: it had", e.Number)
	for i, r := range e.Builds {
		if i > 0 {
			text += ","
		}
		text += fmt.Sprintf(" %s %s (%s)", r.Name, r.Version, r.ID)
	}
	return text + ", whose tree is gone. The landing did not change."
}

// errNothingBefore is the error for going back from the first state.
var errNothingBefore error = problem.New(problem.Usage, "", "there is no earlier landing to go back to")

// A file lists the states in the order in which they were in use, the current one last. It is
// written after the landing has changed: if a program is killed in between, the file ends with
// the state before or, when going back, has one too many.

func wayFile(s *store.Store) string { return filepath.Join(s.Root, "landings", "way.json") }

// way are the states that were in use, the current one last.
func way(s *store.Store, now int) (numbers []int) {
	const largest = 1 << 20
	data, err := safefs.ReadFile(wayFile(s), largest)
	if err != nil || json.Unmarshal(data, &numbers) != nil {
		numbers = nil // then the states name their origin
	}
	switch n := len(numbers); {
	case n > 0 && numbers[n-1] == now:
		return numbers
	case n > 1 && numbers[n-2] == now:
		return numbers[:n-1]
	}
	return append(numbers, now)
}

// went records that a state is in use after another, or again.
func (u *Update) went(s *store.Store, r *Result) error {
	const most = 1000
	numbers := way(s, max(r.Before.Number, 0))
	if u.Back && len(numbers) > 1 {
		numbers = numbers[:len(numbers)-1]
	}
	if numbers[len(numbers)-1] != r.After.Number {
		numbers = append(numbers, r.After.Number)
	}
	data, err := json.Marshal(numbers[max(0, len(numbers)-most):])
	if err != nil {
		return err
	}
	return s.Wrap(durable.Note(wayFile(s), append(data, '\n'), 0o644))
}

// Earlier is the number of the state that was in use before, among the states that are kept.
func Earlier(s *store.Store, state State) (int, error) {
	numbers, err := States(s)
	if err != nil {
		return 0, err
	}
	been := way(s, state.Number)
	before := state.From
	if len(been) > 1 {
		before = been[len(been)-2]
	} else if state.Number == 0 {
		return 0, errNothingBefore
	}
	if before != 0 && !slices.Contains(numbers, before) {
		return 0, errNothingBefore
	}
	return before, nil
}

// expired returns the states that exceed the number and age to keep, except for the one in use
// and the one before it.
func (r Rules) expired(all []Remembered, before int, now time.Time) (expired []Remembered) {
	var old []Remembered
	for _, x := range all {
		if !x.InUse && x.Damaged == nil {
			old = append(old, x)
		}
	}
	slices.SortFunc(old, func(a, b Remembered) int { return cmp.Compare(b.Number, a.Number) })
	for i, x := range old {
		if i >= r.Number && now.Sub(x.Made) > r.Age && x.Number != before {
			expired = append(expired, x)
		}
	}
	return expired
}

// Used are the builds of all states that are kept.
func Used(all []Remembered) map[store.Ref]bool {
	used := map[store.Ref]bool{}
	for _, x := range all {
		for _, m := range x.Members {
			used[m.Ref] = true
		}
	}
	return used
}

// ProblemKind is the kind of the error.
func (e *Lost) ProblemKind() problem.Kind { return problem.NoLadder }

// ProblemRemedies are to install the lost builds again.
func (e *Lost) ProblemRemedies() []problem.Remedy {
	var names []string
	for _, r := range e.Builds {
		names = append(names, r.Name+":"+r.Version)
	}
	return []problem.Remedy{problem.Do(problem.InstallAgain, names...)}
}
