package safefs

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"golang.org/x/sys/unix"
)

// Remove deletes a path, whose parent no other user can write, with everything below it: of any
// depth, with a bounded number of open directories, and including directories that their owner
// may not write. A missing path is no error.
func Remove(path string) error {
	parent, err := openParent(path)
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	defer parent.Close()
	return (&removal{top: parent, base: filepath.Base(path)}).run()
}

// openParent opens the directory of a path. The path may contain links; those belong to the
// owner of the path.
func openParent(path string) (*Dir, error) {
	dir := filepath.Dir(path)
	f, err := os.OpenFile(dir, os.O_RDONLY|unix.O_DIRECTORY, 0)
	if err != nil {
		return nil, err
	}
	return &Dir{f, dir}, nil
}

// Empty deletes everything below a directory, and not the directory itself, whose parent no
// other user can write.
func Empty(path string) error {
	d, err := OpenDir(path)
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	defer d.Close()
	return d.drain(func(name string) error { return (&removal{top: d, base: name}).run() })
}

// removal deletes one thing in a directory. Directories that are nested too deeply to be held
// open are moved up beside it, and deleted there.
type removal struct {
	top   *Dir
	base  string
	moved []string // names in top of moved files
	count int
}

// deepestOpen is how many directories are open at once.
const deepestOpen = 64

func (r *removal) run() error {
	if err := r.remove(r.top, r.base, 0); err != nil {
		return err
	}
	for len(r.moved) > 0 {
		name := r.moved[0]
		r.moved = r.moved[1:]
		if err := r.remove(r.top, name, 0); err != nil {
			return err
		}
	}
	return nil
}

func (r *removal) remove(dir *Dir, base string, depth int) error {
	path := filepath.Join(dir.path, base)
	err := unlink(dir, base, 0)
	switch {
	case err == nil, errors.Is(err, unix.ENOENT):
		return nil
	case !errors.Is(err, unix.EISDIR) && !errors.Is(err, unix.EPERM) && !errors.Is(err, unix.EACCES) &&
		!errors.Is(err, unix.ENOTDIR):
		return wrap("unlink", path, err)
	}
	if info, statErr := statAt(dir.fd(), base, path); statErr != nil || !info.Mode.IsDir() {
		return wrap("unlink", path, err)
	}
	if depth == deepestOpen {
		return r.moveUp(dir, base)
	}
	sub, err := dir.Sub(base)
	if errors.Is(err, os.ErrPermission) && openUp(dir, base) == nil {
		sub, err = dir.Sub(base)
	}
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	defer sub.Close()
	if info, err := sub.file.Stat(); err == nil && info.Mode()&0o700 != 0o700 {
		sub.file.Chmod(0o700) // if it cannot be, deleting fails and says so
	}
	if err := sub.drain(func(name string) error { return r.remove(sub, name, depth+1) }); err != nil {
		return err
	}
	if err := unlink(dir, base, unix.AT_REMOVEDIR); err != nil && !errors.Is(err, unix.ENOENT) {
		return wrap("rmdir", path, err)
	}
	return nil
}

func (r *removal) moveUp(dir *Dir, base string) error {
	for {
		r.count++
		name := fmt.Sprintf("%.64s.deep-%d", r.base, r.count)
		err := unix.Renameat2(dir.fd(), base, r.top.fd(), name, unix.RENAME_NOREPLACE)
		if errors.Is(err, unix.EEXIST) {
			continue
		}
		if err == nil {
			r.moved = append(r.moved, name)
		}
		return wrap("rename", filepath.Join(dir.path, base), err)
	}
}

func unlink(dir *Dir, base string, flags int) error {
	_, err := retry(func() (int, error) { return 0, unix.Unlinkat(dir.fd(), base, flags) })
	return err
}

// openUp gives the owner of a directory all rights to it.
func openUp(dir *Dir, base string) error { return grant(dir, base, unix.O_DIRECTORY, 0o700) }

// grant adds to the mode of a file or directory. Because chmod(2) follows links, it changes the
// opened file.
func grant(dir *Dir, base string, flags int, mode uint32) error {
	fd, err := unix.Openat(dir.fd(), base, flags|unix.O_PATH|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
	if err != nil {
		return err
	}
	defer unix.Close(fd)
	var st unix.Stat_t
	if err := unix.Fstat(fd, &st); err != nil {
		return err
	}
	return unix.Chmod(fmt.Sprintf("/proc/self/fd/%d", fd), st.Mode&0o7777|mode)
}
