package landing

import (
	"errors"
	"io/fs"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"syscall"

	"fernladder/core/durable"
	"fernladder/core/safefs"
	"fernladder/core/store"
)

// step is a directory or a link to be made.
type step struct {
	path string
	link bool
}

// add links the names of a state that do not exist yet. Names of others stay, and are listed in
// Blocked.
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
		case errors.Is(err, fs.ErrExist) && st.link: // another process was faster
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

// failed reports an error of the shared directory, which is not the root's.
func (x *sharing) failed(err error) error {
	e := &store.Error{Path: x.Directory, Err: err,
		Advice: "No other files were changed; the next change of the landing completes or reverts this one."}
	var at *fs.PathError
	if errors.As(err, &at) {
		e.Path, e.Err = at.Path, at.Err
	}
	return e
}

// missing works out what has to be made for the links of a state, and what existing entries do
// not belong to us.
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

// inFolder lists the contents of a folder that is a single link of a state, or of a directory
// below one. It does not follow links in the tree itself, which can lead anywhere.
func inFolder(s *store.Store, number int, name string) (entries []fs.DirEntry, folder bool, err error) {
	parent, err := filepath.EvalSymlinks(filepath.Join(linksDir(s, number), path.Dir(name)))
	if err != nil {
		return nil, false, err
	}
	at := filepath.Join(parent, path.Base(name))
	trees, err := filepath.EvalSymlinks(s.TreesDir())
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

// ours is the target of one of our links.
func (x *sharing) ours(name string) string { return "a link to " + x.base + name }

// what says what is at a path of the shared directory; "" if there is nothing.
func (x *sharing) what(name string) string {
	var info safefs.Info
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

// ready links the names of a state that do not exist yet, and records that others will go, so
// that nothing has to be recorded after the landing was switched.
func (x *sharing) ready(s *store.Store, number int) error {
	if x == nil {
		return nil
	}
	if err := x.add(s, number); err != nil {
		return err
	}
	if len(x.gone(s, number)) == 0 || x.Unfinished {
		return nil
	}
	return s.Wrap(x.write(true))
}

// finish brings the directory to a state: it makes missing links, removes our links that are no
// part of it, and leaves directories that were shared before.
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
	if err := x.leave(x.gone(s, number)); err != nil {
		return err
	}
	for _, old := range x.before {
		if err := old.leave(slices.Sorted(maps.Keys(old.links))); err != nil {
			return err
		}
		old.close()
	}
	x.before = nil
	// Everything is done. If that cannot be recorded, the next change finds nothing to do.
	_ = x.write(false)
	return nil
}

// gone are our links that a state does not have; number 0 has none.
func (x *sharing) gone(s *store.Store, number int) (gone []string) {
	for name := range x.links {
		if number == 0 || !safefs.Exists(filepath.Join(linksDir(s, number), name)) || !x.lets(s, number, name) {
			gone = append(gone, name)
		}
	}
	return slices.Sorted(slices.Values(gone))
}

// leave removes links of ours, and empty directories that were made for links. What replaced a
// link stays.
func (x *sharing) leave(names []string) error {
	if x.dir == nil {
		return nil
	}
	x.Strange = slices.DeleteFunc(x.Strange, func(b Blocked) bool { return x.what(string(b.Path)) == "" })
	for _, name := range names {
		durable.Moment()
		d, err := x.at(path.Dir(name))
		if err == nil {
			err = d.Unlink(path.Base(name), x.base+name)
		}
		switch {
		case errors.Is(err, safefs.ErrOther):
			x.Strange = append(x.Strange, Blocked{store.Name(name), x.what(name)})
		case err != nil && !safefs.Gone(err):
			return x.failed(err)
		}
		delete(x.links, name)
	}
	if len(x.links) == 0 { // and so nothing that they were made of is there
		for _, name := range x.Caches {
			if err := x.dir.Delete(string(name)); err != nil && !safefs.Gone(err) {
				return x.failed(err)
			}
		}
		x.Caches = nil
	}
	for _, dir := range slices.Backward(slices.Sorted(maps.Keys(x.made))) {
		err := x.dir.Rmdir(dir)
		switch {
		case err == nil, safefs.Gone(err):
			delete(x.made, dir)
		case !errors.Is(err, syscall.ENOTEMPTY) && !errors.Is(err, syscall.EEXIST):
			return x.failed(err)
		}
	}
	return nil
}
