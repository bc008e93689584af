package store

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
)

// Access says who may do what in a root. The zero value leaves directories as they are.
type Access struct {
	Private bool // only the owner of the root sees anything in it
	Group   int  // members of the group may install; -1: only the owner of the root
}

// CommonUmask is the umask of a program in a root that a group may install to. Builds have their
// own.
const CommonUmask = 0o002

// common reports whether a group may install, according to the root itself: then directories
// belong to the group, and so does everything made in them (setgid).
func (s *Store) common() bool {
	info, err := os.Stat(s.Root)
	return err == nil && info.Mode().Perm()&0o020 != 0
}

// apply gives one of the root's own directories the permissions of the policy.
func (s *Store) apply(dir string) error {
	if s.Access == nil {
		return nil
	}
	info, err := os.Lstat(dir)
	if err != nil || !info.IsDir() {
		return err
	}
	owner := info.Sys().(*syscall.Stat_t)
	mode, gid := fs.FileMode(0o755), -1
	switch {
	case s.Access.Private && dir == s.Root:
		mode = 0o700
	case s.Access.Group >= 0:
		mode, gid = 0o775|fs.ModeSetgid, s.Access.Group
	}
	if info.Mode()&(fs.ModePerm|fs.ModeSetgid) == mode && (gid < 0 || int(owner.Gid) == gid) {
		return nil
	}
	if gid >= 0 {
		err = os.Lchown(dir, -1, gid)
	}
	if err == nil {
		err = os.Chmod(dir, mode)
	}
	if errors.Is(err, fs.ErrPermission) {
		return &Error{Path: dir,
			Err:    fmt.Errorf("permissions differ from the access setting (want %s), and it belongs to another user", mode),
			Advice: "Run any command that installs as its owner, once."}
	}
	return err
}

// Enforce gives the root's own directories the permissions of the policy, if there is one.
func (s *Store) Enforce() error {
	if s.Access == nil {
		return nil
	}
	for _, dir := range directories {
		if err := s.apply(filepath.Join(s.Root, dir)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return s.Wrap(err)
		}
	}
	return nil
}

// commonTree lets the group remove the directories of a tree, if a group may install.
func (s *Store) commonTree(filled string) error {
	if !s.common() {
		return nil
	}
	info, err := os.Stat(s.Root)
	if err != nil {
		return err
	}
	gid := int(info.Sys().(*syscall.Stat_t).Gid)
	root, err := os.OpenRoot(filled)
	if err != nil {
		return err
	}
	defer root.Close()
	return fs.WalkDir(root.FS(), ".", func(path string, d fs.DirEntry, err error) error {
		if err != nil || !d.IsDir() {
			return err
		}
		at, err := d.Info()
		if err != nil {
			return err
		}
		return errors.Join(root.Lchown(path, -1, gid), root.Chmod(path, at.Mode().Perm()|0o020|fs.ModeSetgid))
	})
}

// ofAnother names the owner of a path below the root, if another user has begun something there.
func (s *Store) ofAnother(path string) string {
	below, is := strings.CutPrefix(path, filepath.Join(s.Root, "work")+"/")
	if !is {
		return ""
	}
	name, _, _ := strings.Cut(below, "/")
	info, err := os.Lstat(filepath.Join(s.Root, "work", name))
	if err != nil {
		return ""
	}
	uid := int(info.Sys().(*syscall.Stat_t).Uid)
	if uid == os.Geteuid() {
		return ""
	}
	return fmt.Sprintf("User %d started this build, and can continue or delete it.", uid)
}
