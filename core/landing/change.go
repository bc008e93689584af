package landing

import (
	"encoding/json"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"fernladder/core/durable"
	"fernladder/core/store"
)

// Change brings the landing to these members and returns the state that is
// then in use. When they are on it already, nothing is made. The caller holds
// the landing's lock.
func Change(s *store.Store, members []Member, now time.Time) (State, error) {
	current, err := Current(s)
	if err != nil || slices.Equal(current.Members, members) {
		return current, err
	}
	owners, err := links(s, members)
	if err != nil {
		return current, err
	}
	numbers, err := States(s)
	if err != nil {
		return current, err
	}
	next := State{Number: slices.Max(append(numbers, current.Number)) + 1, Made: now.UTC(), Members: members}
	if err := makeLinks(s, next.Number, owners); err != nil {
		return current, s.Wrap(err)
	}
	data, err := json.MarshalIndent(next, "", "  ")
	if err != nil {
		return current, err
	}
	if err := durable.WriteFile(stateFile(s, next.Number), append(data, '\n'), 0o644); err != nil {
		return current, s.Wrap(err)
	}
	if err := durable.Symlink(filepath.Join("landings", strconv.Itoa(next.Number)), Directory(s)); err != nil {
		return current, s.Wrap(err)
	}
	return next, nil
}

// makeLinks fills the directory of a state that is not in use. The links are
// relative, so that a root seen at another place still holds together.
func makeLinks(s *store.Store, number int, owners map[string]store.Ref) error {
	dir := filepath.Join(s.Root, "landings", strconv.Itoa(number))
	// A program that ended half-way may have left one that nothing names.
	if err := os.RemoveAll(dir); err != nil {
		return err
	}
	if err := os.Mkdir(dir, 0o755); err != nil {
		return err
	}
	made := map[string]bool{}
	for path, owner := range owners {
		parent := filepath.Dir(path)
		if !made[parent] {
			made[parent] = true
			if err := os.MkdirAll(filepath.Join(dir, parent), 0o755); err != nil {
				return err
			}
		}
		up := strings.Repeat("../", 2+strings.Count(path, "/"))
		target := up + filepath.Join("trees", owner.Name, owner.Version+"-"+owner.ID, path)
		if err := os.Symlink(target, filepath.Join(dir, path)); err != nil {
			return err
		}
	}
	return nil
}

// Forget deletes the states other than the one in use that have a build on
// them, which is about to be removed. It returns their numbers.
func Forget(s *store.Store, r store.Ref) ([]int, error) {
	current, err := Current(s)
	if err != nil {
		return nil, err
	}
	numbers, err := States(s)
	if err != nil {
		return nil, err
	}
	var forgotten []int
	for _, n := range numbers {
		state, err := Read(s, n)
		if err != nil {
			return forgotten, err
		}
		if n == current.Number || !slices.ContainsFunc(state.Members, func(m Member) bool { return m.Ref == r }) {
			continue
		}
		err = errors.Join(os.Remove(stateFile(s, n)), os.RemoveAll(filepath.Join(s.Root, "landings", strconv.Itoa(n))))
		if err != nil {
			return forgotten, s.Wrap(err)
		}
		forgotten = append(forgotten, n)
	}
	slices.Sort(forgotten)
	return forgotten, nil
}
