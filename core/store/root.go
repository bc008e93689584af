// Package store keeps what Fern Ladder has built, below one directory: the
// root.
//
//	ROOT/
//	  archives/               verified archives, by digest (core/source)
//	  work/NAME-VERSION-ID/   a build that is unfinished or has failed
//	  work/cluster/           ladders that are built on a cluster now (core/cluster)
//	  trees/NAME/VERSION-ID/  one build each
//	    share/fernladder/receipt.json   how it came to be
//	    share/fernladder/files.mtree    its files, in the mtree(5) format
//	  config/NAME/            configuration files that administrators edit
//	  state/NAME/             directories that programs write in
//	  supplies/               files that administrators have brought, by digest
//	  landing, landings/      what is in use (core/landing)
//	  logs/NAME-VERSION-ID/   one log for each stage of a build
//	  locks/                  empty files that running programs lock
//	  compiled/NAME-…/        what compilers made for builds of one recipe (core/build)
//	  advisories/             copies of databases, and indexes of them (core/advisory)
//	  history                 earlier builds and their times, a copy of what receipts say
//
// It promises this: a directory below trees/ is a tree exactly when its receipt
// is there, and says that it is of that directory. The receipt is written last, in
// one rename, after everything else is on the disk; when a tree is removed, the
// receipt goes first. So at whatever instant a program ends, a tree is complete or
// does not exist, and a directory without a receipt is rubbish that the next build of the
// same id replaces.
//
// A directory in the place of a tree can be lent to a build, which fills it itself:
// as long as the file .VERSION-ID.lent is beside it, it is no tree, whatever is in
// it.
//
// A build that is under way holds the lock of its id, and shares those of the
// builds whose trees it uses; removing a tree takes the lock of its id. A change
// of the landing holds the landing's. Nothing waits for anything else. What is only
// needed for a while is in work/scratch, each in a directory with a file beside it that its
// user locks; what is there and not locked was left by a program that was killed, and is
// deleted by the next. All locks are on regular files: those of directories do not hold
// between machines that share the root.
package store

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"

	"github.com/zeebo/blake3"
	"golang.org/x/sys/unix"

	"fernladder/core/filelock"
	"fernladder/core/problem"
)

// A Store is a root on disk.
type Store struct {
	Root   string  // absolute
	Access *Access // access rights in it; nil: the default

	known known
}

// Error is a problem of the root, with advice.
type Error struct {
	Path     string
	Err      error
	Advice   string
	Remedies []problem.Remedy
}

// ProblemKind is problem.Root.
func (e *Error) ProblemKind() problem.Kind { return problem.Root }

// ProblemRemedies are the operations that would help.
func (e *Error) ProblemRemedies() []problem.Remedy { return e.Remedies }

func (e *Error) Error() string {
	text := fmt.Sprintf("%s: %v", e.Path, e.Err)
	if e.Advice != "" {
		text += "\n  " + e.Advice
	}
	return text
}

func (e *Error) Unwrap() error { return e.Err }

// ErrGone is the problem of a tree that another program has removed meanwhile.
var ErrGone = errors.New("this tree has been removed")

// Gone turns an error of reading a tree into ErrGone if the tree does not exist.
func (s *Store) Gone(r Ref, err error) error {
	if errors.Is(err, fs.ErrNotExist) {
		return &Error{Path: s.Tree(r), Err: ErrGone, Advice: "Run the same command again."}
	}
	return s.Wrap(err)
}

// Wrap turns an error of the file system below the root into an *Error, with advice for the
// usual ones. It leaves an *Error, nil, and errors of anything else unchanged.
func (s *Store) Wrap(err error) error {
	if err == nil || errors.As(err, new(*Error)) || !s.concerns(err) {
		return err
	}
	e := &Error{Path: s.Root, Err: err}
	var at *fs.PathError
	if errors.As(err, &at) {
		e.Path, e.Err = at.Path, at.Err
	}
	var link *os.LinkError
	if errors.As(err, &link) {
		e.Path, e.Err = link.New, link.Err
	}
	switch {
	case errors.Is(err, syscall.ENOSPC), errors.Is(err, syscall.EDQUOT):
		e.Advice = fmt.Sprintf("The disk that holds the root is full. Make room there, or set another root in the "+
			"settings; then run the same command again. (Root: %s)", s.Root)
	case errors.Is(err, syscall.EXDEV):
		e.Advice = fmt.Sprintf("The directories below the root are on different file systems, and a tree is moved into its "+
			"place by a rename. Put all of them on one; then run the same command again. (Root: %s)", s.Root)
	case errors.Is(err, fs.ErrPermission) && s.ofAnother(e.Path) != "":
		e.Advice, e.Remedies = s.ofAnother(e.Path), []problem.Remedy{problem.Do(problem.CleanBuilds)}
	case errors.Is(err, fs.ErrPermission), errors.Is(err, syscall.EROFS):
		e.Advice = fmt.Sprintf("The root cannot be written by this user. Run as its owner, or set another root. (Root: %s)",
			s.Root)
	}
	return e
}

// concerns reports whether an error is one of the file system in a place that may be the root's.
func (s *Store) concerns(err error) bool {
	var path *fs.PathError
	var link *os.LinkError
	var call *os.SyscallError
	var number syscall.Errno
	switch {
	case errors.Is(err, syscall.ENOSPC), errors.Is(err, syscall.EDQUOT):
		return true
	case errors.As(err, &path):
		return !filepath.IsAbs(path.Path) || s.has(path.Path)
	case errors.As(err, &link):
		return !filepath.IsAbs(link.New) || s.has(link.New) || s.has(link.Old)
	}
	return errors.As(err, &call) || errors.As(err, &number)
}

func (s *Store) has(path string) bool {
	return path == s.Root || strings.HasPrefix(path, strings.TrimSuffix(s.Root, "/")+"/")
}

// Full reports whether the root's disk has no room for so many bytes, or for more files.
func (s *Store) Full(bytes uint64) bool {
	var disk unix.Statfs_t
	err := unix.Statfs(s.Root, &disk)
	return err == nil && (disk.Bavail*uint64(disk.Bsize) < bytes || disk.Files > 0 && disk.Ffree == 0)
}

// directories are the root and its initial directories.
var directories = []string{"", "archives", "work", "work/scratch", "work/cluster", "trees", "landings", "logs", "locks",
	"compiled", "advisories"}

// Prepare makes the root and its directories, if it may write to them.
func (s *Store) Prepare() error {
	for _, dir := range directories {
		dir = filepath.Join(s.Root, dir)
		if err := os.MkdirAll(dir, 0o777); err != nil {
			return s.Wrap(err)
		}
		if err := mayWrite(dir); err != nil {
			return err
		}
	}
	if err := s.Enforce(); err != nil {
		return err
	}
	if err := mayWrite(s.Root); err != nil { // files made for a group belong to it from now on
		return err
	}
	if err := unix.Access(s.Root, unix.W_OK); err != nil {
		return s.Wrap(&fs.PathError{Op: "access", Path: s.Root, Err: err})
	}
	return s.Wrap(s.sweep())
}

// mayWrite returns an *Error if root would write to a directory that another user could change
// or replace: that user could make root write anywhere. So root works neither in a root that a
// group may install to, nor below a directory of another user.
func mayWrite(dir string) error {
	if os.Geteuid() != 0 {
		return nil
	}
	real, err := filepath.EvalSymlinks(dir)
	if err != nil {
		return err
	}
	for _, path := range []string{dir, real} {
		for at := path; ; at = filepath.Dir(at) {
			info, err := os.Lstat(at)
			if err != nil {
				return err
			}
			owner := info.Sys().(*syscall.Stat_t)
			kept := at != path && info.Mode()&fs.ModeSticky != 0 || info.Mode()&fs.ModeSymlink != 0
			switch {
			case owner.Uid != 0:
				return &Error{Path: at, Err: fmt.Errorf("it belongs to user %d, who could redirect what root writes", owner.Uid),
					Advice: "Run as that user, or set another root."}
			case !kept && (info.Mode()&0o002 != 0 || info.Mode()&0o020 != 0 && owner.Gid != 0):
				return &Error{Path: at, Err: fmt.Errorf("other users can write to it (%s), and could redirect what root writes",
					info.Mode()),
					Advice: "Run as a user who may install, or set another root."}
			}
			if at == filepath.Dir(at) {
				break
			}
		}
	}
	return nil
}

// Archives is the directory of verified archives.
func (s *Store) Archives() string { return filepath.Join(s.Root, "archives") }

// Compiled is the directory of what compilers have made, if the settings want that kept.
func (s *Store) Compiled() string { return filepath.Join(s.Root, "compiled") }

// TreesDir is the directory of trees.
func (s *Store) TreesDir() string { return filepath.Join(s.Root, "trees") }

// A Ref names one build.
type Ref struct {
	Name    string `json:"name"`
	Version string `json:"version"`
	ID      string `json:"id"` // the build id
}

// String gives NAME-VERSION-ID, which is also the name of its directories.
func (r Ref) String() string { return r.Name + "-" + r.Version + "-" + r.ID }

// Tree is the path of the build's tree, which need not exist.
func (s *Store) Tree(r Ref) string {
	return filepath.Join(s.TreesDir(), r.Name, r.Version+"-"+r.ID)
}

// Work is its work directory.
func (s *Store) Work(r Ref) string { return filepath.Join(s.Root, "work", r.String()) }

// Logs is the directory with the logs of its stages.
func (s *Store) Logs(r Ref) string { return filepath.Join(s.Root, "logs", r.String()) }

// LockBuild waits until no other process builds, uses for a build, or removes r; it calls
// waiting first if it has to wait. The returned function releases the lock.
func (s *Store) LockBuild(ctx context.Context, r Ref, waiting func()) (func(), error) {
	return s.locked(filelock.Exclusive(ctx, s.lockFile(r.String()), waiting))
}

// LockBuildNow is LockBuild without waiting: the error is filelock.ErrHeld if another process
// has the lock.
func (s *Store) LockBuildNow(r Ref) (func(), error) {
	return s.now(s.lockFile(r.String()))
}

// LockWorkNow is LockBuildNow for the build of a work directory, by its name.
func (s *Store) LockWorkNow(name string) (func(), error) { return s.now(s.lockFile(name)) }

// IsWork reports whether a name in the work directory is that of a build.
func IsWork(name string) bool {
	return name != "scratch" && name != "cluster" && !strings.HasSuffix(name, againSuffix) && !strings.HasPrefix(name, ".")
}

func (s *Store) now(file string) (func(), error) {
	unlock, err := filelock.Now(file)
	if errors.Is(err, filelock.ErrHeld) {
		return nil, err
	}
	return s.locked(unlock, err)
}

// ShareBuild keeps r from being built or removed while a build uses its tree.
func (s *Store) ShareBuild(ctx context.Context, r Ref) (func(), error) {
	return s.locked(filelock.Shared(ctx, s.lockFile(r.String()), func() {}))
}

// againSuffix follows the names of the work directory, and of the lock, of a rebuild.
const againSuffix = ".again"

// WorkAgain is the work directory of a rebuild.
func (s *Store) WorkAgain(r Ref) string { return s.Work(r) + againSuffix }

// LockAgain waits until no other process rebuilds r for a comparison.
func (s *Store) LockAgain(ctx context.Context, r Ref, waiting func()) (func(), error) {
	return s.locked(filelock.Exclusive(ctx, s.lockFile(r.String()+againSuffix), waiting))
}

// LockFile waits until no other process that uses this root changes a file outside of it.
func (s *Store) LockFile(ctx context.Context, path string) (func(), error) {
	return s.locked(filelock.Exclusive(ctx, s.fileLock(path), func() {}))
}

func (s *Store) fileLock(path string) string {
	sum := blake3.Sum256([]byte(path))
	return s.lockFile("file-" + ShortID(hex.EncodeToString(sum[:])))
}

// LockFileNow is LockFile without waiting: the error is filelock.ErrHeld if another process has
// the lock.
func (s *Store) LockFileNow(path string) (func(), error) {
	return s.now(s.fileLock(path))
}

// LockLanding waits until no other process changes the landing.
func (s *Store) LockLanding(ctx context.Context, waiting func()) (func(), error) {
	return s.locked(filelock.Exclusive(ctx, s.lockFile("landing"), waiting))
}

// Locks is the directory of lock files.
func (s *Store) Locks() string { return filepath.Join(s.Root, "locks") }

func (s *Store) lockFile(name string) string { return filepath.Join(s.Locks(), name) }

func (s *Store) locked(unlock func(), err error) (func(), error) { return unlock, s.Wrap(err) }
