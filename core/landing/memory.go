package landing

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"time"

	"fernladder/core/ground"
	"fernladder/core/store"
)

// A Difference is what one state has against another.
type Difference struct {
	Came  []Member `json:"came"`
	Went  []Member `json:"went"`
	Moved []Move   `json:"moved"`
}

// A Move is a package that is on both states, as another build.
type Move struct {
	From Member `json:"from"`
	To   Member `json:"to"`
}

// Compare tells what came, went and changed between two states. A build that has the
// plain names on one and not on the other has moved to itself.
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

// A Remembered state is one of those that are there, with what it changed.
type Remembered struct {
	State
	InUse   bool
	Changes Difference  // against the state it was made from, as far as that is known
	Missing []store.Ref // members whose trees are gone
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
		if err != nil && !ground.Exists(stateFile(s, n)) {
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

// Lost is the error for a state that cannot be brought back, for trees of it are gone.
type Lost struct {
	Number int
	Builds []store.Ref
}

func (e *Lost) Error() string {
	text := fmt.Sprintf("landing %d cannot be used: it had", e.Number)
	for i, r := range e.Builds {
		text += fmt.Sprintf("%s %s %s (%s)", map[bool]string{true: ",", false: ""}[i > 0], r.Name, r.Version, r.ID)
	}
	return text + ", of which the tree is gone. The landing stays as it was."
}

// ErrNothingBefore is the error of going back from the first state.
var ErrNothingBefore = errors.New("there is no earlier landing to go back to")

// Earlier is the number of the state that one was made from, as far back as states
// are kept.
func Earlier(s *store.Store, state State) (int, error) {
	if state.Number == 0 {
		return 0, ErrNothingBefore
	}
	numbers, err := States(s)
	if err != nil {
		return 0, err
	}
	if state.Rules == "" { // made by a version that did not write down what it was made from
		numbers = slices.DeleteFunc(numbers, func(n int) bool { return n >= state.Number })
		if len(numbers) == 0 {
			return 0, ErrNothingBefore
		}
		return slices.Max(numbers), nil
	}
	if state.From != 0 && !slices.Contains(numbers, state.From) {
		return 0, ErrNothingBefore
	}
	return state.From, nil
}

// Expired tells which states other than the one in use have gone beyond the number
// and the age that are kept, and are no state that the one in use goes back to.
func (r Rules) Expired(all []Remembered, now time.Time) (expired []Remembered) {
	var old []Remembered
	from := 0
	for _, x := range all {
		if x.InUse {
			from = x.From
		} else if x.Damaged == nil {
			old = append(old, x)
		}
	}
	slices.SortFunc(old, func(a, b Remembered) int { return cmp.Compare(b.Number, a.Number) })
	for i, x := range old {
		if i >= r.Number && now.Sub(x.Made) > r.Age && x.Number != from {
			expired = append(expired, x)
		}
	}
	return expired
}

// Used are the builds that any state has that is kept.
func Used(all []Remembered) map[store.Ref]bool {
	used := map[store.Ref]bool{}
	for _, x := range all {
		for _, m := range x.Members {
			used[m.Ref] = true
		}
	}
	return used
}
