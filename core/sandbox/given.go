package sandbox

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"golang.org/x/sys/unix"
)

// Installers give files to root, to system users and to groups, which no command in a room
// can do, and end where they cannot. While files are placed, such calls are answered as
// if they were done, and recorded; nothing changes owner.

// give is a system call that gives a file away: where its directory (or descriptor), its
// path and its user are in its arguments, the group behind the user; -1 where it has none.
type give struct {
	number           uint32
	dir, path, owner int
}

var gives = slices.Concat(olderGives, []give{{unix.SYS_FCHOWN, 0, -1, 1}, {unix.SYS_FCHOWNAT, 0, 1, 2}})

// Given begins the lines of a record that say what was given: the word, the numbers of
// user and group (-1 for as it is), and the path.
const Given = "given"

// takeGiven records a call that gives something away. It is false for one that is let
// through: to whom it is already.
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
