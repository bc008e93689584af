package safefs

import (
	"errors"
	"io/fs"
	"path/filepath"

	"golang.org/x/sys/unix"
)

// Target is the target of a link below the directory. For anything else the error is EINVAL.
func (d *Dir) Target(name string) (string, error) {
	parent, base, done, err := d.parent(name)
	if err != nil {
		return "", err
	}
	defer done()
	buffer := make([]byte, unix.PathMax)
	n, err := retry(func() (int, error) { return unix.Readlinkat(parent, base, buffer) })
	if err != nil {
		return "", wrap("readlink", filepath.Join(d.path, name), err)
	}
	return string(buffer[:n]), nil
}

// Symlink makes a link below the directory. It does not replace anything; then the error is
// fs.ErrExist.
func (d *Dir) Symlink(target, name string) error {
	parent, base, done, err := d.parent(name)
	if err != nil {
		return err
	}
	defer done()
	return wrap("symlink", filepath.Join(d.path, name), unix.Symlinkat(target, parent, base))
}

// Stat returns information about the directory itself.
func (d *Dir) Stat() (Info, error) { return statAt(d.fd(), ".", d.path) }

// Chmod changes the permissions of the directory itself.
func (d *Dir) Chmod(mode fs.FileMode) error {
	return wrap("chmod", d.path, unix.Fchmod(d.fd(), uint32(mode.Perm())))
}

// Mkdir makes a directory at a path below the directory.
func (d *Dir) Mkdir(name string, mode fs.FileMode) error {
	parent, base, done, err := d.parent(name)
	if err != nil {
		return err
	}
	defer done()
	return wrap("mkdir", filepath.Join(d.path, name), unix.Mkdirat(parent, base, uint32(mode.Perm())))
}

// Delete deletes a regular file at a path below the directory.
func (d *Dir) Delete(name string) error {
	info, err := d.Lstat(name)
	if err != nil {
		return err
	}
	if !info.Mode.IsRegular() {
		return &fs.PathError{Op: "unlink", Path: filepath.Join(d.path, name), Err: fs.ErrNotExist}
	}
	parent, base, done, err := d.parent(name)
	if err != nil {
		return err
	}
	defer done()
	return wrap("unlink", filepath.Join(d.path, name), unix.Unlinkat(parent, base, 0))
}

// Rmdir deletes an empty directory at a path below the directory.
func (d *Dir) Rmdir(name string) error {
	parent, base, done, err := d.parent(name)
	if err != nil {
		return err
	}
	defer done()
	return wrap("rmdir", filepath.Join(d.path, name), unix.Unlinkat(parent, base, unix.AT_REMOVEDIR))
}

// ErrOther is the error for a link with another target than expected, or for something that is
// no link.
var ErrOther = errors.New("it is not the link that was expected")

// Unlink deletes a link below the directory, if it has the expected target. It moves the link
// aside first: what replaces it meanwhile stays, or comes back. A missing link is no error;
// anything else is ErrOther.
func (d *Dir) Unlink(name, target string) error {
	parent, base, done, err := d.parent(name)
	if err != nil {
		return err
	}
	defer done()
	path := filepath.Join(d.path, name)
	is := func(base string) bool {
		buffer := make([]byte, unix.PathMax)
		n, err := retry(func() (int, error) { return unix.Readlinkat(parent, base, buffer) })
		return err == nil && string(buffer[:n]) == target
	}
	aside := ".fernladder-" + base
	if len(aside) > unix.NAME_MAX {
		aside = ".fernladder-aside"
	}
	if is(aside) { // a program was ended between the two
		if err := unix.Unlinkat(parent, aside, 0); err != nil {
			return wrap("unlink", path, err)
		}
	}
	if _, err := statAt(parent, base, path); errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if !is(base) {
		return &fs.PathError{Op: "unlink", Path: path, Err: ErrOther}
	}
	err = unix.Renameat2(parent, base, parent, aside, unix.RENAME_NOREPLACE)
	// A file system that does not support this, or a leftover.
	if errors.Is(err, unix.EINVAL) || errors.Is(err, unix.ENOSYS) || errors.Is(err, unix.EEXIST) {
		return wrap("unlink", path, unix.Unlinkat(parent, base, 0))
	}
	if err != nil {
		return wrap("unlink", path, err)
	}
	if is(aside) {
		return wrap("unlink", path, unix.Unlinkat(parent, aside, 0))
	}
	if err := unix.Renameat2(parent, aside, parent, base, unix.RENAME_NOREPLACE); err != nil {
		return wrap("rename", path, err)
	}
	return &fs.PathError{Op: "unlink", Path: path, Err: ErrOther}
}
