package sandbox

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"fernladder/core/filelock"
	"fernladder/core/problem"
	"fernladder/core/safefs"
	"fernladder/core/subprocess"
)

// A User is the user of the machine that commands run as. The zero value is the one who runs the
// program.
type User struct{ UID, GID int }

// Other reports whether it is another user than the one who runs the program.
func (u User) Other() bool { return u != User{} }

func (u User) uid() int {
	if u.Other() {
		return u.UID
	}
	return os.Getuid()
}

func (u User) gid() int {
	if u.Other() {
		return u.GID
	}
	return os.Getgid()
}

// Users are users of the machine without accounts, each with a group of the same number. Root
// runs each build as one of them, different from those that run at the same time, so that no
// build can affect others or the machine.
//
// Locks on files, in a directory that all programs run by root share, show which are in use.
// Each file names the directory that its user could enter last, the door to a build's files: it
// is shut when the build ends, and at the latest when the user is lent again. So no build
// reaches what an earlier one with the same number left.
type Users struct {
	First, Number int
	Locks         string // the directory; "" is /run/fernladder
	Common        string // where roots are shared between machines, a directory with the locks of all of them; or ""
}

// DefaultUsers are in a range of numbers that no distribution and no standard assigns: above
// those for containers, below those with a special meaning.
var DefaultUsers = Users{First: 1_900_000_000, Number: 256}

// String returns FIRST-LAST.
func (u Users) String() string { return fmt.Sprintf("%d-%d", u.First, u.First+u.Number-1) }

// ParseUsers reads FIRST-LAST; none means no users: root's builds run as root.
func ParseUsers(text string) (Users, error) {
	if text == "none" {
		return Users{}, nil
	}
	first, last, found := strings.Cut(text, "-")
	from, err1 := strconv.Atoi(strings.TrimSpace(first))
	to, err2 := strconv.Atoi(strings.TrimSpace(last))
	const most = 1<<32 - 2
	switch {
	case !found || err1 != nil || err2 != nil:
		return Users{}, fmt.Errorf("%q is not a range of users; write FIRST-LAST, as in %s, or none", text, DefaultUsers)
	case from < 1 || to > most || to < from || to-from >= 1<<16:
		return Users{}, fmt.Errorf("users %q: the range is from 1 to %d, with at most 65536 users", text, most)
	}
	return Users{First: from, Number: to - from + 1}, nil
}

// Check checks that no account uses these users, and that they are available. Its error has the
// code NoUsers.
func (u Users) Check() error {
	if u.Number == 0 {
		return nil
	}
	fail := func(format string, args ...any) error { return usersProblem(u, fmt.Sprintf(format, args...)) }
	if lacks := lacking(unix.CAP_CHOWN, unix.CAP_KILL, unix.CAP_SETGID, unix.CAP_SETUID); lacks != "" {
		return fail("root lacks the capabilities %s here, which it needs to switch users", lacks)
	}
	for _, file := range []string{"/proc/self/uid_map", "/proc/self/gid_map"} {
		if !u.mapped(file) {
			return fail("this container has no such users (%s)", file)
		}
	}
	for _, file := range []string{"/etc/passwd", "/etc/group"} {
		err := lines(file, func(fields []string) error {
			if id, err := strconv.Atoi(at(fields, 2)); err == nil && u.Has(id) {
				return fail("%d is %s, by %s", id, fields[0], file)
			}
			return nil
		})
		if err != nil {
			return err
		}
	}
	for _, file := range []string{"/etc/subuid", "/etc/subgid"} {
		err := lines(file, func(fields []string) error {
			first, err1 := strconv.Atoi(at(fields, 1))
			number, err2 := strconv.Atoi(at(fields, 2))
			if err1 == nil && err2 == nil && first < u.First+u.Number && u.First < first+number {
				return fail("%d-%d are for the containers of %s, by %s", first, first+number-1, fields[0], file)
			}
			return nil
		})
		if err != nil {
			return err
		}
	}
	// What else the machine knows about the first of them.
	if getent, err := exec.LookPath("getent"); err == nil {
		out, _, err := subprocess.Command{Argv: []string{getent, "passwd", strconv.Itoa(u.First)},
			Longest: 5 * time.Second}.Text(context.Background())
		if err == nil && out != "" {
			name, _, _ := strings.Cut(out, ":")
			return fail("%d is %s", u.First, name)
		}
	}
	return nil
}

// Has reports whether a user is one of them.
func (u Users) Has(id int) bool { return id >= u.First && id < u.First+u.Number }

// mapped reports whether all of them are in a map of a user namespace (user_namespaces(7)).
func (u Users) mapped(file string) bool {
	data, err := os.ReadFile(file)
	if err != nil {
		return true // a kernel without such namespaces
	}
	for line := range strings.Lines(string(data)) {
		f := strings.Fields(line)
		inside, err1 := strconv.Atoi(at(f, 0))
		number, err2 := strconv.Atoi(at(f, 2))
		if err1 == nil && err2 == nil && inside <= u.First && u.First+u.Number <= inside+number {
			return true
		}
	}
	return false
}

func at(fields []string, i int) string {
	if i < len(fields) {
		return fields[i]
	}
	return ""
}

func lines(file string, line func(fields []string) error) error {
	f, err := os.Open(file)
	if err != nil {
		return nil // then nothing is listed in it
	}
	defer f.Close()
	for s := bufio.NewScanner(f); s.Scan(); {
		if err := line(strings.Split(s.Text(), ":")); err != nil {
			return err
		}
	}
	return nil
}

// lacking names those of some capabilities that this process lacks (capabilities(7)).
func lacking(capabilities ...int) string {
	names := map[int]string{unix.CAP_CHOWN: "CHOWN", unix.CAP_KILL: "KILL", unix.CAP_SETGID: "SETGID",
		unix.CAP_SETUID: "SETUID"}
	header := unix.CapUserHeader{Version: unix.LINUX_CAPABILITY_VERSION_3}
	var has [2]unix.CapUserData
	if unix.Capget(&header, &has[0]) != nil {
		return ""
	}
	var lacks []string
	for _, c := range capabilities {
		if has[0].Effective&(1<<c) == 0 {
			lacks = append(lacks, names[c])
		}
	}
	return strings.Join(lacks, ", ")
}

// Lend lends a user that nothing runs as, the preferred one if it is free, until done is called,
// which kills what still runs as that user. door is a directory that the caller opens to the
// user's group: done shuts it.
func (u Users) Lend(ctx context.Context, prefer User, door string) (user User, done func(), err error) {
	if os.Geteuid() != 0 || u.Number == 0 {
		return User{}, func() {}, nil
	}
	dir := u.Locks
	if dir == "" {
		dir = "/run/fernladder"
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return User{}, nil, u.unavailable(err)
	}
	ids := make([]int, 0, u.Number+1)
	if u.Has(prefer.UID) {
		ids = append(ids, prefer.UID)
	}
	for i := range u.Number {
		ids = append(ids, u.First+i)
	}
	for {
		for _, id := range ids {
			unlock, err := u.lock(dir, id)
			if errors.Is(err, filelock.ErrHeld) {
				continue
			}
			if err != nil {
				return User{}, nil, u.unavailable(err)
			}
			user := User{id, id}
			if user.running() {
				// An account uses this number after all, or a process of an earlier build hides: try others.
				unlock()
				continue
			}
			file := filepath.Join(dir, strconv.Itoa(id))
			if err := changeDoor(file, door, id); err != nil {
				unlock()
				return User{}, nil, u.unavailable(err)
			}
			return user, func() {
				user.end()
				shut(door, id)
				os.WriteFile(file, nil, 0o600) // a later user of the door is another's concern
				unlock()
			}, nil
		}
		const pause = 100 * time.Millisecond // all are in use
		select {
		case <-time.After(pause):
		case <-ctx.Done():
			return User{}, nil, ctx.Err()
		}
	}
}

// unavailable returns a full disk as it is, and any other error as one of the users.
func (u Users) unavailable(err error) error {
	if errors.Is(err, unix.ENOSPC) || errors.Is(err, unix.EDQUOT) {
		return err
	}
	return usersProblem(u, err.Error())
}

// lock takes the locks of a user.
func (u Users) lock(dir string, id int) (unlock func(), err error) {
	here, err := filelock.Now(filepath.Join(dir, strconv.Itoa(id)))
	if err != nil || u.Common == "" {
		return here, err
	}
	common, err := filelock.Now(filepath.Join(u.Common, "user-"+strconv.Itoa(id)))
	if err != nil {
		here()
		return nil, err
	}
	return func() { common(); here() }, nil
}

// changeDoor shuts the door that a user's file names, because the program that opened it may
// have been killed, and records the next one.
func changeDoor(file, door string, group int) error {
	before, err := safefs.ReadFile(file, unix.PathMax)
	if err != nil {
		return err
	}
	if string(before) == door {
		return nil
	}
	if err := shut(string(before), group); err != nil {
		return err
	}
	return os.WriteFile(file, []byte(door), 0o600)
}

// shut lets only the owner into a directory, if it exists and is open to the group: another
// program may have opened it to another group since.
func shut(dir string, group int) error {
	d, err := safefs.OpenDir(dir)
	if dir == "" || safefs.Gone(err) {
		return nil
	}
	if err != nil {
		return err
	}
	defer d.Close()
	if info, err := d.Stat(); err != nil || info.GID != group {
		return err
	}
	return d.Chmod(0o700)
}

// end kills everything that runs as the user. The kernel does so in one step for a process of
// that user.
func (u User) end() error {
	if !u.running() {
		return nil
	}
	command := exec.Command("/proc/self/exe")
	command.Args = []string{endName}
	command.Env = []string{"GOMAXPROCS=1"}
	command.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uint32(u.UID), Gid: uint32(u.GID)},
		Setsid: true}
	if err := command.Run(); err != nil {
		return fmt.Errorf("processes of user %d cannot be ended: %w", u.UID, err)
	}
	return nil
}

// running reports whether anything runs as the user.
func (u User) running() bool {
	pids, err := processesOf(u.UID)
	return err != nil || len(pids) > 0
}

// processesOf lists the processes that run as a user, by their names in /proc.
func processesOf(uid int) (pids []string, err error) {
	processes, err := os.ReadDir("/proc")
	if err != nil {
		return nil, err
	}
	for _, p := range processes {
		if _, err := strconv.Atoi(p.Name()); err != nil {
			continue
		}
		if info, err := p.Info(); err == nil && int(info.Sys().(*syscall.Stat_t).Uid) == uid {
			pids = append(pids, p.Name())
		}
	}
	return pids, nil
}

// endName is the name of the copy of the program that kills everything of its own user.
const endName = "fernladder: end"

func endEverything() error {
	if os.Getuid() == 0 {
		return errors.New("this is not for root")
	}
	if err := syscall.Kill(-1, syscall.SIGKILL); err != nil && !errors.Is(err, syscall.ESRCH) {
		return err
	}
	return nil
}

// noUsers is the problem of builds for which there are no users.
const noUsers problem.Code = "no_build_users"

func usersProblem(u Users, what string) error {
	return problem.New(problem.Host, "build_users",
		"builds cannot run as the users %s: %s\n  Name others in fernladder.toml: build_users = \"FIRST-LAST\"; or "+
			"\"none\", in a container whose root is not the machine's.", u, what).Coded(noUsers)
}
