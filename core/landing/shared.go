package landing

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"syscall"

	"fernladder/core/durable"
	"fernladder/core/problem"
	"fernladder/core/safefs"
	"fernladder/core/store"
)

// Shared is what belongs to us in a directory that others use too.
type Shared struct {
	Directory   string       `json:"directory"`
	Links       []store.Name `json:"links"`            // paths below it, each a link to the same path on the landing
	Directories []store.Name `json:"directories"`      // below it, that were made for the links
	Caches      []store.Name `json:"caches,omitempty"` // files that were made for tools of others, where there were none
	Blocked     []Blocked    `json:"blocked"`          // names of the landing that are not ours
	Strange     []Blocked    `json:"strange"`          // names that were ours, and that something else replaced
	Unfinished  bool         `json:"unfinished,omitempty"`
}

// Blocked is a name in a shared directory that does not belong to us.
type Blocked struct {
	Path store.Name `json:"path"`
	Is   string     `json:"is"` // the existing entry: a file, a directory, a link to …
}

// sharing is the change of the shared directory, and of those that were shared before; nil if
// there is none.
type sharing struct {
	Shared
	dir    *safefs.Dir
	links  map[string]bool
	made   map[string]bool
	file   string
	base   string // the beginning of link targets: the landing, and a slash
	before []*sharing

	changed bool
	added   int                    // the state whose names are complete
	names   map[int][]string       // the links of states
	rules   Rules                  // that say which links may be there
	opened  map[string]*safefs.Dir // directories below it
}

// at opens a directory below the shared one, without following links; it stays open.
func (x *sharing) at(dir string) (*safefs.Dir, error) {
	if dir == "." {
		return x.dir, nil
	}
	if d := x.opened[dir]; d != nil {
		return d, nil
	}
	parent, err := x.at(path.Dir(dir))
	if err != nil {
		return nil, err
	}
	d, err := parent.Sub(path.Base(dir))
	if err == nil {
		if x.opened == nil {
			x.opened = map[string]*safefs.Dir{}
		}
		x.opened[dir] = d
	}
	return d, err
}

// lets reports whether a name of a state may be in the directory. States that were made by other
// rules may have names that may not.
func (x *sharing) lets(s *store.Store, number int, name string) bool {
	return !Collective(name) && (Harmless("", name) || x.rules.lets(packageOf(s, number, name), name))
}

// packageOf is the package whose tree a state's link leads to, if a name is that link or below
// it; otherwise "".
func packageOf(s *store.Store, number int, name string) string {
	for end := range len(name) + 1 {
		if end < len(name) && name[end] != '/' {
			continue
		}
		if target, err := os.Readlink(filepath.Join(linksDir(s, number), name[:end])); err == nil {
			below, _ := strings.CutPrefix(target, upFrom(name[:end])+"trees/")
			of, _, _ := strings.Cut(below, "/")
			return of
		}
	}
	return ""
}

// linksOf are the links of a state that may be in the directory.
func (x *sharing) linksOf(s *store.Store, number int) ([]string, error) {
	if names, known := x.names[number]; known {
		return names, nil
	}
	names := []string{}
	err := eachLink(s, number, func(name string) error {
		if x.lets(s, number, name) {
			names = append(names, name)
		}
		return nil
	})
	if x.names == nil {
		x.names = map[int][]string{}
	}
	x.names[number] = names
	return names, err
}

func sharedFile(s *store.Store) string { return filepath.Join(s.Root, "landings", "shared.json") }

// ReadShared returns what belongs to us in directories that others use too.
func ReadShared(s *store.Store) ([]Shared, error) {
	file := sharedFile(s)
	data, err := safefs.ReadFile(file, largestState)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	var all []Shared
	if err == nil {
		if err = json.Unmarshal(data, &all); err != nil {
			err = &store.Error{Path: file, Err: fmt.Errorf("this list of links is damaged: %w", err),
				Advice: "Move it aside. Links into " + Directory(s) +
					" that stay in a shared directory then have to be deleted by hand."}
		}
	}
	for _, x := range all {
		for _, name := range slices.Concat(x.Links, x.Directories) {
			if err == nil && (!safefs.ValidName(string(name)) || !filepath.IsAbs(x.Directory)) {
				err = &store.Error{Path: file, Err: fmt.Errorf("this list of links is damaged: %q is not a path", name),
					Advice: "Move it aside."}
			}
		}
	}
	return all, s.Wrap(err)
}

// openShared opens the directory that the rules name, and reads what belongs to us there and in
// others.
func (u *Update) openShared(s *store.Store) (*sharing, error) {
	all, err := ReadShared(s)
	if err != nil || len(all) == 0 && u.Rules.Shared == "" {
		return nil, err
	}
	var x *sharing
	if u.Rules.Shared != "" {
		if x, err = newSharing(s, Shared{Directory: u.Rules.Shared}); err != nil {
			return nil, err
		}
	} else {
		x = &sharing{file: sharedFile(s)}
	}
	x.rules = u.Rules
	others := false // are to be left
	for _, old := range all {
		if old.Directory == x.Directory {
			x.take(old)
			continue
		}
		others = true
		o, err := openSharing(s, old)
		if errors.Is(err, fs.ErrNotExist) {
			continue // it was deleted, with all that was ours
		}
		if err != nil {
			return nil, badShared(old.Directory, "the links there cannot be removed: "+err.Error())
		}
		x.before = append(x.before, o)
	}
	x.Unfinished = x.Unfinished || others
	return x, nil
}

func newSharing(s *store.Store, known Shared) (*sharing, error) {
	if err := mayShare(s, known.Directory); err != nil {
		return nil, err
	}
	if err := os.MkdirAll(known.Directory, 0o755); err != nil {
		return nil, badShared(known.Directory, "it cannot be created: "+err.Error())
	}
	x, err := openSharing(s, known)
	if err != nil {
		return nil, badShared(known.Directory, "it cannot be opened, or is a link: "+err.Error())
	}
	return x, nil
}

func openSharing(s *store.Store, known Shared) (*sharing, error) {
	dir, err := safefs.OpenDir(known.Directory)
	if err != nil {
		return nil, err
	}
	x := &sharing{dir: dir, file: sharedFile(s), base: Directory(s) + "/"}
	x.take(known)
	return x, nil
}

func (x *sharing) take(known Shared) {
	x.Shared = known
	x.links, x.made = map[string]bool{}, map[string]bool{}
	for _, name := range known.Links {
		x.links[string(name)] = true
	}
	for _, name := range known.Directories {
		x.made[string(name)] = true
	}
}

// mayShare refuses the operating system's own directories, and those in which the landing would
// lead into itself.
func mayShare(s *store.Store, dir string) error {
	within := func(a, b string) bool { return a == b || strings.HasPrefix(a, b+"/") }
	own := slices.ContainsFunc([]string{"/usr", "/bin", "/sbin", "/lib", "/lib64", "/etc", "/boot", "/dev", "/proc",
		"/sys", "/run"}, func(theirs string) bool {
		return within(dir, theirs)
	})
	if dir == "/" || own && !within(dir, "/usr/local") {
		return badShared(dir, "it belongs to the operating system; use /usr/local")
	}
	if within(dir, s.Root) {
		return badShared(dir, "it must not be in the root")
	}
	info, err := os.Stat(dir)
	if err == nil && os.Geteuid() == 0 {
		if uid := info.Sys().(*syscall.Stat_t).Uid; uid != 0 {
			return badShared(dir, fmt.Sprintf("it belongs to the user %d; root links nothing there", uid))
		}
	}
	return nil
}

func (x *sharing) close() {
	if x == nil {
		return
	}
	for _, d := range x.opened {
		d.Close()
	}
	if x.dir != nil {
		x.dir.Close()
	}
	for _, old := range x.before {
		old.close()
	}
}

func (x *sharing) unfinished() bool { return x != nil && x.Unfinished }

// keepCaches records which files were made for other tools.
func (x *sharing) keepCaches(made []Cache) error {
	changed := false
	for _, c := range made {
		for _, name := range c.Made {
			if !slices.Contains(x.Caches, store.Name(name)) {
				x.Caches = append(x.Caches, store.Name(name))
				changed = true
			}
		}
	}
	if !changed {
		return nil
	}
	return x.write(false)
}

func namesOf(all map[string]bool) []store.Name {
	names := make([]store.Name, 0, len(all))
	for _, name := range slices.Sorted(maps.Keys(all)) {
		names = append(names, store.Name(name))
	}
	return names
}

// write records what belongs to us, before the first link is made and after the last one is
// removed.
func (x *sharing) write(unfinished bool) error {
	x.Unfinished, x.changed = unfinished, true
	var all []Shared
	for _, y := range append([]*sharing{x}, x.before...) {
		y.Links, y.Directories = namesOf(y.links), namesOf(y.made)
		if y.Directory != "" {
			all = append(all, y.Shared)
		}
	}
	if len(all) == 0 {
		return durable.Remove(x.file)
	}
	data, err := json.MarshalIndent(all, "", " ")
	if err != nil {
		return err
	}
	return durable.WriteFile(x.file, append(data, '\n'), 0o644)
}

// BadShared is the problem of a directory in which nothing can be linked.
const BadShared problem.Code = "bad_shared"

func badShared(directory, why string) error {
	return problem.New(problem.Recipe, directory, "shared_landing = %q: %s", directory, why).Coded(BadShared)
}
