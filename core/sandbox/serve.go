package sandbox

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// server runs the commands of a room.
type server struct {
	socket  int
	alone   bool // it is the first process of the room, with which all others end
	lock    sync.Mutex
	running *os.Process
	watch   *watch
}

// ordered is an order with its files.
type ordered struct {
	order order
	files []*os.File
}

// serve is the second copy's part: it makes the room, drops all rights over the commands, then
// runs what it is told until no more orders come.
func serve() error {
	runtime.LockOSThread() // the following concerns threads as much as processes
	const socket = 3
	syscall.CloseOnExec(socket)
	s := &server{socket: socket, alone: os.Getpid() == 1}
	first, files, err := nextOrder(socket)
	for _, f := range files {
		f.Close()
	}
	if err == nil {
		if err := first.settle(); err != nil {
			s.answer(Ended{Failed: fmt.Sprintf("the %s room cannot be made: %v", first.Level, err)})
			return nil
		}
		if s.alone { // with another user, the kernel has forgotten to end it with the program
			unix.Prctl(unix.PR_SET_PDEATHSIG, uintptr(unix.SIGKILL), 0, 0, 0)
		}
		err = s.answer(Ended{})
	}
	signals := make(chan os.Signal, 4)
	signal.Notify(signals, syscall.SIGTERM, syscall.SIGINT, syscall.SIGHUP)
	go s.pass(signals)
	orders := make(chan ordered)
	go s.listen(orders)
	for err == nil {
		t, more := <-orders
		if !more {
			break
		}
		err = s.answer(s.run(t.order, t.files))
		for _, f := range t.files {
			f.Close()
		}
	}
	s.endOthers()
	return err
}

// listen passes on orders. When no more come, it kills what is running, repeatedly, until the
// server has seen it end.
func (s *server) listen(orders chan<- ordered) {
	for {
		order, files, err := nextOrder(s.socket)
		if err != nil {
			break
		}
		orders <- ordered{order, files}
	}
	close(orders)
	for {
		s.endOthers()
		const pause = 10 * time.Millisecond
		time.Sleep(pause)
	}
}

// settle makes the room around this process, and makes the process one of the commands that it
// will run.
func (o order) settle() error {
	ownKeyring()
	if err := o.Limits.apply(o.Others); err != nil {
		return fmt.Errorf("limits: %w", err)
	}
	user := o.User
	if o.Level == Sealed {
		if err := o.mountRoom(); err != nil {
			return err
		}
		user = User{builder, builder}
	}
	if o.User.Other() {
		if err := become(user.UID, user.GID); err != nil {
			return fmt.Errorf("user %d: %w", user.UID, err)
		}
	}
	// A process as strong as the commands has only its files to hide from them.
	if err := unix.Prctl(unix.PR_SET_DUMPABLE, 0, 0, 0, 0); err != nil {
		return err
	}
	if err := unix.Prctl(unix.PR_SET_CHILD_SUBREAPER, 1, 0, 0, 0); err != nil {
		return err
	}
	if o.Level == Open && !o.User.Other() {
		return nil
	}
	if err := unprivileged(); err != nil {
		return fmt.Errorf("capabilities: %w", err)
	}
	if o.Level == Fenced {
		if err := o.fence(); err != nil {
			return err
		}
	}
	if o.Level != Open {
		if err := restrict(o.Level); err != nil {
			return fmt.Errorf("the kernel has no filter of system calls: %w", err)
		}
	}
	return nil
}

func (s *server) answer(e Ended) error {
	data, err := json.Marshal(e)
	if err != nil {
		return err
	}
	return unix.Sendmsg(s.socket, data, nil, nil, unix.MSG_NOSIGNAL)
}

// pass passes signals on to the running command and its group.
func (s *server) pass(signals chan os.Signal) {
	for signal := range signals {
		s.lock.Lock()
		if s.running != nil {
			syscall.Kill(-s.running.Pid, signal.(syscall.Signal))
		}
		s.lock.Unlock()
	}
}

// run runs a command to its end.
func (s *server) run(o order, files []*os.File) Ended {
	if len(files) == 0 {
		return Ended{Failed: "an order without an output"}
	}
	output, rest := files[0], files[1:]
	var record *os.File
	if o.Watched || o.Placing {
		record, rest = rest[len(rest)-1], rest[:len(rest)-1]
		if s.watch == nil {
			s.watch = newWatch(record)
		}
	}
	command := exec.Command(o.File)
	command.Args, command.Dir, command.Env = o.Argv, o.Dir, o.Env
	command.Stdout, command.Stderr, command.ExtraFiles = output, output, rest
	command.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	if o.Terminal {
		command.Stdin, command.SysProcAttr.Setctty = output, true
	}
	if !s.alone {
		command.SysProcAttr.Pdeathsig = syscall.SIGKILL
	}
	start := command.Start
	switch {
	case o.Watched:
		start = func() error { return s.watch.start(command, o.what()) }
	case o.Placing:
		s.watch.changes()
	}
	if s.watch != nil {
		s.watch.placing.Store(o.Placing)
	}
	if err := start(); err != nil {
		return Ended{Failed: err.Error()}
	}
	s.lock.Lock()
	s.running = command.Process
	s.lock.Unlock()
	ended := s.waitAll(command.Process.Pid)
	s.lock.Lock()
	s.running = nil
	s.lock.Unlock()
	if record != nil {
		if err := s.watch.write(record); err != nil {
			ended.Failed = fmt.Sprintf("what it opened could not be recorded: %v", err)
		}
	}
	return ended
}

// what is the part of a command that is watched.
func (o order) what() string {
	if o.Placing {
		return "og"
	}
	return "o"
}

// nextOrder receives an order and its files.
func nextOrder(socket int) (o order, files []*os.File, err error) {
	buffer, rights := make([]byte, 1), make([]byte, unix.CmsgSpace(16*4))
	var n, oobn int
	for {
		n, oobn, _, _, err = unix.Recvmsg(socket, buffer, rights, unix.MSG_CMSG_CLOEXEC)
		if !errors.Is(err, unix.EINTR) {
			break
		}
	}
	if err != nil {
		return o, nil, err
	}
	if n == 0 {
		return o, nil, io.EOF
	}
	messages, err := unix.ParseSocketControlMessage(rights[:oobn])
	if err != nil || len(messages) == 0 {
		return o, nil, errors.Join(errors.New("an order without its text"), err)
	}
	fds, err := unix.ParseUnixRights(&messages[0])
	if err != nil {
		return o, nil, err
	}
	for _, fd := range fds {
		files = append(files, os.NewFile(uintptr(fd), "inherited"))
	}
	text := files[0]
	defer text.Close()
	if _, err := text.Seek(0, io.SeekStart); err != nil {
		return o, nil, err
	}
	return o, files[1:], json.NewDecoder(text).Decode(&o)
}

// waitAll waits for a command, kills everything that it left running, and says how the command
// ended and what all of it used.
func (s *server) waitAll(pid int) (ended Ended) {
	alive := true
	for {
		var status syscall.WaitStatus
		var used syscall.Rusage
		got, err := syscall.Wait4(-1, &status, 0, &used)
		if errors.Is(err, syscall.EINTR) {
			continue
		}
		if err != nil { // no process is left
			return ended
		}
		ended.CPU += time.Duration(used.Utime.Nano() + used.Stime.Nano())
		ended.Memory = max(ended.Memory, used.Maxrss<<10)
		if got == pid && alive {
			alive = false
			if ended.Status = status.ExitStatus(); status.Signaled() {
				ended.Status = 128 + int(status.Signal())
			}
		}
		if !alive {
			s.endOthers()
		}
	}
}

// endOthers kills all processes of the room but this one. If this is not the first process of a
// namespace, those are its descendants: it adopts the orphans among them.
func (s *server) endOthers() {
	if s.alone {
		syscall.Kill(-1, syscall.SIGKILL)
		return
	}
	const tries, pause = 500, 5 * time.Millisecond // they may go on starting others
	for range tries {
		living := descendants(os.Getpid())
		if len(living) == 0 {
			return
		}
		for _, pid := range living {
			syscall.Kill(pid, syscall.SIGKILL)
		}
		time.Sleep(pause)
	}
}

// descendants lists the living descendants of a process.
func descendants(of int) (found []int) {
	children, dead := map[int][]int{}, map[int]bool{}
	files, err := filepath.Glob("/proc/[0-9]*/stat")
	if err != nil {
		return nil
	}
	for _, file := range files {
		data, err := os.ReadFile(file)
		if err != nil {
			continue
		}
		// PID (NAME) STATE PARENT …, and a name can contain anything (proc(5)).
		after := strings.Fields(string(data[strings.LastIndexByte(string(data), ')')+1:]))
		pid, err1 := strconv.Atoi(filepath.Base(filepath.Dir(file)))
		parent, err2 := strconv.Atoi(at(after, 1))
		if err1 == nil && err2 == nil {
			children[parent] = append(children[parent], pid)
			dead[pid] = after[0] == "Z" || after[0] == "X"
		}
	}
	for queue := children[of]; len(queue) > 0; queue = queue[1:] {
		if !dead[queue[0]] {
			found = append(found, queue[0])
		}
		queue = append(queue, children[queue[0]]...)
	}
	return found
}
