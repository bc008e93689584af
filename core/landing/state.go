// Package landing keeps the directory of links that people put on their PATH.
//
// Its states are numbered. ROOT/landings/12 holds only links into trees (and the caches
// that other tools keep of them, see core/install), ROOT/landings/12.json says which builds
// they belong to, and ROOT/landing is a link to the current state. A new state is made
// beside the others and takes effect in one rename, so readers see the old state or the new
// one, each complete. Earlier states stay for a while; a state never changes.
//
// The landing can also be linked into a directory that others use (Shared). A link there
// leads to the same path on the landing, so what both states have changes in the same
// rename; only added and removed names are linked or unlinked there.
// ROOT/landings/shared.json records which links and directories of it are ours. It is
// written before the first is made and after the last is removed: after a crash, the next
// change brings the directory to the current state.
//
// The package does not decide what belongs on the landing, and deletes no tree.
package landing

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"syscall"
	"time"

	"fernladder/core/problem"
	"fernladder/core/safefs"
	"fernladder/core/store"
)

// A State is a numbered state of the landing.
type State struct {
	Number  int       `json:"number"` // 0 is the empty landing before the first
	Made    time.Time `json:"made"`
	Command string    `json:"command,omitempty"` // that made it, as it was typed
	From    int       `json:"from"`              // the state that was in use before
	Members []Member  `json:"members"`           // by name, of each the one with the plain names first
	Links   int       `json:"links"`             // how many there are
	Rules   string    `json:"rules,omitempty"`   // a digest of those that it was made by
	Caches  []Cache   `json:"caches,omitempty"`  // that were made of the links
	Named   []Naming  `json:"named,omitempty"`   // files that are not linked under their own name, or had to be decided on
}

// A Member is a build on the landing.
type Member struct {
	store.Ref
	Asked  bool   `json:"asked"`            // by a person, rather than needed by another at run time
	Beside bool   `json:"beside,omitempty"` // another build of the package has the plain names
	Preset string `json:"preset,omitempty"` // the named set of options that it was built by, as it was asked for
}

// Directory returns the landing.
func Directory(s *store.Store) string { return filepath.Join(s.Root, "landing") }

// largestState is more than a state with a hundred thousand builds has.
const largestState = 64 << 20

// Current returns the state in use. Other processes can change it at any time: if it has changed
// when it was read, the new one is returned.
func Current(s *store.Store) (State, error) {
	const tries = 8
	for try := 1; ; try++ {
		before, _ := os.Readlink(Directory(s))
		state, err := current(s)
		if after, _ := os.Readlink(Directory(s)); err == nil || try == tries || after == before {
			return state, err
		}
	}
}

func current(s *store.Store) (State, error) {
	target, err := os.Readlink(Directory(s))
	if errors.Is(err, fs.ErrNotExist) {
		return State{}, nil
	}
	if errors.Is(err, syscall.EINVAL) {
		return State{}, &store.Error{Path: Directory(s),
			Err:    errors.New("this should be a link to a numbered state in landings, and is not a link"),
			Advice: "Move it aside.", Remedies: useLanding}
	}
	if err != nil {
		return State{}, s.Wrap(err)
	}
	number, err := strconv.Atoi(filepath.Base(target))
	if err != nil || number < 1 || filepath.Dir(target) != "landings" {
		return State{}, &store.Error{Path: Directory(s),
			Err:      fmt.Errorf("this should be a link to a numbered state in landings, not to %q", target),
			Remedies: useLanding}
	}
	return Read(s, number)
}

// inUse is the number of the state that the landing leads to, even if it is unreadable; -1 if it
// leads to none.
func inUse(s *store.Store) int {
	target, _ := os.Readlink(Directory(s))
	number, err := strconv.Atoi(filepath.Base(target))
	if err != nil {
		return -1
	}
	return number
}

// States returns the numbers of all states, the oldest first.
func States(s *store.Store) ([]int, error) {
	files, err := filepath.Glob(filepath.Join(s.Root, "landings", "*.json"))
	if err != nil {
		return nil, err
	}
	var numbers []int
	for _, file := range files {
		base := filepath.Base(file)
		if n, err := strconv.Atoi(base[:len(base)-len(".json")]); err == nil && n > 0 {
			numbers = append(numbers, n)
		}
	}
	slices.Sort(numbers)
	return numbers, nil
}

// Read returns a state by its number.
func Read(s *store.Store, number int) (State, error) {
	file := stateFile(s, number)
	data, err := safefs.ReadFile(file, largestState)
	if errors.Is(err, fs.ErrNotExist) {
		return State{}, &store.Error{Path: file, Err: errors.New("this state of the landing is gone"), Remedies: useLanding}
	}
	if err != nil {
		return State{}, s.Wrap(err)
	}
	var state State
	err = json.Unmarshal(data, &state)
	if err == nil && state.Number != number {
		err = fmt.Errorf("it has the number %d", state.Number)
	}
	if err != nil {
		return State{}, &store.Error{Path: file, Err: fmt.Errorf("this state of the landing is damaged: %w", err),
			Remedies: useLanding}
	}
	return state, nil
}

// Whole reports whether a state has as many links as it should have.
func Whole(s *store.Store, state State) bool {
	if state.Number == 0 {
		return true
	}
	links := 0
	err := eachLink(s, state.Number, func(string) error {
		links++
		return nil
	})
	return err == nil && links == state.Links
}

// eachLink visits the paths of the links of a state.
func eachLink(s *store.Store, number int, visit func(path string) error) error {
	d, err := safefs.OpenDir(linksDir(s, number))
	if err != nil {
		return err
	}
	defer d.Close()
	return d.Walk(false, func(e safefs.Entry) error {
		if e.Mode&fs.ModeSymlink == 0 {
			return nil
		}
		return visit(e.Name)
	})
}

func linksDir(s *store.Store, number int) string {
	return filepath.Join(s.Root, "landings", strconv.Itoa(number))
}

// BillFile is the bill of materials of a state.
func BillFile(s *store.Store, number int) string {
	return filepath.Join(s.Root, "landings", strconv.Itoa(number)+".spdx.json")
}

func stateFile(s *store.Store, number int) string {
	return filepath.Join(s.Root, "landings", strconv.Itoa(number)+".json")
}

// Find returns the member of that name with the plain names, or nil.
func (s State) Find(name string) *Member {
	for i := range s.Members {
		if s.Members[i].Name == name && !s.Members[i].Beside {
			return &s.Members[i]
		}
	}
	return nil
}

// How says how a build is on the landing: asked, needed, beside another, or no.
func (s State) How(r store.Ref) string { return s.Has(r).How() }

// How says how a member is on the landing; nil: no.
func (m *Member) How() string {
	switch {
	case m == nil:
		return "no"
	case m.Beside:
		return "beside"
	case m.Asked:
		return "asked"
	}
	return "needed"
}

// ByRef has all members, for many questions.
func (s State) ByRef() map[store.Ref]*Member {
	all := map[store.Ref]*Member{}
	for i := range s.Members {
		all[s.Members[i].Ref] = &s.Members[i]
	}
	return all
}

// Has returns the member that is this build, or nil.
func (s State) Has(r store.Ref) *Member {
	for i := range s.Members {
		if s.Members[i].Ref == r {
			return &s.Members[i]
		}
	}
	return nil
}

// Gone is the problem of a state that does not exist, or no longer exists.
const Gone problem.Code = "landing_gone"

// NoState is that problem; have are the states that exist.
func NoState(number int, have []int) error {
	numbers := make([]string, len(have))
	for i, n := range have {
		numbers[i] = strconv.Itoa(n)
	}
	return problem.New(problem.Usage, strconv.Itoa(number), "there is no landing %d", number).Coded(Gone).
		Remedy(problem.ListLandings, numbers...)
}

var useLanding = []problem.Remedy{problem.Do(problem.UseLanding)}
