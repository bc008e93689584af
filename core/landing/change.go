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

	"fernladder/core/durable"
	"fernladder/core/safefs"
	"fernladder/core/store"
)

// next is the state that these members make after another, not made yet, with its links. ok is
// false if the other is the same, and complete.
func (u *Update) next(s *store.Store, current State, members []Member) (next State, links *Arrangement, ok bool,
	err error) {
	parts, err := partsOf(s, members)
	if err != nil {
		return next, nil, false, err
	}
	rules := u.Rules.digest(parts)
	if !u.Anew && current.Rules == rules && slices.Equal(current.Members, members) && Whole(s, current) {
		return current, nil, false, nil
	}
	if len(members) == 0 && current.Number == 0 {
		return current, nil, false, nil
	}
	if links, err = u.Rules.linksOf(s, parts); err != nil {
		return next, nil, false, err
	}
	numbers, err := States(s)
	if err != nil {
		return next, nil, false, err
	}
	next = State{Number: slices.Max(append(numbers, current.Number)) + 1, Made: u.Now.UTC(), Command: u.Command,
		From:    current.Number,
		Members: members, Links: len(links.Links), Rules: rules, Named: links.Named}
	return next, links, true, nil
}

// Arrange works out the links that a state with these builds would have. Its error is a
// *Conflict, a *Lost, or that of reading their records.
func Arrange(s *store.Store, members []Member, rules Rules) (*Arrangement, error) {
	parts, err := partsOf(s, members)
	if err != nil {
		return nil, err
	}
	return rules.linksOf(s, parts)
}

func partsOf(s *store.Store, members []Member) ([]part, error) {
	parts := make([]part, len(members))
	for i, m := range members {
		receipt, err := s.Receipt(m.Ref)
		if err != nil {
			return nil, s.Gone(m.Ref, err)
		}
		parts[i] = part{Member: m, receipt: receipt}
	}
	return parts, nil
}

// linksOf arranges the files of builds.
func (r Rules) linksOf(s *store.Store, parts []part) (_ *Arrangement, err error) {
	for i := range parts {
		if parts[i].files, err = s.Files(parts[i].Ref); err != nil {
			return nil, err
		}
	}
	return arrange(parts, r)
}

// build makes a state that is not in use yet: its links, caches and record.
func (u *Update) build(s *store.Store, next *State, links *Arrangement) error {
	if err := makeLinks(s, next.Number, links.Links); err != nil {
		return s.Wrap(err)
	}
	if u.Caches != nil {
		next.Caches = u.Caches(linksDir(s, next.Number))
	}
	data, err := json.MarshalIndent(next, "", "  ")
	if err != nil {
		return err
	}
	return s.Wrap(durable.WriteFile(stateFile(s, next.Number), append(data, '\n'), 0o644))
}

// bringIn puts a state into use.
func bringIn(s *store.Store, number int) error {
	if number == 0 {
		return s.Wrap(durable.Remove(Directory(s)))
	}
	return s.Wrap(durable.Symlink(filepath.Join("landings", strconv.Itoa(number)), Directory(s)))
}

// Sweep deletes what killed programs left: links of unfinished states, or of half-forgotten
// ones, and temporary files. The caller holds the landing's lock.
func Sweep(s *store.Store) error {
	entries, err := os.ReadDir(filepath.Join(s.Root, "landings"))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return s.Wrap(err)
	}
	used := inUse(s)
	aside := []string{durable.Aside(Directory(s))}
	for _, e := range entries {
		if strings.HasPrefix(e.Name(), ".") && strings.HasSuffix(e.Name(), ".new") {
			aside = append(aside, filepath.Join(s.Root, "landings", e.Name()))
		}
	}
	for _, file := range aside {
		if err := os.Remove(file); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return s.Wrap(err)
		}
	}
	for _, e := range entries {
		number, err := strconv.Atoi(e.Name())
		if err != nil || !e.IsDir() || number == used {
			continue
		}
		if _, err := os.Lstat(stateFile(s, number)); errors.Is(err, fs.ErrNotExist) {
			if err := safefs.Remove(linksDir(s, number)); err != nil {
				return s.Wrap(err)
			}
		}
	}
	return nil
}

// upFrom leads from the directory of a state's link to the root.
func upFrom(path string) string { return strings.Repeat("../", 2+strings.Count(path, "/")) }

// treeName is the name of a tree below the root.
func treeName(r store.Ref) string { return "trees/" + r.Name + "/" + r.Version + "-" + r.ID }

// makeLinks fills the directory of a state that is not in use. The links are relative, so that
// they work if the root appears at another path.
func makeLinks(s *store.Store, number int, links map[string]Target) error {
	dir := linksDir(s, number)
	// A killed program may have left one without a record.
	if err := safefs.Remove(dir); err != nil {
		return err
	}
	if err := os.Mkdir(dir, 0o777); err != nil {
		return err
	}
	// No other process writes there, and no link is made below another.
	made := map[string]bool{".": true}
	for path, t := range links {
		if parent := filepath.Dir(path); !made[parent] {
			if err := os.MkdirAll(filepath.Join(dir, parent), 0o777); err != nil {
				return err
			}
			for ; !made[parent]; parent = filepath.Dir(parent) {
				made[parent] = true
			}
		}
		target := upFrom(path) + treeName(t.Ref) + "/" + t.Path
		if err := os.Symlink(target, filepath.Join(dir, path)); err != nil {
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

// SetAside moves the unreadable record of a state, and its links, aside, and returns the
// record's new path. The state in use stays. The caller holds the landing's lock.
func SetAside(s *store.Store, file string) (string, error) {
	number, err := strconv.Atoi(strings.TrimSuffix(filepath.Base(file), ".json"))
	if err != nil || number == inUse(s) {
		return "", errors.New("it is now in use")
	}
	if _, err := Read(s, number); err == nil {
		return "", errors.New("it can be read now")
	}
	aside, err := s.MoveAside(stateFile(s, number), "landing-"+strconv.Itoa(number)+".json")
	if err != nil {
		return "", err
	}
	return aside, s.Wrap(safefs.Remove(linksDir(s, number)))
}

// Forget deletes states, even damaged ones, except for the one in use. It returns their numbers.
// The caller holds the landing's lock.
func Forget(s *store.Store, states []Remembered) ([]int, error) {
	used := inUse(s)
	var forgotten []int
	for _, x := range states {
		if x.Number == used {
			continue
		}
		if _, err := os.Lstat(stateFile(s, x.Number)); errors.Is(err, fs.ErrNotExist) {
			continue
		}
		err := durable.Remove(stateFile(s, x.Number))
		if err == nil {
			err = errors.Join(safefs.Remove(linksDir(s, x.Number)), safefs.Remove(BillFile(s, x.Number)))
		}
		if err != nil {
			return forgotten, s.Wrap(err)
		}
		forgotten = append(forgotten, x.Number)
	}
	return forgotten, nil
}
