package landing

import (
	"encoding/json"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"fernladder/core/durable"
	"fernladder/core/ground"
	"fernladder/core/store"
)

// Change brings the landing to these members and returns the state that is
// then in use. When they are on it already, and its links are whole, nothing is made.
// The caller holds the landing's lock.
func Change(s *store.Store, members []Member, now time.Time) (State, error) {
	current, err := Current(s)
	if err != nil || slices.Equal(current.Members, members) && Whole(s, current) {
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
	next := State{Number: slices.Max(append(numbers, current.Number)) + 1, Made: now.UTC(), Members: members, Links: len(owners)}
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

// Sweep deletes what programs that were killed have left: links of states that were
// never finished, or only half forgotten. The caller holds the landing's lock.
func Sweep(s *store.Store) error {
	entries, err := os.ReadDir(filepath.Join(s.Root, "landings"))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return s.Wrap(err)
	}
	used, _ := os.Readlink(Directory(s)) // whatever else is wrong with it
	for _, e := range entries {
		number, err := strconv.Atoi(e.Name())
		if err != nil || !e.IsDir() || e.Name() == filepath.Base(used) {
			continue
		}
		if _, err := os.Lstat(stateFile(s, number)); errors.Is(err, fs.ErrNotExist) {
			if err := ground.Remove(linksDir(s, number)); err != nil {
				return s.Wrap(err)
			}
		}
	}
	return nil
}

// makeLinks fills the directory of a state that is not in use. The links are
// relative, so that a root seen at another place still holds together.
func makeLinks(s *store.Store, number int, owners map[string]store.Ref) error {
	dir := linksDir(s, number)
	// A program that ended half-way may have left one that nothing names.
	if err := ground.Remove(dir); err != nil {
		return err
	}
	if err := os.Mkdir(dir, 0o755); err != nil {
		return err
	}
	root, err := os.OpenRoot(dir)
	if err != nil {
		return err
	}
	defer root.Close()
	made := map[string]bool{".": true}
	for path, owner := range owners {
		if parent := filepath.Dir(path); !made[parent] {
			if err := root.MkdirAll(parent, 0o755); err != nil {
				return err
			}
			for ; !made[parent]; parent = filepath.Dir(parent) {
				made[parent] = true
			}
		}
		up := strings.Repeat("../", 2+strings.Count(path, "/"))
		target := up + filepath.Join("trees", owner.Name, owner.Version+"-"+owner.ID, path)
		if err := root.Symlink(target, path); err != nil {
			return err
		}
	}
	for parent := range made {
		if err := durable.SyncDir(filepath.Join(dir, parent)); err != nil {
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
		err = durable.Remove(stateFile(s, n))
		if err == nil {
			err = ground.Remove(linksDir(s, n))
		}
		if err != nil {
			return forgotten, s.Wrap(err)
		}
		forgotten = append(forgotten, n)
	}
	slices.Sort(forgotten)
	return forgotten, nil
}
