package safefs

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"golang.org/x/sys/unix"
)

// Info is information about a file, directory or link that was not opened.
type Info struct {
	Mode     fs.FileMode // type, permissions, setuid and the like
	Size     int64       // bytes that it says to have
	Blocks   int64       // bytes that it takes on the disk
	Modified time.Time
	UID, GID int
	Links    int
	Device   uint64 // with Inode, identifies a file
	Inode    uint64
	Changed  time.Time // contents or attributes; no program can set it
}

func statAt(dir int, name, path string) (Info, error) {
	var st unix.Stat_t
	if _, err := retry(func() (int, error) {
		return 0, unix.Fstatat(dir, name, &st, unix.AT_SYMLINK_NOFOLLOW)
	}); err != nil {
		return Info{}, wrap("stat", path, err)
	}
	mode := fs.FileMode(st.Mode & 0o777)
	if st.Mode&unix.S_ISUID != 0 {
		mode |= fs.ModeSetuid
	}
	if st.Mode&unix.S_ISGID != 0 {
		mode |= fs.ModeSetgid
	}
	if st.Mode&unix.S_ISVTX != 0 {
		mode |= fs.ModeSticky
	}
	switch st.Mode & unix.S_IFMT {
	case unix.S_IFREG:
	case unix.S_IFDIR:
		mode |= fs.ModeDir
	case unix.S_IFLNK:
		mode |= fs.ModeSymlink
	case unix.S_IFIFO:
		mode |= fs.ModeNamedPipe
	case unix.S_IFSOCK:
		mode |= fs.ModeSocket
	default:
		mode |= fs.ModeDevice
	}
	const block = 512 // whatever the file system's own is (stat(2))
	return Info{mode, st.Size, st.Blocks * block, time.Unix(st.Mtim.Unix()), int(st.Uid), int(st.Gid), int(st.Nlink),
		uint64(st.Dev), st.Ino, time.Unix(st.Ctim.Unix())}, nil
}

// An Entry is visited by a walk. It is only valid until the walk continues.
type Entry struct {
	Name string // below the directory that is walked
	Info

	dir  *Dir // that it is in
	base string
}

// Open opens the entry, if it is a regular file.
func (e Entry) Open() (*os.File, error) { return e.dir.Open(e.base) }

// Target is the target of a link.
func (e Entry) Target() (string, error) {
	buffer := make([]byte, unix.PathMax)
	n, err := retry(func() (int, error) { return unix.Readlinkat(e.dir.fd(), e.base, buffer) })
	if err != nil {
		return "", wrap("readlink", filepath.Join(e.dir.path, e.base), err)
	}
	return string(buffer[:n]), nil
}

// Skip makes a walk not enter a directory, Stop ends it without an error.
var (
	Skip = fs.SkipDir
	Stop = fs.SkipAll
)

// Tangled is the error for directories that are deeper, or have more entries, than any real
// ones.
type Tangled struct{ What string }

func (e *Tangled) Error() string { return e.What }

// Walk visits everything below the directory, a directory before its contents, in the order of
// names. If lenient, it skips what has disappeared or cannot be opened; otherwise that ends the
// walk. A *Tangled error says that there is no end to it.
func (d *Dir) Walk(lenient bool, visit func(Entry) error) error {
	entries := 0
	err := d.walk("", 0, &entries, lenient, visit)
	if errors.Is(err, Stop) {
		return nil
	}
	return err
}

func (d *Dir) walk(prefix string, depth int, entries *int, lenient bool, visit func(Entry) error) error {
	if depth > DeepestPath {
		return &Tangled{fmt.Sprintf("directories are nested more than %d deep", DeepestPath)}
	}
	names, err := d.names(MostEntries - *entries)
	if err != nil {
		if lenient && !errors.As(err, new(*Tangled)) {
			return nil
		}
		return err
	}
	*entries += len(names)
	for _, base := range names {
		info, err := statAt(d.fd(), base, filepath.Join(d.path, base))
		if err != nil {
			if lenient {
				continue
			}
			return err
		}
		name := base
		if prefix != "" {
			name = prefix + "/" + base
		}
		err = visit(Entry{Name: name, Info: info, dir: d, base: base})
		if err == Skip {
			continue
		}
		if err != nil {
			return err
		}
		if !info.Mode.IsDir() {
			continue
		}
		sub, err := d.Sub(base)
		if err != nil {
			if lenient {
				continue
			}
			return err
		}
		err = sub.walk(name, depth+1, entries, lenient, visit)
		sub.Close()
		if err != nil {
			return err
		}
	}
	return nil
}

// Size adds up the bytes of the regular files below a directory, as far as they are readable.
func Size(path string) (size int64) {
	d, err := OpenDir(path)
	if err != nil {
		return 0
	}
	defer d.Close()
	d.Walk(true, func(e Entry) error {
		if e.Mode.IsRegular() {
			size += min(e.Info.Size, e.Blocks)
		}
		return nil
	})
	return size
}

// OpenAnyway is Open, even for a file that its owner cannot read, if this program is the owner.
func (e Entry) OpenAnyway() (*os.File, error) {
	f, err := e.Open()
	if errors.Is(err, fs.ErrPermission) && grant(e.dir, e.base, 0, 0o400) == nil {
		f, err = e.Open()
	}
	return f, err
}
