package seal

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"os/signal"
	"runtime"
	"strings"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// A Session is a sealed room in which one command after another runs. To make a
// room takes longer than many commands.
type Session struct {
	process *os.Process
	socket  *os.File // by which the room is told what to run, and tells what came of it
	leave   chan struct{}
	left    chan error
	once    sync.Once
}

// Ended is how a command in a session ended.
type Ended struct {
	Status int           `json:"status"` // 128 and the signal, for one that a signal has ended
	CPU    time.Duration `json:"cpu"`    // that the command and all it has started took of processors
	Memory int64         `json:"memory"` // bytes of its largest process
	Failed string        `json:"failed"` // why it could not be run, or ""
}

// Enter makes a sealed room. What it leaves running when it is left, or when
// this program ends, is ended.
func (r Room) Enter(stage string) (*Session, error) {
	ends, err := unix.Socketpair(unix.AF_UNIX, unix.SOCK_SEQPACKET|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return nil, err
	}
	theirs := os.NewFile(uintptr(ends[1]), "room")
	defer theirs.Close()
	command := exec.Command("/proc/self/exe")
	command.Args = []string{name, "serve"}
	command.Env = []string{"GOMAXPROCS=1", "GOGC=off", "FL_STAGE=" + stage}
	command.ExtraFiles = []*os.File{theirs}
	command.SysProcAttr = sealedAttributes()
	command.SysProcAttr.Setsid, command.SysProcAttr.Pdeathsig = true, syscall.SIGKILL
	s := &Session{socket: os.NewFile(uintptr(ends[0]), "room"), leave: make(chan struct{}), left: make(chan error, 1)}
	started := make(chan error)
	// The kernel ends the room together with the thread that has started it.
	go func() {
		runtime.LockOSThread()
		defer runtime.UnlockOSThread()
		err := command.Start()
		s.process = command.Process
		started <- err
		if err == nil {
			<-s.leave
			s.left <- command.Wait()
		}
	}()
	if err := <-started; err != nil {
		return nil, errors.Join(err, s.socket.Close())
	}
	data, err := json.Marshal(order{Room: r, Private: private()})
	if err == nil {
		err = s.send(data)
	}
	var ready Ended
	if err == nil {
		err = s.receive(&ready)
	}
	if err == nil && ready.Failed != "" {
		err = errors.New(ready.Failed)
	}
	if err != nil {
		return nil, errors.Join(err, s.Leave())
	}
	return s, nil
}

// Leave ends the room and everything in it.
func (s *Session) Leave() error {
	s.once.Do(func() {
		syscall.Kill(-s.process.Pid, syscall.SIGKILL) // not reaped yet, so the number is its own
		close(s.leave)
		<-s.left
		s.socket.Close()
	})
	return nil
}

// Run runs a command to its end. Files are its descriptors from 3 on; it has no
// input. What it leaves running ends with it.
func (s *Session) Run(file string, argv []string, dir string, env []string, output *os.File, files []*os.File) (Ended, error) {
	data, err := json.Marshal(order{File: file, Argv: argv, Dir: dir, Env: env, Fds: len(files)})
	if err != nil {
		return Ended{}, err
	}
	if err := s.send(data, append([]*os.File{output}, files...)...); err != nil {
		return Ended{}, err
	}
	var ended Ended
	if err := s.receive(&ended); err != nil {
		return Ended{}, err
	}
	if ended.Failed != "" {
		return ended, errors.New(ended.Failed)
	}
	return ended, nil
}

// Signal sends a signal to the command that is running.
func (s *Session) Signal(signal syscall.Signal) { s.process.Signal(signal) }

// send sends an order, which can be larger than a message, in a file of memory.
func (s *Session) send(data []byte, files ...*os.File) error {
	fd, err := unix.MemfdCreate("order", unix.MFD_CLOEXEC)
	if err != nil {
		return err
	}
	memory := os.NewFile(uintptr(fd), "order")
	defer memory.Close()
	if _, err := memory.WriteAt(data, 0); err != nil {
		return err
	}
	fds := []int{fd}
	for _, f := range files {
		fds = append(fds, int(f.Fd()))
	}
	return unix.Sendmsg(int(s.socket.Fd()), []byte{1}, unix.UnixRights(fds...), nil, unix.MSG_NOSIGNAL)
}

func (s *Session) receive(into *Ended) error {
	buffer := make([]byte, 8<<10)
	for {
		n, err := unix.Read(int(s.socket.Fd()), buffer)
		switch {
		case errors.Is(err, unix.EINTR):
			continue
		case err != nil:
			return err
		case n == 0:
			return errors.New("the room has ended")
		}
		return json.Unmarshal(buffer[:n], into)
	}
}

// serve is the second copy's part: it makes the room, then runs what it is told
// until there is nobody to tell it.
func serve() (int, error) {
	runtime.LockOSThread() // what follows is about threads as much as processes
	const socket = 3
	syscall.CloseOnExec(socket)
	answer := func(e Ended) error {
		data, err := json.Marshal(e)
		if err != nil {
			return err
		}
		return unix.Sendmsg(socket, data, nil, nil, unix.MSG_NOSIGNAL)
	}
	o, _, err := nextOrder(socket)
	if err == nil {
		if err = o.furnish(); err == nil {
			err = unix.Prctl(unix.PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0)
		}
		if err != nil {
			answer(Ended{Failed: fmt.Sprintf("the sealed room cannot be made: %v", err)})
			return failed, nil
		}
		err = answer(Ended{})
	}
	signals := make(chan os.Signal, 4)
	signal.Notify(signals, syscall.SIGTERM, syscall.SIGINT, syscall.SIGHUP)
	var lock sync.Mutex
	var running *os.Process
	go func() {
		for s := range signals {
			lock.Lock()
			if running != nil {
				syscall.Kill(-running.Pid, s.(syscall.Signal))
			}
			lock.Unlock()
		}
	}()
	record, watch := o.Watch, newWatch(o.Watch)
	for err == nil {
		var files []*os.File
		if o, files, err = nextOrder(socket); err != nil {
			break
		}
		command := o.command(nil, files[0], files[0], files[1:])
		command.SysProcAttr.Setsid = true
		start := command.Start
		if record != "" {
			start = func() error { return watch.start(command) }
		}
		if startErr := start(); startErr != nil {
			err = answer(Ended{Failed: startErr.Error()})
		} else {
			lock.Lock()
			running = command.Process
			lock.Unlock()
			ended := waitAll(command.Process.Pid)
			lock.Lock()
			running = nil
			lock.Unlock()
			if record != "" {
				if err := watch.write(record); err != nil {
					ended.Failed = fmt.Sprintf("what it opened could not be recorded: %v", err)
				}
			}
			err = answer(ended)
		}
		for _, f := range files {
			f.Close()
		}
	}
	if errors.Is(err, io.EOF) {
		err = nil
	}
	return 0, err
}

// nextOrder receives an order and the files that come with it.
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
	var data strings.Builder
	if _, err := io.Copy(&data, text); err != nil {
		return o, nil, err
	}
	return o, files[1:], json.Unmarshal([]byte(data.String()), &o)
}

// waitAll waits for a command, ends everything else in the room, and says how
// the command ended and what all of it took.
func waitAll(pid int) (ended Ended) {
	alive := true
	for {
		var status syscall.WaitStatus
		var used syscall.Rusage
		got, err := syscall.Wait4(-1, &status, 0, &used)
		if errors.Is(err, syscall.EINTR) {
			continue
		}
		if err != nil { // nobody is left
			return ended
		}
		ended.CPU += time.Duration(used.Utime.Nano() + used.Stime.Nano())
		ended.Memory = max(ended.Memory, used.Maxrss<<10)
		if got == pid && alive {
			alive = false
			if ended.Status = status.ExitStatus(); status.Signaled() {
				ended.Status = 128 + int(status.Signal())
			}
			syscall.Kill(-1, syscall.SIGKILL) // all but this process, which is the first of its namespace
		}
	}
}
