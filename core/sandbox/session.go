package sandbox

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"runtime"
	"strings"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"fernladder/core/problem"
)

// name is the name of the second copy of the program. It is no path, so that it is not run by
// accident.
const name = "fernladder: room"

// Mark is the variable by which the processes of a room are found in /proc.
const Mark = "FL_STAGE"

// A Session is a room that runs one command after another. Making a room takes longer than many
// commands.
type Session struct {
	process *os.Process
	socket  *os.File // for sending commands to the server, and receiving results
	leave   chan struct{}
	left    chan struct{} // closed when the server has ended
	once    sync.Once
	alone   bool // all processes in the room end with the server
}

// A Command runs in a room, to its end. Files are its descriptors from 3 on.
type Command struct {
	File     string // the program
	Argv     []string
	Dir      string
	Env      []string
	Output   *os.File // stdout and stderr
	Files    []*os.File
	Terminal *os.File // stdin, stdout, stderr and the controlling terminal instead; or nil
	Record   *os.File // what is recorded of it in a sealed room is added to it; or nil
	Watched  bool     // what it opens and runs
	Placing  bool     // changes of owner, which are reported as done, and are not made
}

// Ended is how a command in a session ended.
type Ended struct {
	Status int           `json:"status"` // 128 and the signal, for one that a signal has ended
	CPU    time.Duration `json:"cpu"`    // that the command and all it has started took of processors
	Memory int64         `json:"memory"` // bytes of its largest process
	Failed string        `json:"failed"` // why it could not be run, or ""
}

// order is a message to the server: first the room, then commands.
type order struct {
	Room
	Others   int // processes that the user has besides
	File     string
	Argv     []string
	Dir      string
	Env      []string
	Terminal bool
	Watched  bool
	Placing  bool
}

// Enter makes a room. What is still running in it is killed when it is left, or when this
// program ends, however it ends. mark identifies its processes.
func (r Room) Enter(mark string) (*Session, error) {
	if r.Level == "" {
		r.Level = Open
	}
	s, err := r.start(mark, r.attributes())
	if errors.Is(err, syscall.EPERM) && r.Level != Sealed { // not every root may make namespaces
		attributes := r.attributes()
		attributes.Cloneflags = 0
		s, err = r.start(mark, attributes)
	}
	if err != nil {
		return nil, err
	}
	o := order{Room: r}
	if r.Level != Sealed && !r.User.Other() {
		o.Others = threadsOf(os.Getuid())
	}
	data, err := json.Marshal(o)
	if err == nil {
		err = s.send(data)
	}
	// Making a room takes some milliseconds; this does not wait for one that never comes.
	var ready Ended
	if err == nil {
		err = unix.SetsockoptTimeval(int(s.socket.Fd()), unix.SOL_SOCKET, unix.SO_RCVTIMEO, &unix.Timeval{Sec: 60})
	}
	if err == nil {
		err = s.receive(&ready)
	}
	if errors.Is(err, unix.EAGAIN) {
		err = errors.New("it was not ready within a minute")
	}
	if err == nil {
		err = unix.SetsockoptTimeval(int(s.socket.Fd()), unix.SOL_SOCKET, unix.SO_RCVTIMEO, &unix.Timeval{})
	}
	if err == nil && ready.Failed != "" {
		if err = errors.New(ready.Failed); strings.Contains(ready.Failed, notBare) {
			err = problem.New(problem.Host, "", "what is not declared cannot be hidden: %s", ready.Failed).Coded(NotBare)
		}
	}
	if err != nil {
		s.Leave()
		return nil, err
	}
	return s, nil
}

// start starts the server.
func (r Room) start(mark string, attributes *syscall.SysProcAttr) (*Session, error) {
	ends, err := unix.Socketpair(unix.AF_UNIX, unix.SOCK_SEQPACKET|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return nil, err
	}
	theirs := os.NewFile(uintptr(ends[1]), "room")
	defer theirs.Close()
	command := exec.Command("/proc/self/exe")
	command.Args = []string{name}
	command.Env = []string{"GOMAXPROCS=1", "GOGC=off", Mark + "=" + mark} // it allocates next to nothing
	command.ExtraFiles = []*os.File{theirs}
	command.SysProcAttr = attributes
	s := &Session{socket: os.NewFile(uintptr(ends[0]), "room"), leave: make(chan struct{}), left: make(chan struct{})}
	if s.alone = attributes.Cloneflags&syscall.CLONE_NEWPID != 0; s.alone {
		attributes.Pdeathsig = syscall.SIGKILL
	}
	started := make(chan error)
	// The kernel kills the server together with the thread that started it.
	go func() {
		runtime.LockOSThread()
		defer runtime.UnlockOSThread()
		err := command.Start()
		s.process = command.Process
		started <- err
		if err == nil {
			<-s.leave
			command.Wait()
			close(s.left)
		}
	}()
	if err := <-started; err != nil {
		return nil, errors.Join(err, s.socket.Close())
	}
	return s, nil
}

// Leave ends the room and everything in it.
func (s *Session) Leave() {
	s.once.Do(func() {
		if s.alone {
			syscall.Kill(-s.process.Pid, syscall.SIGKILL) // not reaped yet, so the number is its own
			close(s.leave)
			<-s.left
			s.socket.Close()
			return
		}
		// The server kills everything it started when orders end. Closing the socket would not wake up
		// its reader.
		unix.Shutdown(int(s.socket.Fd()), unix.SHUT_RDWR)
		defer s.socket.Close()
		close(s.leave)
		const grace = 5 * time.Second
		select {
		case <-s.left:
		case <-time.After(grace):
			s.process.Kill()
			<-s.left
		}
	})
}

// Run runs a command to its end. What it left running ends with it.
func (s *Session) Run(c Command) (Ended, error) {
	o := order{File: c.File, Argv: c.Argv, Dir: c.Dir, Env: c.Env, Terminal: c.Terminal != nil, Watched: c.Watched,
		Placing: c.Placing}
	data, err := json.Marshal(o)
	if err != nil {
		return Ended{}, err
	}
	output := c.Output
	if c.Terminal != nil {
		output = c.Terminal
	}
	files := append([]*os.File{output}, c.Files...)
	if c.Watched || c.Placing {
		files = append(files, c.Record)
	}
	if err := s.send(data, files...); err != nil {
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

// Signal sends a signal to the running command.
func (s *Session) Signal(signal syscall.Signal) { s.process.Signal(signal) }

// send sends an order, which can be larger than a message, in a memory file.
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

// receive reads what the server sends, which is untrusted: a command may have taken over the
// server.
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
		if err := json.Unmarshal(buffer[:n], into); err != nil {
			return fmt.Errorf("the answer of the room cannot be read: %w", err)
		}
		into.CPU, into.Memory = max(into.CPU, 0), max(into.Memory, 0)
		return nil
	}
}
