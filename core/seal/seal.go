// Package seal runs a command where it sees and changes only what it is given.
//
// There are three levels, of which the machine allows some:
//
//   - Sealed: namespaces for users, mounts, processes, network, host name and
//     IPC. The command sees the operating system read-only (/usr, /etc without
//     what not everybody may read, /sys), its own /tmp, /dev and /proc, no
//     network but a loopback of its own, and of the rest only what the room
//     says. It has no privileges, whoever starts it, and can gain none. What it
//     leaves running ends with it.
//   - Fenced: by Landlock, it writes only where the room says, and opens no TCP
//     connections. It sees everything.
//   - Open: nothing is kept from it.
//
// The program that uses the package has to call Main first thing in its main:
// sealed and fenced commands are started through a second copy of the program.
package seal

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
)

// Level is how far a command is kept apart.
type Level string

// The levels, the weakest first.
const (
	Open   Level = "open"
	Fenced Level = "fenced"
	Sealed Level = "sealed"
)

// Levels are all of them, the weakest first.
var Levels = []Level{Open, Fenced, Sealed}

// AtLeast tells whether a level is as strong as another, or stronger.
func (l Level) AtLeast(other Level) bool {
	return slices.Index(Levels, l) >= slices.Index(Levels, other)
}

// A Room says what a command sees and what it may change. Paths are absolute.
type Room struct {
	Level    Level
	Point    string   // an empty directory that a sealed room is put together on
	Visible  []string // what can be read in a sealed room, besides the system
	Writable []string // what can be changed
	Stands   Stand    // in a sealed room, a directory that is elsewhere outside
	Home     string   // of the user in a sealed room
	Watch    string   // a file for the record of what sessions in a sealed room open and run; "" for none
}

// A Stand is a directory that stands in, in a sealed room, for one at another
// path, which need not be there. It can be changed.
type Stand struct{ In, For string }

// name is what the second copy of the program is called. It is no path, so that
// nobody calls it by accident.
const name = "fernladder: room"

// order is what the second copy is told.
type order struct {
	Room
	Private []string // files and directories of /etc that not everybody may read
	File    string   // the program
	Argv    []string
	Dir     string
	Env     []string
	Fds     int // besides the three that every process has
}

// Command returns a command that runs in the room. The caller may set its
// output, and the attributes that it does not set itself. Files are the
// command's descriptors from 3 on. close has to be called once it has started,
// or could not be.
func (r Room) Command(file string, argv []string, dir string, env []string, files []*os.File) (command *exec.Cmd, close func(), err error) {
	if r.Level == Open || r.Level == "" {
		command = exec.Command(file)
		command.Args, command.Dir, command.Env, command.ExtraFiles = argv, dir, env, files
		command.SysProcAttr = &syscall.SysProcAttr{}
		return command, func() {}, nil
	}
	data, err := json.Marshal(order{r, private(), file, argv, dir, env, len(files)})
	if err != nil {
		return nil, nil, err
	}
	read, write, err := os.Pipe()
	if err != nil {
		return nil, nil, err
	}
	go func() {
		write.Write(data) // if it ends too soon, the copy says so
		write.Close()
	}()
	command = exec.Command("/proc/self/exe")
	command.Args = []string{name, strconv.Itoa(3 + len(files))}
	command.Env = []string{"GOMAXPROCS=1", "GOGC=off"} // it allocates next to nothing
	// The stage stays readable in /proc, by which leftovers are found.
	for _, pair := range env {
		if strings.HasPrefix(pair, "FL_STAGE=") {
			command.Env = append(command.Env, pair)
		}
	}
	command.ExtraFiles = append(slices.Clone(files), read)
	command.SysProcAttr = &syscall.SysProcAttr{}
	if r.Level == Sealed {
		command.SysProcAttr = sealedAttributes()
	}
	return command, func() { read.Close() }, nil
}

// sealedAttributes gives the second copy its namespaces.
func sealedAttributes() *syscall.SysProcAttr {
	return &syscall.SysProcAttr{
		Cloneflags: syscall.CLONE_NEWUSER | syscall.CLONE_NEWNS | syscall.CLONE_NEWPID |
			syscall.CLONE_NEWIPC | syscall.CLONE_NEWNET | syscall.CLONE_NEWUTS,
		UidMappings: []syscall.SysProcIDMap{{ContainerID: 0, HostID: os.Getuid(), Size: 1}},
		GidMappings: []syscall.SysProcIDMap{{ContainerID: 0, HostID: os.Getgid(), Size: 1}},
	}
}

// private lists what is in /etc and not for everybody. A command that root has
// started could read it, for its files belong to the same user.
var private = sync.OnceValue(func() []string {
	var found []string
	filepath.WalkDir("/etc", func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return nil // then the command cannot read it either
		}
		info, err := d.Info()
		switch {
		case err != nil || d.Type()&fs.ModeSymlink != 0:
		case d.IsDir() && info.Mode()&0o005 != 0o005:
			found = append(found, path)
			return fs.SkipDir
		case !d.IsDir() && info.Mode()&0o004 == 0:
			found = append(found, path)
		}
		return nil
	})
	return found
})

// failed is the status by which the second copy says that it could not make the
// room. What it says is on its stderr.
const failed = 123

// Strongest finds out which is the strongest level that the machine allows, by
// trying, in an empty directory below dir. why says what stands in the way of
// the levels above.
func Strongest(dir string) (level Level, why error) {
	for _, level := range []Level{Sealed, Fenced} {
		if err := try(level, dir); err == nil {
			return level, why
		} else if why == nil {
			why = err
		}
	}
	return Open, why
}

func try(level Level, dir string) error {
	point, err := os.MkdirTemp(dir, "room-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(point)
	command, done, err := Room{Level: level, Point: point}.Command("/bin/sh", []string{"sh", "-c", ":"}, "/", nil, nil)
	if err != nil {
		return err
	}
	defer done()
	out, err := command.CombinedOutput()
	if err != nil && len(out) > 0 {
		return errors.New(string(out))
	}
	return err
}

// Main runs the command of a room when this process was started for that, with
// these arguments, input and outputs, and then returns its status and true.
func Main(args []string, in, out, errOut *os.File) (status int, started bool) {
	if len(args) > 3 && args[0] == watchedName {
		err := watched(args[1:])
		fmt.Fprintln(errOut, err)
		return failed, true
	}
	if len(args) != 2 || args[0] != name {
		return 0, false
	}
	var err error
	if args[1] == "serve" {
		status, err = serve()
	} else {
		status, err = inRoom(args[1], in, out, errOut)
	}
	if err != nil {
		fmt.Fprintln(errOut, err)
		status = failed
	}
	return status, true
}

func inRoom(fd string, in, out, errOut *os.File) (int, error) {
	number, err := strconv.Atoi(fd)
	if err != nil {
		return 0, err
	}
	pipe := os.NewFile(uintptr(number), "order")
	data, err := io.ReadAll(pipe)
	pipe.Close()
	if err != nil {
		return 0, err
	}
	var o order
	if err := json.Unmarshal(data, &o); err != nil {
		return 0, err
	}
	if o.Level == Fenced {
		return 0, o.fenced()
	}
	return o.sealed(in, out, errOut)
}
