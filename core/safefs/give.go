package safefs

import (
	"os"
	"path/filepath"
	"syscall"

	"golang.org/x/sys/unix"
)

// Give makes a directory and everything below it another user's. It only gives files of users
// for which from is true: another user's file, to which a hard link may have been made, stays.
// Links are given, not followed.
func Give(path string, from func(uid int) bool, uid, gid int) error {
	d, err := OpenDir(path)
	if err != nil {
		return err
	}
	defer d.Close()
	give := func(dir int, name string, info Info, path string) error {
		if !from(info.UID) {
			return nil
		}
		_, err := retry(func() (int, error) { return 0, unix.Fchownat(dir, name, uid, gid, unix.AT_SYMLINK_NOFOLLOW) })
		return wrap("chown", path, err)
	}
	err = d.Walk(false, func(e Entry) error {
		return give(e.dir.fd(), e.base, e.Info, filepath.Join(path, e.Name))
	})
	if err != nil {
		return err
	}
	info, err := statAt(d.fd(), ".", path)
	if err != nil || !from(info.UID) {
		return err
	}
	return wrap("chown", path, unix.Fchown(d.fd(), uid, gid))
}

// Ours is true for the user who runs the program.
func Ours(uid int) bool { return uid == os.Geteuid() }

// Mine reports whether a file is a regular one of the user who runs the program, and not a link,
// in a directory that no other user can write to.
func Mine(path string) bool {
	mine := func(path string) (os.FileInfo, bool) {
		info, err := os.Lstat(path)
		if err != nil {
			return nil, false
		}
		stat, is := info.Sys().(*syscall.Stat_t)
		return info, is && int(stat.Uid) == os.Geteuid()
	}
	file, is := mine(path)
	dir, in := mine(filepath.Dir(path))
	return is && in && file.Mode().IsRegular() && dir.IsDir() && dir.Mode().Perm()&0o022 == 0
}
