package landing

import (
	"context"
	"errors"
	"slices"
	"time"

	"fernladder/core/safefs"
	"fernladder/core/store"
)

// An Update is a change of the landing that is worked out while no other process can change it.
type Update struct {
	Choose  func(now State) ([]Asked, error) // computes the request from the current state; or
	Use     func(now State) (int, error)     // the state to go back to, by its number; 0 is the empty one
	Then    func(after State) error          // done before another process changes the landing; or nil
	Caches  func(dir string) []Cache         // renews the caches of a directory of links that others' tools keep; or nil
	After   func() []Cache                   // renews the caches of the current landing that others' tools keep; or nil
	Waiting func()                           // called if another process is changing it

	Back bool // to the state that was in use before
	Anew bool // the links are made anew, also where they seem to be whole

	Rules   Rules
	Command string // as it was typed
	Now     time.Time
}

// A Cache is something that another tool keeps about the files of a directory.
type Cache struct {
	Name    string `json:"name"`
	File    string `json:"file"`              // that was renewed
	Problem string `json:"problem,omitempty"` // why it was not

	Made []string `json:"-"` // files that were not there before, below the directory
}

// A Result is what an update did.
type Result struct {
	Before, After State
	Shared        *Shared // of the directory that others use too, or nil
	Linked        bool    // links in that directory or another have changed
	Forgotten     []int   // states that were too old to be kept
	Caches        []Cache // that were renewed
}

// Changed reports whether another state is in use now.
func (r Result) Changed() bool { return r.Before.Number != r.After.Number }

// Do brings the landing to the builds that the update chooses, with their runtime needs, or to
// the state that it goes back to. If the landing is in that state already, and complete, the
// state after is the one before. Errors are a *Clash, *Conflict or *Lost, have the code Gone or
// BadShared, or are those of the store and of the update.
func (u Update) Do(ctx context.Context, s *store.Store) (r Result, err error) {
	unlock, err := s.LockLanding(ctx, u.Waiting)
	if err != nil {
		return r, err
	}
	defer unlock()
	if err := errors.Join(s.Enforce(), Sweep(s)); err != nil {
		return r, err
	}
	if r.Before, err = Current(s); err != nil && u.Use == nil {
		return r, err
	}
	if err != nil { // the current state is unreadable; another can be restored anyway
		r.Before = State{Number: inUse(s)}
		if !safefs.Exists(linksDir(s, r.Before.Number)) {
			r.Before.Number = -1
		}
	}
	r.After = r.Before
	shared, err := u.openShared(s)
	if err != nil {
		return r, err
	}
	defer shared.close()
	// What an interrupted program left is brought to the state in use.
	if shared.unfinished() && r.Before.Number >= 0 {
		if err := shared.finish(s, r.Before.Number); err != nil {
			return r, err
		}
	}
	made, err := u.prepare(s, &r)
	if err != nil {
		r.After = r.Before
		return r, err
	}
	if err := u.switchTo(s, shared, &r, made); err != nil {
		return r, err
	}
	if shared != nil {
		r.Shared, r.Linked = &shared.Shared, shared.changed
		if u.Caches != nil && r.Changed() && shared.Directory != "" {
			made := u.Caches(shared.Directory)
			r.Caches = append(r.Caches, made...)
			if err := shared.keepCaches(made); err != nil {
				return r, s.Wrap(err)
			}
		}
	}
	if u.After != nil && r.Changed() {
		r.Caches = append(r.Caches, u.After()...)
	}
	if r.Changed() {
		if err := u.went(s, &r); err != nil {
			return r, err
		}
	}
	if u.Then != nil {
		if err := u.Then(r.After); err != nil {
			return r, err
		}
	}
	return r, u.forget(s, &r)
}

// prepare works out the state after, and makes it if it does not exist.
func (u *Update) prepare(s *store.Store, r *Result) (made bool, err error) {
	if u.Use == nil {
		asked, err := u.Choose(r.Before)
		if err != nil {
			return false, err
		}
		members, err := Members(asked, s.Needs)
		if err != nil {
			return false, err
		}
		return u.make(s, r, r.Before, members)
	}
	number, err := u.Use(r.Before)
	if err != nil || number == 0 {
		r.After = State{}
		return false, err
	}
	have, err := States(s)
	if err != nil {
		return false, err
	}
	if !slices.Contains(have, number) {
		return false, NoState(number, have)
	}
	state, err := Read(s, number)
	if err != nil {
		return false, err
	}
	if gone := missing(s, state); len(gone) > 0 {
		return false, &Lost{number, gone}
	}
	r.After = state
	if Whole(s, state) {
		return false, nil
	}
	// Its links are damaged; the state is made again, under another number.
	return u.make(s, r, State{Number: r.Before.Number}, state.Members)
}

// make makes the state with these members, if it is not the existing one.
func (u *Update) make(s *store.Store, r *Result, current State, members []Member) (made bool, err error) {
	next, links, made, err := u.next(s, current, members)
	if err == nil && made {
		err = u.build(s, &next, links)
	}
	if err == nil {
		r.After = next
		if made {
			r.Caches = next.Caches
		}
	}
	return made, err
}

// switchTo puts the state after into use. New names are linked in the shared directory before,
// removed ones are unlinked after.
func (u *Update) switchTo(s *store.Store, shared *sharing, r *Result, made bool) error {
	if !r.Changed() {
		return shared.finish(s, r.After.Number)
	}
	err := shared.ready(s, r.After.Number)
	if err == nil {
		err = bringIn(s, r.After.Number)
	}
	if err != nil {
		// Nothing has changed except for new names, which are removed.
		if undone := shared.finish(s, max(0, r.Before.Number)); undone == nil && made {
			Forget(s, []Remembered{{State: r.After}})
		}
		r.After = r.Before
		return err
	}
	return shared.finish(s, r.After.Number)
}

// forget deletes states that are too old to keep.
func (u *Update) forget(s *store.Store, r *Result) error {
	if !r.Changed() || u.Rules.Number == 0 {
		return nil
	}
	all, err := History(s)
	if err != nil {
		return err
	}
	before, _ := Earlier(s, r.After) // 0, where nothing was before, is no state that goes
	r.Forgotten, err = Forget(s, u.Rules.expired(all, before, u.Now))
	return err
}
