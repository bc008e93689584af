// Package sandbox runs commands that can see and change only what they are given.
//
// There are three levels, as far as the machine allows them:
//
//   - Sealed: namespaces for users, mounts, processes, network, host name and IPC. Commands
//     see the operating system read-only (/usr, /etc), a private /tmp, /dev and /proc that
//     cannot change the machine, a private loopback and no other network, and otherwise
//     only what the room lists. What of the system they see can be limited to what they
//     declare (a bare room, see Declared).
//   - Fenced: Landlock and a system call filter let them write only where the room says,
//     and have no sockets. They see what their user sees.
//   - Open: only the permissions of their user restrict them.
//
// At every level, commands started by root run as another, unprivileged user; commands have
// limits; and processes that they leave behind are killed. At the first two levels they
// have no privileges, can gain none, and lack the system calls that compilers do not need
// (filter.go).
//
// A second copy of the program, the room's server, runs the commands. Once the room is made
// it has no more rights than the commands, and nothing it says is trusted further than
// what a command could say.
package sandbox

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"syscall"

	"golang.org/x/sys/unix"

	"fernladder/core/problem"
)

// Level is a level of isolation.
type Level string

// The levels, the weakest first.
const (
	Open   Level = "open"
	Fenced Level = "fenced"
	Sealed Level = "sealed"
)

// Levels are all levels, the weakest first.
var Levels = []Level{Open, Fenced, Sealed}

// AtLeast reports whether a level is at least as strong as another.
func (l Level) AtLeast(other Level) bool {
	return slices.Index(Levels, l) >= slices.Index(Levels, other)
}

// A Room says what commands see and what they may change. Paths are absolute, and only the
// caller can write to the directories that contain them.
type Room struct {
	Level    Level
	Point    string   // an empty directory that a sealed room is put together on
	Visible  []string // readable in a sealed room, besides the system
	Hidden   []string // parts of the system that are absent in a sealed room, with their contents
	Layer    string   // a directory that Whiteouts has filled with them, which is quicker; or ""
	Writable []string // writable
	Stands   Stand    // in a sealed room, a directory that is elsewhere outside
	Shown    Stand    // the same, for one that cannot be changed; /usr has the system's files besides
	Home     string   // of the user in a sealed room
	Network  bool     // a sealed room uses the machine's network
	User     User     // the user of commands on the machine
	Limits   Limits
}

// A Stand is a directory that appears, in a sealed room, at another path, which need not exist.
// What the machine has at that path is not visible.
type Stand struct{ In, For string }

// Limits are those of commands. The zero value sets none.
type Limits struct {
	Processes int   // with threads, all together; where a user has other processes, of the user
	Files     int   // that one process has open
	FileSize  int64 // bytes of one file
	Memory    int64 // bytes that one process has to write to (RLIMIT_DATA)
	Scratch   int64 // bytes in /tmp, /var/tmp and /dev/shm of a sealed room together; 0: a quarter of the memory
}

// builder is the number of the user and of the group of commands in a sealed room. If it were
// root's, commands would give files to users that do not exist.
const builder = 1000

// Strongest finds the strongest level that the machine allows, by trying, in a new directory
// below dir. why says what prevents the levels above.
func Strongest(dir string, user User) (level Level, why error) {
	for _, level := range []Level{Sealed, Fenced} {
		err := Try(level, dir, user)
		if err == nil {
			return level, why
		}
		why = errors.Join(why, fmt.Errorf("%s: %w", level, err))
	}
	return Open, why
}

// Try tries a room of a level, and says what prevents it.
func Try(level Level, dir string, user User) error {
	if err := passable(level, dir, user); err != nil {
		return err
	}
	point, err := os.MkdirTemp(dir, "room-")
	if err != nil {
		return err
	}
	defer os.Remove(point)
	r := Room{Level: level, Point: point, User: user}
	if level == Fenced { // which it must be able to enter, as a build must
		if err := errors.Join(os.Chown(point, user.uid(), user.gid()), os.Chmod(point, 0o700)); err != nil {
			return err
		}
		r.Writable = []string{point}
	}
	s, err := r.Enter("")
	if err != nil {
		return err
	}
	defer s.Leave()
	null, err := os.OpenFile(os.DevNull, os.O_RDWR, 0)
	if err != nil {
		return err
	}
	defer null.Close()
	c := Command{File: "/bin/sh", Argv: []string{"sh", "-c", ":"}, Dir: "/", Output: null}
	if level == Fenced {
		c.Argv[2], c.Dir = ": >try && rm try", point
	}
	ended, err := s.Run(c)
	if err == nil && ended.Status != 0 {
		err = fmt.Errorf("%s cannot be worked in", dir)
	}
	return err
}

// passable says whether a user can reach a directory by its path, as it has to in a room that is
// not sealed.
func passable(level Level, dir string, user User) error {
	if level == Sealed || !user.Other() {
		return nil
	}
	for ; dir != "/" && dir != "."; dir = filepath.Dir(dir) {
		if info, err := os.Stat(dir); err != nil {
			return err
		} else if owner := info.Sys().(*syscall.Stat_t); info.Mode()&0o001 == 0 &&
			(info.Mode()&0o010 == 0 || int(owner.Gid) != user.GID) {
			return problem.New(problem.Host, dir, "the build's user cannot pass through %s (mode %04o)\n"+
				"  Builds of root run as users of their own. Sealed builds do not need the path; at this level,\n"+
				"  keep the root elsewhere, or let others pass: chmod o+x %s", dir, info.Mode().Perm(), dir)
		}
	}
	return nil
}

// attributes say how the server is started, with everything that can only be set at the start.
func (r Room) attributes() *syscall.SysProcAttr {
	a := &syscall.SysProcAttr{Setsid: true}
	switch {
	case r.Level == Sealed:
		a.Cloneflags = syscall.CLONE_NEWUSER | syscall.CLONE_NEWNS | syscall.CLONE_NEWPID |
			syscall.CLONE_NEWIPC | syscall.CLONE_NEWUTS
		if !r.Network {
			a.Cloneflags |= syscall.CLONE_NEWNET
		}
		if r.User.Other() {
			// Root assembles the room as itself, because only root can open everything that belongs
			// there, and then becomes the builder.
			a.UidMappings = []syscall.SysProcIDMap{{ContainerID: 0, HostID: 0, Size: 1},
				{ContainerID: builder, HostID: r.User.UID, Size: 1}}
			a.GidMappings = []syscall.SysProcIDMap{{ContainerID: 0, HostID: 0, Size: 1},
				{ContainerID: builder, HostID: r.User.GID, Size: 1}}
			a.GidMappingsEnableSetgroups = true
			a.Credential = credential(builder)
		} else {
			a.UidMappings = []syscall.SysProcIDMap{{ContainerID: builder, HostID: os.Getuid(), Size: 1}}
			a.GidMappings = []syscall.SysProcIDMap{{ContainerID: builder, HostID: os.Getgid(), Size: 1}}
			// The creator of a namespace has all capabilities in it until it runs a program.
			a.AmbientCaps = []uintptr{unix.CAP_SYS_ADMIN, unix.CAP_SYS_CHROOT, unix.CAP_NET_ADMIN, unix.CAP_DAC_OVERRIDE,
				unix.CAP_SETPCAP}
		}
	case r.User.Other():
		a.Cloneflags = syscall.CLONE_NEWPID | syscall.CLONE_NEWIPC
		a.Credential = credential(r.User.GID)
	}
	return a
}

// credential is root with the group of the user that the process becomes as its only other one. That
// group is listed as after a login: some sources try out what programs do with such a list. A process
// sets its groups cheaply only while it has one thread.
func credential(gid int) *syscall.Credential {
	return &syscall.Credential{Groups: []uint32{uint32(gid)}}
}
