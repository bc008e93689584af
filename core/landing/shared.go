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
	"fernladder/core/ground"
	"fernladder/core/store"
)

// Shared is what is ours in a directory that others use too.
type Shared struct {
	Directory   string       `json:"directory"`
	Links       []store.Name `json:"links"`            // paths below it, each a link to the same path on the landing
	Directories []store.Name `json:"directories"`      // below it, that were made for the links
	Caches      []store.Name `json:"caches,omitempty"` // files that were made for tools of others, where there were none
	Blocked     []Blocked    `json:"blocked"`          // names of the landing that somebody else has there
	Strange     []Blocked    `json:"strange"`          // names that were ours, and that somebody has put something else in the place of
	Unfinished  bool         `json:"unfinished,omitempty"`
}

// Blocked is a name in a shared directory that is not ours.
type Blocked struct {
	Path store.Name `json:"path"`
	Is   string     `json:"is"` // what is there: a file, a directory, a link to …
}

// BadShared is the error for a directory in which nothing is linked.
type BadShared struct{ Directory, Why string }

func (e *BadShared) Error() string {
	return fmt.Sprintf("shared_landing = %q: %s", e.Directory, e.Why)
}

// sharing is the change of the shared directory, and of those that were shared
// before. It is nil where there is none.
type sharing struct {
	Shared
	dir    *ground.Dir
	links  map[string]bool
	made   map[string]bool
	file   string
	base   string // what links lead to: the landing, and a slash
	before []*sharing

	changed bool
	added   int                    // the state whose names are all there
	names   map[int][]string       // the links of states
	opened  map[string]*ground.Dir // directories below it
}

// at opens a directory below the shared one, through no link; it stays open.
func (x *sharing) at(dir string) (*ground.Dir, error) {
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
			x.opened = map[string]*ground.Dir{}
		}
		x.opened[dir] = d
	}
	return d, err
}

// linksOf are the links of a state.
func (x *sharing) linksOf(s *store.Store, number int) ([]string, error) {
	if names, known := x.names[number]; known {
		return names, nil
	}
	names := []string{}
	err := eachLink(s, number, func(name string) error {
		names = append(names, name)
		return nil
	})
	if x.names == nil {
		x.names = map[int][]string{}
	}
	x.names[number] = names
	return names, err
}

func sharedFile(s *store.Store) string { return filepath.Join(s.Root, "landings", "shared.json") }

// ReadShared returns what is ours in directories that others use too.
func ReadShared(s *store.Store) ([]Shared, error) {
	file := sharedFile(s)
	data, err := ground.ReadFile(file, largestState)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	var all []Shared
	if err == nil {
		if err = json.Unmarshal(data, &all); err != nil {
			err = &store.Error{Path: file, Err: fmt.Errorf("this list of links is damaged: %w", err),
				Advice: "Move it aside. Links into " + Directory(s) + " that stay in a shared directory then have to be deleted by hand."}
		}
	}
	for _, x := range all {
		for _, name := range slices.Concat(x.Links, x.Directories) {
			if err == nil && (!ground.ValidName(string(name)) || !filepath.IsAbs(x.Directory)) {
				err = &store.Error{Path: file, Err: fmt.Errorf("this list of links is damaged: %q is no path in it", name), Advice: "Move it aside."}
			}
		}
	}
	return all, s.Wrap(err)
}

// openShared opens the directory that the rules name, and reads what is ours there
// and in others.
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
	for _, old := range all {
		if old.Directory == x.Directory {
			x.take(old)
			continue
		}
		x.Unfinished = true
		o, err := openSharing(s, old)
		if errors.Is(err, fs.ErrNotExist) {
			continue // it was deleted, with all that was ours
		}
		if err != nil {
			return nil, &BadShared{old.Directory, "what is linked there cannot be taken away: " + err.Error()}
		}
		x.before = append(x.before, o)
	}
	return x, nil
}

func newSharing(s *store.Store, known Shared) (*sharing, error) {
	if err := mayShare(s, known.Directory); err != nil {
		return nil, err
	}
	if err := os.MkdirAll(known.Directory, 0o755); err != nil {
		return nil, &BadShared{known.Directory, "it cannot be made: " + err.Error()}
	}
	x, err := openSharing(s, known)
	if err != nil {
		return nil, &BadShared{known.Directory, "it cannot be opened, or is a link: " + err.Error()}
	}
	return x, nil
}

func openSharing(s *store.Store, known Shared) (*sharing, error) {
	dir, err := ground.OpenDir(known.Directory)
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

// mayShare refuses the operating system's own directories, and those in which the
// landing would lead into itself.
func mayShare(s *store.Store, dir string) error {
	within := func(a, b string) bool { return a == b || strings.HasPrefix(a, b+"/") }
	own := slices.ContainsFunc([]string{"/usr", "/bin", "/sbin", "/lib", "/lib64", "/etc", "/boot", "/dev", "/proc", "/sys", "/run"}, func(theirs string) bool {
		return within(dir, theirs)
	})
	if dir == "/" || own && !within(dir, "/usr/local") {
		return &BadShared{dir, "that is the operating system's own; /usr/local is there for what is not"}
	}
	if within(dir, s.Root) {
		return &BadShared{dir, "it must not be in the root"}
	}
	info, err := os.Stat(dir)
	if err == nil && os.Geteuid() == 0 {
		if uid := info.Sys().(*syscall.Stat_t).Uid; uid != 0 {
			return &BadShared{dir, fmt.Sprintf("it belongs to the user %d; root links nothing there", uid)}
		}
	}
	return nil
}

func (x *sharing) close() {
	if x == nil {
		return
	}
	for _, y := range append([]*sharing{x}, x.before...) {
		for _, d := range y.opened {
			d.Close()
		}
		if y.dir != nil {
			y.dir.Close()
		}
	}
}

func (x *sharing) unfinished() bool { return x != nil && x.Unfinished }

// step is a directory to be made, or a link.
type step struct {
	path string
	link bool
}

// add links the names of a state that are not there yet. What others have stays, and
// is told in Blocked.
func (x *sharing) add(s *store.Store, number int) error {
	if x == nil || x.Directory == "" || number == 0 || x.added == number {
		return nil
	}
	steps, blocked, err := x.missing(s, number)
	if err != nil {
		return err
	}
	x.added = number
	if len(steps) == 0 && slices.Equal(blocked, x.Blocked) {
		return nil
	}
	x.Blocked = blocked
	for _, st := range steps {
		if st.link {
			x.links[st.path] = true
		} else {
			x.made[st.path] = true
		}
	}
	if err := x.write(true); err != nil {
		return s.Wrap(err)
	}
	for _, st := range steps {
		durable.Moment()
		d, err := x.at(path.Dir(st.path))
		switch {
		case err != nil:
		case st.link:
			err = d.Symlink(x.base+st.path, path.Base(st.path))
		default:
			err = d.Mkdir(path.Base(st.path), 0o755)
		}
		switch {
		case errors.Is(err, fs.ErrExist) && st.link: // somebody was faster
			delete(x.links, st.path)
			x.Blocked = append(x.Blocked, Blocked{store.Name(st.path), x.what(st.path)})
		case errors.Is(err, fs.ErrExist):
			delete(x.made, st.path)
		case err != nil:
			x.added = 0
			return x.failed(err)
		}
	}
	return nil
}

// failed tells of an error in the shared directory, which is not the root's.
func (x *sharing) failed(err error) error {
	e := &store.Error{Path: x.Directory, Err: err, Advice: "Nothing of others was touched; what was begun here is finished, or taken back, by the next change of the landing."}
	var at *fs.PathError
	if errors.As(err, &at) {
		e.Path, e.Err = at.Path, at.Err
	}
	return e
}

// missing works out what has to be made for the links of a state, and what of it
// somebody else has.
func (x *sharing) missing(s *store.Store, number int) (steps []step, blocked []Blocked, err error) {
	known := map[string]string{".": isDirectory}
	look := func(name string) string {
		if _, is := known[name]; !is {
			known[name] = x.what(name)
		}
		return known[name]
	}
	seen := map[string]bool{}
	block := func(name string) {
		if !seen[name] {
			seen[name] = true
			blocked = append(blocked, Blocked{store.Name(name), look(name)})
		}
	}
	var place func(name string) error
	place = func(name string) error {
		var parents []string
		for dir := path.Dir(name); dir != "."; dir = path.Dir(dir) {
			parents = append(parents, dir)
		}
		for _, dir := range slices.Backward(parents) {
			switch is := look(dir); {
			case is == x.ours(dir):
				return nil // all in it is linked by it
			case is == "":
				steps = append(steps, step{dir, false})
				known[dir] = isDirectory
			case is != isDirectory:
				block(dir)
				return nil
			}
		}
		switch is := look(name); {
		case is == "":
			steps = append(steps, step{name, true})
			known[name] = x.ours(name)
		case is == x.ours(name):
		case is == isDirectory:
			entries, folder, err := inFolder(s, number, name)
			if err != nil {
				return err
			}
			if !folder {
				block(name)
				return nil
			}
			for _, e := range entries {
				if err := place(path.Join(name, e.Name())); err != nil {
					return err
				}
			}
		default:
			block(name)
		}
		return nil
	}
	names, err := x.linksOf(s, number)
	for _, name := range names {
		if err == nil {
			err = place(name)
		}
	}
	slices.SortFunc(blocked, func(a, b Blocked) int { return strings.Compare(string(a.Path), string(b.Path)) })
	return steps, blocked, s.Wrap(err)
}

// inFolder lists what is in a folder that is one link of a state, or in a directory
// below such a one. What is a link in the tree itself is no folder: it can lead anywhere.
func inFolder(s *store.Store, number int, name string) (entries []fs.DirEntry, folder bool, err error) {
	parent, err := filepath.EvalSymlinks(filepath.Join(linksDir(s, number), path.Dir(name)))
	if err != nil {
		return nil, false, err
	}
	at := filepath.Join(parent, path.Base(name))
	trees, err := filepath.EvalSymlinks(filepath.Join(s.Root, "trees"))
	if err != nil {
		return nil, false, err
	}
	if !strings.HasPrefix(at, trees+"/") { // it is a link of the state
		target, err := os.Readlink(at)
		if err != nil {
			return nil, false, nil
		}
		at = filepath.Join(parent, target)
	}
	if info, err := os.Lstat(at); err != nil || !info.IsDir() {
		return nil, false, nil
	}
	entries, err = os.ReadDir(at)
	return entries, true, err
}

const isDirectory = "a directory"

// ours is what a link of ours looks like to what.
func (x *sharing) ours(name string) string { return "a link to " + x.base + name }

// what says what is at a path of the shared directory; "" where nothing is.
func (x *sharing) what(name string) string {
	var info ground.Info
	d, err := x.at(path.Dir(name))
	if err == nil {
		info, err = d.Lstat(path.Base(name))
	}
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return ""
	case err != nil:
		return "something that cannot be seen"
	case info.Mode.IsDir():
		return isDirectory
	case info.Mode&fs.ModeSymlink != 0:
		target, _ := d.Target(path.Base(name))
		return "a link to " + target
	case info.Mode.IsRegular():
		return "a file"
	}
	return "a pipe, socket or device"
}

// ready links the names of a state that are not there yet, and writes down that others
// will go, so that nothing has to be written after the landing is switched.
func (x *sharing) ready(s *store.Store, number int) error {
	if x == nil {
		return nil
	}
	if err := x.add(s, number); err != nil {
		return err
	}
	gone, err := x.gone(s, number)
	if err == nil && len(gone) > 0 && !x.Unfinished {
		err = x.write(true)
	}
	return s.Wrap(err)
}

// finish brings the directory to a state: what is not there is linked, what is ours
// and no part of it goes; directories that were shared before are left.
func (x *sharing) finish(s *store.Store, number int) error {
	if x == nil {
		return nil
	}
	if err := x.ready(s, number); err != nil {
		return err
	}
	if number == 0 {
		x.Blocked = nil
	}
	if !x.Unfinished {
		return nil
	}
	gone, err := x.gone(s, number)
	if err != nil {
		return s.Wrap(err)
	}
	if err := x.leave(gone); err != nil {
		return err
	}
	for _, old := range x.before {
		if err := old.leave(slices.Collect(maps.Keys(old.links))); err != nil {
			return err
		}
		old.dir.Close()
	}
	x.before = nil
	// All is done. Where that cannot be written down, the next change finds nothing to do.
	_ = x.write(false)
	return nil
}

// gone are the links of ours that a state does not have.
func (x *sharing) gone(s *store.Store, number int) (gone []string, err error) {
	wanted := map[string]bool{}
	if number != 0 && x.Directory != "" {
		names, err := x.linksOf(s, number)
		if err != nil {
			return nil, err
		}
		for _, name := range names {
			wanted[name] = true
		}
	}
	for name := range x.links {
		if !wanted[name] && (number == 0 || !there(filepath.Join(linksDir(s, number), name))) {
			gone = append(gone, name)
		}
	}
	return gone, nil
}

// leave takes links of ours away, and the directories that were made for links and are
// empty. What somebody has put in the place of one stays.
func (x *sharing) leave(names []string) error {
	if x.dir == nil {
		return nil
	}
	slices.Sort(names)
	x.Strange = slices.DeleteFunc(x.Strange, func(b Blocked) bool { return x.what(string(b.Path)) == "" })
	for _, name := range names {
		durable.Moment()
		d, err := x.at(path.Dir(name))
		if err == nil {
			err = d.Unlink(path.Base(name), x.base+name)
		}
		switch {
		case errors.Is(err, ground.ErrOther):
			x.Strange = append(x.Strange, Blocked{store.Name(name), x.what(name)})
		case errors.Is(err, syscall.ENOTDIR), errors.Is(err, fs.ErrNotExist), errors.Is(err, syscall.ELOOP): // a directory above it is something else by now
		case err != nil:
			return x.failed(err)
		}
		delete(x.links, name)
	}
	if len(x.links) == 0 { // and so nothing that they were made of is there
		for _, name := range x.Caches {
			if err := x.dir.Delete(string(name)); err != nil && !errors.Is(err, fs.ErrNotExist) && !errors.Is(err, syscall.ENOTDIR) && !errors.Is(err, syscall.ELOOP) {
				return x.failed(err)
			}
		}
		x.Caches = nil
	}
	for _, dir := range slices.Backward(slices.Sorted(maps.Keys(x.made))) {
		err := x.dir.Rmdir(dir)
		if err == nil && x.opened[dir] != nil {
			x.opened[dir].Close()
			delete(x.opened, dir)
		}
		switch {
		case err == nil, errors.Is(err, fs.ErrNotExist), errors.Is(err, syscall.ENOTDIR), errors.Is(err, syscall.ELOOP):
			delete(x.made, dir)
		case !errors.Is(err, syscall.ENOTEMPTY) && !errors.Is(err, syscall.EEXIST):
			return x.failed(err)
		}
	}
	return nil
}

// keepCaches writes down which files were made for tools of others.
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

// write writes down what is ours, before the first of it is made and after the last
// of it is gone.
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
