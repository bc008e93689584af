package landing

import (
	"context"
	"time"

	"fernladder/core/store"
)

// An Update is a change of the landing that is worked out while nobody else can
// change it.
type Update struct {
	Choose  func(now State) ([]store.Ref, error) // what is to be asked for, given the state now
	Then    func(after State) error              // done before anybody else changes the landing; or nil
	Waiting func()                               // called if somebody else is changing it
}

// Do brings the landing to what the update chooses, with what that needs when it
// runs. When it is so already, and whole, the state after is the one before. Errors
// are of type *Clash, *Conflict, or those of the store and of the update.
func (u Update) Do(ctx context.Context, s *store.Store, now time.Time) (before, after State, err error) {
	unlock, err := s.LockLanding(ctx, u.Waiting)
	if err != nil {
		return before, after, err
	}
	defer unlock()
	if err := Sweep(s); err != nil {
		return before, after, err
	}
	if before, err = Current(s); err != nil {
		return before, after, err
	}
	asked, err := u.Choose(before)
	if err != nil {
		return before, after, err
	}
	members, err := Members(asked, s.Needs)
	if err != nil {
		return before, after, err
	}
	if after, err = Change(s, members, now); err == nil && u.Then != nil {
		err = u.Then(after)
	}
	return before, after, err
}

// A Difference is what one state has against another.
type Difference struct {
	Came, Went []Member
	Moved      []Move
}

// A Move is a package that is on both states, as another build.
type Move struct{ From, To Member }

// Compare tells what came, went and changed between two states.
func Compare(before, after []Member) (d Difference) {
	find := func(members []Member, name string) *Member { return State{Members: members}.Find(name) }
	for _, m := range after {
		old := find(before, m.Name)
		switch {
		case old == nil:
			d.Came = append(d.Came, m)
		case old.Ref != m.Ref:
			d.Moved = append(d.Moved, Move{*old, m})
		}
	}
	for _, m := range before {
		if find(after, m.Name) == nil {
			d.Went = append(d.Went, m)
		}
	}
	return d
}
