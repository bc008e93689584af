package sandbox

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"golang.org/x/sys/unix"
)

// Installers give files to root, to system users and to groups, which no command in a room can
// do, and stop if that fails. While files are placed, such calls are recorded and reported as
// done; no owner changes.

// give is a system call that changes the owner of a file: the indexes of its directory (or
// descriptor), path and user among its arguments, the group behind the user; -1 for none.
type give struct {
	number           uint32
	dir, path, owner int
}

var gives = slices.Concat(olderGives, []give{{unix.SYS_FCHOWN, 0, -1, 1}, {unix.SYS_FCHOWNAT, 0, 1, 2}})

// Given begins the lines of a record about changed owners: the word, the numbers of user and
// group (-1: unchanged), and the path.
const Given = "given"

// takeGiven records a call that changes an owner. It is false for a call that is allowed,
// because it changes nothing.
func (w *watch) takeGiven(got *notice) bool {
	i := slices.IndexFunc(gives, func(g give) bool { return g.number == uint32(got.number) })
	if i < 0 {
		return false
	}
	g := gives[i]
	uid, gid := int32(got.arguments[g.owner]), int32(got.arguments[g.owner+1])
	if (uid == -1 || uid == builder) && (gid == -1 || gid == builder) {
		return false
	}
	path := ""
	if g.path >= 0 {
		path = textAt(int(got.pid), uintptr(got.arguments[g.path]))
	}
	if !filepath.IsAbs(path) {
		from := fmt.Sprintf("/proc/%d/cwd", got.pid)
		if g.dir >= 0 && int32(got.arguments[g.dir]) != unix.AT_FDCWD {
			from = fmt.Sprintf("/proc/%d/fd/%d", got.pid, int32(got.arguments[g.dir]))
		}
		base, err := os.Readlink(from)
		if err != nil {
			return true
		}
		path = filepath.Join(base, path)
	}
	if !strings.Contains(path, "\n") {
		w.note(fmt.Sprintf("%s %d %d %s", Given, uid, gid, path))
	}
	return true
}
