package settings

import (
	"fmt"
	"io/fs"
	"os"
	"os/user"
	"path/filepath"
	"strconv"
	"syscall"

	"fernladder/core/problem"
)

// Find returns the settings file in force: in the working directory or above it, else the
// user's, else the machine's. It returns "" if there is none.
//
// Settings name programs to run and recipes to build, and a directory such as /tmp is above many
// others. A file that another user could have created, or can change, is refused with the code
// Foreign: it is only read if it is named explicitly.
func Find(p Place) (string, error) {
	var candidates []string
	for dir := p.Working; ; dir = filepath.Dir(dir) {
		candidates = append(candidates, filepath.Join(dir, FileName))
		if dir == filepath.Dir(dir) {
			break
		}
	}
	candidates = append(candidates, filepath.Join(p.home("XDG_CONFIG_HOME", ".config"), "fernladder", FileName),
		filepath.Join("/etc/fernladder", FileName))
	for _, file := range candidates {
		if info, err := os.Stat(file); err == nil && info.Mode().IsRegular() {
			return file, p.mustBeOurs(file)
		}
	}
	return "", nil
}

// mustBeOurs returns an error with the code Foreign unless only root and the user who runs the
// program can have written a file. Its directories count, too: paths in the file are relative to
// them.
func (p Place) mustBeOurs(file string) error {
	real, err := filepath.EvalSymlinks(file)
	if err != nil {
		return err
	}
	for _, path := range []string{filepath.Dir(file), real, filepath.Dir(real)} {
		info, err := os.Stat(path)
		if err != nil {
			return err
		}
		name := path
		if path == file {
			name = "it"
		}
		if uid := int(info.Sys().(*syscall.Stat_t).Uid); !p.Trusts(uid) {
			return foreign(file, fmt.Sprintf("%s belongs to %s", name, userName(uid)))
		}
		if info.Mode()&writableByAll != 0 {
			return foreign(file, fmt.Sprintf("everyone can write to %s", path))
		}
	}
	return nil
}

const writableByAll fs.FileMode = 0o002

// Trusts reports whether a user is root or the user who runs the program, also through sudo.
func (p Place) Trusts(uid int) bool {
	if p.Super {
		if invoker, err := strconv.Atoi(p.Getenv("SUDO_UID")); err == nil && uid == invoker {
			return true
		}
	}
	return uid == 0 || uid == os.Geteuid()
}

func userName(uid int) string {
	number := strconv.Itoa(uid)
	if u, err := user.LookupId(number); err == nil {
		return u.Username
	}
	return "user " + number
}

// Foreign is the problem of a settings file that another user could have changed.
const Foreign problem.Code = "foreign_settings"

func foreign(file, why string) error {
	return problem.New(problem.Recipe, file, "%s is not read: %s", file, why).Coded(Foreign).
		Remedy(problem.NameSettings, file)
}
