package source

import (
	"bufio"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"
	"time"

	"fernladder/core/problem"
	"fernladder/core/safefs"
)

// Limits protect against archives that are made to fill a disk.
type Limits struct {
	Entries int   // files, directories and links
	Bytes   int64 // in all files together
	Ratio   int64 // of unpacked bytes to the archive's, once they are over Free; 0: any
	Free    int64 // bytes that any archive may unpack to; 0: 1 GiB
}

// UpTo are the usual limits, except for the size: as many MiB as stated, however well the
// archive is compressed. 0 means the usual one.
func UpTo(mebibytes int) Limits {
	l := Usual
	if mebibytes > 0 {
		l.Bytes = int64(mebibytes) << 20
		l.Ratio = l.Bytes
	}
	return l
}

// Usual are limits that no honest source comes near.
var Usual = Limits{Entries: 2_000_000, Bytes: 100 << 30, Ratio: 200}

// Unpacked is what an archive contained.
type Unpacked struct {
	Entries int       `json:"entries"`
	Bytes   int64     `json:"bytes"`
	Newest  time.Time `json:"newest"` // modification time of the newest file
}

// UnpackError is the error for an archive that is damaged or hostile.
type UnpackError struct {
	Archive string // its path
	Entry   string // the name in the archive, or ""
	Err     error
}

func (e *UnpackError) Error() string {
	if e.Entry == "" {
		return fmt.Sprintf("%s cannot be unpacked: %v", e.Archive, e.Err)
	}
	return fmt.Sprintf("%s cannot be unpacked: entry %q %v", e.Archive, e.Entry, e.Err)
}

func (e *UnpackError) Unwrap() error { return e.Err }

// Unpack writes the contents of the archive at file into dir, which must exist and be empty. The
// kind of archive follows from its first bytes: tar, plain or compressed with gzip, bzip2, xz or
// zstd, or zip.
//
// Nothing is written outside dir, and no link is made that leads out of it. Files get mode 0644,
// or 0755 if any user may execute them, and keep their modification times. Devices, sockets and
// the like are refused, and so are names that are absolute, contain "..", or go through a link.
// Errors are of type *UnpackError if the archive is at fault.
func Unpack(ctx context.Context, file, dir string, limits Limits) (Unpacked, error) {
	return unpackFile(ctx, file, dir, limits, func(u *unpacking, f *os.File) error { return u.all(f, u.archive) })
}

// CopyOut makes one file from a file that is no archive, perhaps compressed.
func CopyOut(ctx context.Context, file, dir, name string, limits Limits) (Unpacked, error) {
	return unpackFile(ctx, file, dir, limits, func(u *unpacking, f *os.File) error { return u.single(f, name) })
}

// unpackFile opens a file and a directory, and unpacks one into the other.
func unpackFile(ctx context.Context, file, dir string, limits Limits,
	unpack func(*unpacking, *os.File) error) (Unpacked, error) {
	f, err := safefs.Open(file)
	if err != nil {
		return Unpacked{}, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return Unpacked{}, err
	}
	root, err := os.OpenRoot(dir)
	if err != nil {
		return Unpacked{}, err
	}
	u := newUnpacking(ctx, root, limits)
	u.archive = info.Size()
	defer u.close()
	return u.finish(file, unpack(u, f))
}

func (u *unpacking) single(f *os.File, name string) error {
	buffered := bufio.NewReaderSize(f, 256<<10)
	head, err := buffered.Peek(6)
	if err != nil && err != io.EOF {
		return err
	}
	r, done, err := decompressed(buffered, head, false)
	if err != nil {
		return err
	}
	defer done()
	return u.put(item{name: name, mode: 0o644, time: earliest}, r)
}

// earliest is the time of files that have none: the first that zip can express.
var earliest = time.Date(1980, time.January, 1, 0, 0, 0, 0, time.UTC)

// unpackTar unpacks a plain tar file from the output of a program. name is its name in errors.
func unpackTar(ctx context.Context, name string, r io.Reader, dir string, limits Limits) (Unpacked, error) {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return Unpacked{}, err
	}
	u := newUnpacking(ctx, root, limits)
	u.archive = limits.Bytes // uncompressed data cannot be a bomb
	defer u.close()
	return u.finish(name, u.tar(r))
}

// UnpackTree unpacks the tar archive of an installed tree: with the permissions of its files, except
// for setuid and setgid, and without write permission for others than the owner. link says why a
// link is refused, or nothing.
func UnpackTree(ctx context.Context, name string, r io.Reader, dir string, limits Limits,
	link func(name, target string) error) (Unpacked, error) {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return Unpacked{}, err
	}
	u := newUnpacking(ctx, root, limits)
	u.archive, u.link, u.modes = limits.Bytes, link, map[string]fs.FileMode{}
	defer u.close()
	return u.finish(name, u.tar(r))
}

func newUnpacking(ctx context.Context, root *os.Root, limits Limits) *unpacking {
	return &unpacking{ctx: ctx, root: root, limits: limits, buffer: make([]byte, 128<<10), times: map[string]time.Time{},
		stack: []opened{{".", root}}, link: checkTarget}
}

// finish returns the outcome.
func (u *unpacking) finish(file string, err error) (Unpacked, error) {
	if err == nil {
		err = u.setDirectoryTimes()
	}
	if err != nil && u.ctx.Err() != nil {
		return u.Unpacked, u.ctx.Err()
	}
	if err != nil && !isLocal(err) {
		return u.Unpacked, &UnpackError{file, u.entry, err}
	}
	return u.Unpacked, err
}

// Top returns the directory of an unpacked source: the only directory at the top of its archive,
// if there is nothing else, otherwise dir itself.
func Top(dir string) (string, error) {
	entries, err := os.ReadDir(dir)
	if err == nil && len(entries) == 1 && entries[0].IsDir() {
		return filepath.Join(dir, entries[0].Name()), nil
	}
	return dir, err
}

// isLocal distinguishes an error of this machine's disk from one of the archive.
func isLocal(err error) bool {
	return errors.As(err, new(*fs.PathError)) || errors.As(err, new(*os.LinkError))
}

// An opened directory is one that files are being written to.
type opened struct {
	name string
	root *os.Root
}

// unpacking is an archive that is being unpacked into a directory.
type unpacking struct {
	Unpacked
	ctx     context.Context
	root    *os.Root
	limits  Limits
	archive int64 // its size
	stream  int64 // bytes that it has been unpacked to, headers and padding too
	entry   string
	// stack has the open directories from the root down to that of the last entry: archives list
	// the entries of a directory together, and an open directory costs one look-up per file instead
	// of one per path component.
	stack  []opened
	times  map[string]time.Time   // of directories, set when all is written
	modes  map[string]fs.FileMode // the same, if permissions are kept; nil otherwise
	link   func(name, target string) error
	buffer []byte
}

func (u *unpacking) close() {
	for _, o := range u.stack {
		o.root.Close()
	}
}

// An item is an entry of an archive of any format.
type item struct {
	name   string
	mode   fs.FileMode // type and permissions
	time   time.Time
	link   string // target of a symbolic link
	same   string // name of the entry that a hard link is the same file as
	global bool   // carries nothing but information about the archive
}

// put writes one entry, with the contents of a file from r.
func (u *unpacking) put(it item, r io.Reader) error {
	if err := u.ctx.Err(); err != nil {
		return err
	}
	u.entry = it.name
	if u.Entries++; u.Entries > u.limits.Entries {
		return fmt.Errorf("exceeds the limit of %d entries", u.limits.Entries)
	}
	if it.global {
		return nil
	}
	if strings.ContainsFunc(it.name, func(c rune) bool { return c < ' ' || c == 0x7f }) {
		return errors.New("has a control character in its name")
	}
	name := path.Clean(strings.TrimSuffix(it.name, "/"))
	if name == "." && it.mode.IsDir() {
		return nil
	}
	if !filepath.IsLocal(it.name) || name == "." {
		return errors.New("would be written outside the directory")
	}
	if it.mode.IsDir() {
		u.times[name] = it.time
		if u.modes != nil {
			u.modes[name] = it.mode.Perm()&^0o022 | 0o700
		}
		_, err := u.directory(name)
		return err
	}
	parent, err := u.directory(path.Dir(name))
	if err != nil {
		return err
	}
	base := path.Base(name)
	switch {
	case it.same != "":
		return u.hardLink(name, it.same)
	case it.mode&fs.ModeSymlink != 0:
		if err := u.link(name, it.link); err != nil {
			return err
		}
		return u.replacing(parent, base, func() error { return parent.Symlink(it.link, base) })
	case it.mode.IsRegular():
		return u.file(parent, base, it, r)
	}
	return errors.New("is a device or the like")
}

// directory returns an open directory, and creates it first if it does not exist.
func (u *unpacking) directory(name string) (*os.Root, error) {
	for len(u.stack) > 1 {
		top := u.stack[len(u.stack)-1]
		if top.name == name || strings.HasPrefix(name, top.name+"/") {
			break
		}
		top.root.Close()
		u.stack = u.stack[:len(u.stack)-1]
	}
	top := u.stack[len(u.stack)-1]
	rest := name
	if top.name != "." {
		rest = strings.TrimPrefix(strings.TrimPrefix(name, top.name), "/")
	}
	if rest == "" || rest == "." {
		return top.root, nil
	}
	for part := range strings.SplitSeq(rest, "/") {
		err := top.root.Mkdir(part, 0o755)
		if err != nil && !errors.Is(err, fs.ErrExist) {
			return nil, err
		}
		if err != nil {
			info, err := top.root.Lstat(part)
			if err != nil {
				return nil, err
			}
			if !info.IsDir() {
				return nil, fmt.Errorf("goes through %q, which is not a directory", path.Join(top.name, part))
			}
		}
		next, err := top.root.OpenRoot(part)
		if err != nil {
			return nil, err
		}
		top = opened{path.Join(top.name, part), next}
		u.stack = append(u.stack, top)
	}
	return top.root, nil
}

func (u *unpacking) file(parent *os.Root, base string, it item, r io.Reader) error {
	mode := fs.FileMode(0o644)
	if it.mode&0o111 != 0 {
		mode = 0o755
	}
	if u.modes != nil {
		mode = it.mode.Perm()&^0o022 | 0o400
	}
	var f *os.File
	err := u.replacing(parent, base, func() (err error) {
		f, err = parent.OpenFile(base, os.O_CREATE|os.O_EXCL|os.O_WRONLY, mode)
		return err
	})
	if err != nil {
		return err
	}
	defer f.Close()
	if err := u.copy(f, r); err != nil {
		return err
	}
	if u.modes != nil { // the umask does not count
		if err := f.Chmod(mode); err != nil {
			return err
		}
	}
	if err := f.Close(); err != nil {
		return err
	}
	if it.time.After(u.Newest) {
		u.Newest = it.time
	}
	return parent.Chtimes(base, it.time, it.time)
}

// replacing creates a name, after deleting what an earlier entry left there.
func (u *unpacking) replacing(parent *os.Root, base string, make func() error) error {
	err := make()
	if !errors.Is(err, fs.ErrExist) {
		return err
	}
	if info, err := parent.Lstat(base); err == nil && info.IsDir() {
		return errors.New("is a directory elsewhere in the archive")
	}
	if err := parent.Remove(base); err != nil {
		return err
	}
	return make()
}

func (u *unpacking) copy(w io.Writer, r io.Reader) error {
	for {
		n, err := r.Read(u.buffer)
		if u.Bytes += int64(n); u.tooLarge(u.Bytes) {
			return u.bomb(u.Bytes)
		}
		if n > 0 {
			if _, err := w.Write(u.buffer[:n]); err != nil {
				return err
			}
			if err := u.ctx.Err(); err != nil {
				return err
			}
		}
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
	}
}

// tooLarge reports whether no honest archive would have so many bytes.
func (u *unpacking) tooLarge(bytes int64) bool {
	return bytes > u.limits.Bytes ||
		u.limits.Ratio > 0 && bytes > cmp.Or(u.limits.Free, 1<<30) && bytes/u.limits.Ratio > u.archive
}

func (u *unpacking) bomb(bytes int64) error {
	if u.modes != nil {
		return fmt.Errorf("makes the tree too large: over %d bytes; largest_tree in the settings allows more", bytes)
	}
	return fmt.Errorf("makes the source too large: over %d bytes from %d; largest_source in the settings allows more",
		bytes, u.archive)
}

func (u *unpacking) hardLink(name, same string) error {
	same = path.Clean(same)
	if !filepath.IsLocal(same) {
		return fmt.Errorf("is a link to %q, which is outside the directory", same)
	}
	info, err := u.root.Lstat(same)
	if err != nil || !info.Mode().IsRegular() {
		return fmt.Errorf("is a link to %q, which is not a file in the archive", same)
	}
	if same == name {
		return nil
	}
	return u.replacing(u.root, name, func() error { return u.root.Link(same, name) })
}

// checkTarget refuses symbolic links that lead out of the directory. Dots are only allowed at
// the beginning of a target: further on, they could climb from the target of another link.
func checkTarget(name, target string) error {
	rest := target
	for strings.HasPrefix(rest, "../") {
		rest = rest[3:]
	}
	middle := rest != ".." && strings.Contains("/"+rest+"/", "/../")
	if target == "" || path.IsAbs(target) || middle || !filepath.IsLocal(path.Join(path.Dir(name), target)) {
		return fmt.Errorf("is a link to %q, which leads out of the directory", target)
	}
	return nil
}

// setDirectoryTimes comes last, because writing into a directory changes its time.
func (u *unpacking) setDirectoryTimes() error {
	for name, mode := range u.modes {
		if err := u.root.Chmod(name, mode); err != nil {
			return err
		}
	}
	for name, t := range u.times {
		if err := u.root.Chtimes(name, t, t); err != nil {
			return err
		}
	}
	return nil
}

// ProblemKind is the kind of the error.
func (e *UnpackError) ProblemKind() problem.Kind { return problem.Fetch }
