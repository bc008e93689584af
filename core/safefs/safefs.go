// Package safefs reads, copies and deletes where another user could write: below the directories
// of a build, in unpacked archives, and in any file that is named to the program.
//
// It promises that no link is followed below an opened directory, that only regular files are
// opened, that nothing waits at a pipe, and that no more is read than the caller allows. The
// owner of the directory may change it meanwhile: what is seen may then be a mixture of before
// and after, and is still below it.
//
// Paths below a directory have slashes, no empty, "." or ".." parts, and do not begin with one.
package safefs

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/sys/unix"
)

// Limits of what is walked and read. Real sources and trees stay far below.
const (
	DeepestPath = 256     // directories in each other
	MostEntries = 5 << 20 // files, directories and links below one directory
)

// ErrNotRegular is the error for a directory, link, pipe, socket or device in the place of a
// file.
var ErrNotRegular = errors.New("it is not a regular file")

// TooLarge is the error for a file that is larger than the caller allows.
type TooLarge struct{ Most int64 }

func (e *TooLarge) Error() string {
	return fmt.Sprintf("it has over %d bytes, more than any honest file of its kind", e.Most)
}

// Open opens a file to read it, by a path of the machine: links in the path are followed,
// because the user who named it has the right to. It returns ErrNotRegular, in an *fs.PathError,
// for everything that is not a regular file, and never waits.
func Open(path string) (*os.File, error) {
	f, err := os.OpenFile(path, os.O_RDONLY|unix.O_NONBLOCK|unix.O_NOCTTY, 0)
	if err != nil {
		return nil, err
	}
	return regular(f, path)
}

// regular returns a file if it is regular. It was opened without waiting.
func regular(f *os.File, path string) (*os.File, error) {
	info, err := f.Stat()
	if err == nil && !info.Mode().IsRegular() {
		err = &fs.PathError{Op: "open", Path: path, Err: ErrNotRegular}
	}
	if err != nil {
		f.Close()
		return nil, err
	}
	return f, nil
}

// ReadFile reads a regular file of at most so many bytes, opened like Open does.
func ReadFile(path string, most int64) ([]byte, error) {
	f, err := Open(path)
	if err != nil {
		return nil, err
	}
	return readAll(f, path, most)
}

// A File is one below a directory that others may fill, such as a shelf.
type File struct{ Dir, Name string }

// Path is its path.
func (f File) Path() string { return filepath.Join(f.Dir, f.Name) }

// ReadFile reads it, if it is a regular file of at most so many bytes. Links that lead out of
// the directory lead nowhere.
func (f File) ReadFile(most int64) ([]byte, error) {
	root, err := os.OpenRoot(f.Dir)
	if err != nil {
		return nil, err
	}
	defer root.Close()
	file, err := root.OpenFile(f.Name, os.O_RDONLY|unix.O_NONBLOCK|unix.O_NOCTTY, 0)
	if err == nil {
		file, err = regular(file, f.Path())
	}
	if err != nil {
		return nil, err
	}
	return readAll(file, f.Path(), most)
}

func readAll(f *os.File, path string, most int64) ([]byte, error) {
	defer f.Close()
	// The stated size only saves reallocations.
	const usual = 1 << 20
	var buffer bytes.Buffer
	if info, err := f.Stat(); err == nil {
		buffer.Grow(int(min(info.Size(), most, usual)) + bytes.MinRead)
	}
	_, err := buffer.ReadFrom(io.LimitReader(f, most+1))
	data := buffer.Bytes()
	if err == nil && int64(len(data)) > most {
		err = &fs.PathError{Op: "read", Path: path, Err: &TooLarge{most}}
	}
	if err != nil {
		return nil, err
	}
	return data, nil
}

// Readable is the error for a file with a secret that not only its owner can read.
type Readable struct{ Mode fs.FileMode }

func (e *Readable) Error() string {
	return fmt.Sprintf("others can read it (mode %04o)", e.Mode)
}

// OpenPrivate opens a file like Open, if only its owner can read it; otherwise its error is a
// *Readable.
func OpenPrivate(path string) (*os.File, error) {
	f, err := Open(path)
	if err != nil {
		return nil, err
	}
	info, err := f.Stat()
	if err == nil && info.Mode().Perm()&0o077 != 0 {
		err = &Readable{info.Mode().Perm()}
	}
	if err != nil {
		f.Close()
		return nil, err
	}
	return f, nil
}

// A Dir is an opened directory. It stays the same one when it is renamed or another takes its
// name.
type Dir struct {
	file *os.File
	path string // as it was opened, for messages
}

// OpenDir opens a directory whose parent no other user can write. Its last component must not be
// a link.
func OpenDir(path string) (*Dir, error) {
	fd, err := retry(func() (int, error) {
		return unix.Open(path, unix.O_RDONLY|unix.O_DIRECTORY|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
	})
	if err != nil {
		return nil, &fs.PathError{Op: "open", Path: path, Err: err}
	}
	return &Dir{os.NewFile(uintptr(fd), path), path}, nil
}

// Close closes the directory.
func (d *Dir) Close() error { return d.file.Close() }

// Path is the path with which the directory was opened.
func (d *Dir) Path() string { return d.path }

// fd is its descriptor.
func (d *Dir) fd() int { return int(d.file.Fd()) }

// Sub opens a directory below this one.
func (d *Dir) Sub(name string) (*Dir, error) {
	fd, err := d.open(name, unix.O_RDONLY|unix.O_DIRECTORY)
	if err != nil {
		return nil, err
	}
	path := filepath.Join(d.path, name)
	return &Dir{os.NewFile(uintptr(fd), path), path}, nil
}

// Open opens a regular file below the directory to read it.
func (d *Dir) Open(name string) (*os.File, error) {
	fd, err := d.open(name, unix.O_RDONLY|unix.O_NONBLOCK|unix.O_NOCTTY)
	if err != nil {
		return nil, err
	}
	path := filepath.Join(d.path, name)
	return regular(os.NewFile(uintptr(fd), path), path)
}

// ReadFile reads a regular file of at most so many bytes.
func (d *Dir) ReadFile(name string, most int64) ([]byte, error) {
	f, err := d.Open(name)
	if err != nil {
		return nil, err
	}
	return readAll(f, filepath.Join(d.path, name), most)
}

// Lstat returns information about a path below the directory.
func (d *Dir) Lstat(name string) (Info, error) {
	parent, base, done, err := d.parent(name)
	if err != nil {
		return Info{}, err
	}
	defer done()
	return statAt(parent, base, filepath.Join(d.path, name))
}

// open opens a path, one component after another, without following links.
func (d *Dir) open(name string, flags int) (int, error) {
	if name == "." {
		fd, err := retry(func() (int, error) { return unix.Openat(d.fd(), ".", flags|unix.O_CLOEXEC, 0) })
		return fd, wrap("open", d.path, err)
	}
	parent, base, done, err := d.parent(name)
	if err != nil {
		return -1, err
	}
	defer done()
	fd, err := retry(func() (int, error) { return unix.Openat(parent, base, flags|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0) })
	return fd, wrap("open", filepath.Join(d.path, name), err)
}

// ValidName reports whether a path is one below a directory: with slashes, no empty, "." or ".."
// parts, and no zero byte. Unlike for fs.ValidPath, it need not be valid text.
func ValidName(name string) bool {
	if name == "" || strings.Contains(name, "\x00") {
		return false
	}
	for part := range strings.SplitSeq(name, "/") {
		if part == "" || part == "." || part == ".." {
			return false
		}
	}
	return true
}

// parent opens the directory that a path is in.
func (d *Dir) parent(name string) (fd int, base string, done func(), err error) {
	if !ValidName(name) {
		return -1, "", nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrInvalid}
	}
	fd, done = d.fd(), func() {}
	dirs, base := filepath.Split(name)
	for part := range strings.SplitSeq(strings.TrimSuffix(dirs, "/"), "/") {
		if part == "" {
			break
		}
		next, err := retry(func() (int, error) {
			return unix.Openat(fd, part, unix.O_PATH|unix.O_DIRECTORY|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
		})
		done()
		if err != nil {
			return -1, "", nil, wrap("open", filepath.Join(d.path, name), err)
		}
		fd, done = next, func() { unix.Close(next) }
	}
	return fd, base, done, nil
}

// retry repeats a call that a signal interrupted.
func retry(call func() (int, error)) (int, error) {
	for {
		if n, err := call(); err != unix.EINTR {
			return n, err
		}
	}
}

func wrap(op, path string, err error) error {
	if err == nil {
		return nil
	}
	return &fs.PathError{Op: op, Path: path, Err: err}
}

// Gone reports whether an error says that a path does not exist: the name is missing, or a
// directory above it is a file or a link by now.
func Gone(err error) bool {
	return errors.Is(err, fs.ErrNotExist) || errors.Is(err, unix.ENOTDIR) || errors.Is(err, unix.ELOOP)
}

// Exists reports whether a path exists. A link does, whatever its target.
func Exists(path string) bool {
	_, err := os.Lstat(path)
	return err == nil
}
