// Package landing keeps the directory of links that people put on their PATH.
//
// Its states are numbered. ROOT/landings/12 holds nothing but links into trees,
// ROOT/landings/12.json says which builds they belong to, and ROOT/landing is a
// link to the state in use. A new state is made beside the others and brought
// into use by one rename, so that whoever looks sees the old one or the new
// one, each whole. States that were in use stay; a state is never changed.
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
	"strconv"
	"syscall"
	"time"

	"fernladder/core/ground"
	"fernladder/core/store"
)

// A State is a numbered state of the landing.
type State struct {
	Number  int       `json:"number"` // 0 is the empty landing before the first
	Made    time.Time `json:"made"`
	Members []Member  `json:"members"` // by name
	Links   int       `json:"links"`   // how many there are
}

// A Member is a build on the landing.
type Member struct {
	store.Ref
	Asked bool `json:"asked"` // by a person, rather than needed by another at run time
}

// Directory returns the landing as people put it on their PATH.
func Directory(s *store.Store) string { return filepath.Join(s.Root, "landing") }

// largestState is more than a state with a hundred thousand builds has.
const largestState = 64 << 20

// Current returns the state in use.
func Current(s *store.Store) (State, error) {
	target, err := os.Readlink(Directory(s))
	if errors.Is(err, fs.ErrNotExist) {
		return State{}, nil
	}
	if errors.Is(err, syscall.EINVAL) {
		return State{}, &store.Error{Path: Directory(s), Err: errors.New("this should be a link to a numbered state in landings, and is none"),
			Advice: "Move it aside, and point a link at the highest number there: ln -sfn landings/N landing"}
	}
	if err != nil {
		return State{}, s.Wrap(err)
	}
	number, err := strconv.Atoi(filepath.Base(target))
	if err != nil || number < 1 || filepath.Dir(target) != "landings" {
		return State{}, &store.Error{Path: Directory(s), Err: fmt.Errorf("this should be a link to a numbered state in landings, not to %q", target),
			Advice: "Point it at the highest number there: ln -sfn landings/N landing"}
	}
	return Read(s, number)
}

// States returns the numbers of all states, in no order.
func States(s *store.Store) ([]int, error) {
	files, err := filepath.Glob(filepath.Join(s.Root, "landings", "*.json"))
	if err != nil {
		return nil, err
	}
	var numbers []int
	for _, file := range files {
		base := filepath.Base(file)
		if n, err := strconv.Atoi(base[:len(base)-len(".json")]); err == nil {
			numbers = append(numbers, n)
		}
	}
	return numbers, nil
}

// Read returns a state by its number.
func Read(s *store.Store, number int) (State, error) {
	file := stateFile(s, number)
	const advice = "Point the landing at another number: ln -sfn landings/N landing; or delete the link, and install what was on it."
	data, err := ground.ReadFile(file, largestState)
	if errors.Is(err, fs.ErrNotExist) {
		return State{}, &store.Error{Path: file, Err: errors.New("this state of the landing is gone"), Advice: advice}
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
		return State{}, &store.Error{Path: file, Err: fmt.Errorf("this state of the landing is damaged: %w", err), Advice: advice}
	}
	return state, nil
}

// Whole tells whether the links of a state are all there, as far as counting them
// tells.
func Whole(s *store.Store, state State) bool {
	if state.Number == 0 {
		return true
	}
	d, err := ground.OpenDir(linksDir(s, state.Number))
	if err != nil {
		return false
	}
	defer d.Close()
	links := 0
	err = d.Walk(false, func(e ground.Entry) error {
		if e.Mode&fs.ModeSymlink != 0 {
			links++
		}
		return nil
	})
	return err == nil && links == state.Links
}

func linksDir(s *store.Store, number int) string {
	return filepath.Join(s.Root, "landings", strconv.Itoa(number))
}

func stateFile(s *store.Store, number int) string {
	return filepath.Join(s.Root, "landings", strconv.Itoa(number)+".json")
}

// Find returns the member of that name, or nil.
func (s State) Find(name string) *Member {
	for i := range s.Members {
		if s.Members[i].Name == name {
			return &s.Members[i]
		}
	}
	return nil
}
