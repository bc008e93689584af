package sandbox

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"unsafe"

	"golang.org/x/sys/unix"
)

// A watched command is started through a third copy of the program, which asks the kernel to
// report every file that it, and everything it starts, opens for reading, and every program that
// they run (seccomp_unotify(2)). Each call is allowed unchanged: a watch sees everything and
// hides nothing. It needs no privileges.

// watchedName is the name of the third copy.
const watchedName = "fernladder: watched"

// A record says what was done with a file: a line has one of these words, a blank, and the
// absolute path.
const (
	Read = "read"
	Ran  = "ran"
)

// audit are the kernel's names for processors, by Go's.
var audit = map[string]uint32{
	"amd64": unix.AUDIT_ARCH_X86_64, "arm64": unix.AUDIT_ARCH_AARCH64, "riscv64": unix.AUDIT_ARCH_RISCV64,
	"ppc64le": unix.AUDIT_ARCH_PPC64LE, "s390x": unix.AUDIT_ARCH_S390X, "386": unix.AUDIT_ARCH_I386,
	"arm": unix.AUDIT_ARCH_ARM,
}

// A call is a watched system call: the indexes of its path and its flags among the arguments, -1
// for none.
type call struct {
	number      uint32
	path, flags int
}

var calls = slices.Concat(olderCalls, []call{{unix.SYS_EXECVE, 0, -1}, {unix.SYS_EXECVEAT, 1, -1},
	{unix.SYS_OPENAT, 1, 2}})

// filter is a program for the kernel (bpf(4), seccomp(2)) that reports calls, and calls with
// flags only if they open a file for reading. opens and owners say which calls.
func filter(opens, owners bool) []unix.SockFilter {
	const (
		number, arch, arguments = 0, 4, 16 // where they are in struct seccomp_data
		allow, tell             = unix.SECCOMP_RET_ALLOW, unix.SECCOMP_RET_USER_NOTIF
	)
	load := func(at uint32) unix.SockFilter {
		return unix.SockFilter{Code: unix.BPF_LD | unix.BPF_W | unix.BPF_ABS, K: at}
	}
	skipUnless := func(value uint32, skip uint8) unix.SockFilter {
		return unix.SockFilter{Code: unix.BPF_JMP | unix.BPF_JEQ | unix.BPF_K, K: value, Jf: skip}
	}
	end := func(with uint32) unix.SockFilter { return unix.SockFilter{Code: unix.BPF_RET | unix.BPF_K, K: with} }
	// Calls of other architectures are unknown, and allowed at once.
	program := []unix.SockFilter{load(arch), skipUnless(audit[runtime.GOARCH], 2), load(number),
		{Code: unix.BPF_JMP | unix.BPF_JA, K: 1}, end(allow)}
	if owners {
		for _, g := range gives {
			program = append(program, skipUnless(g.number, 1), end(tell))
		}
	}
	for _, c := range calls {
		if !opens {
			break
		}
		if c.flags < 0 {
			program = append(program, skipUnless(c.number, 1), end(tell))
			continue
		}
		program = append(program, skipUnless(c.number, 4),
			load(arguments+8*uint32(c.flags)), // its lower half, on little-endian machines
			unix.SockFilter{Code: unix.BPF_JMP | unix.BPF_JSET | unix.BPF_K,
				K: unix.O_ACCMODE | unix.O_DIRECTORY | unix.O_PATH, Jt: 1},
			end(tell), end(allow))
	}
	return append(program, end(allow))
}

// watched is the third copy's part: it asks to be watched, hands over the kernel's descriptor,
// and becomes the command. The server cannot do that itself: while it starts a command, it waits
// for the command's execve(2), which it would have to answer. Its arguments are the descriptor
// of the socket, what is watched, the program's file, and the program's own arguments.
func watched(args []string) error {
	if len(args) < 4 {
		return errors.New("a watched command without its arguments")
	}
	runtime.LockOSThread() // the filter is the thread's
	socket, err := strconv.Atoi(args[0])
	if err != nil {
		return err
	}
	listener, failed := listen(true, args[1] == "og")
	if failed != nil {
		return fmt.Errorf("the kernel does not let builds be watched: %w", failed)
	}
	if err := unix.Sendmsg(socket, []byte{1}, unix.UnixRights(listener), nil, unix.MSG_NOSIGNAL); err != nil {
		return err
	}
	unix.Close(listener)
	unix.Close(socket)
	return syscall.Exec(args[2], args[3:], os.Environ())
}

// listen has the calls of this thread, and of processes that it starts, reported to a descriptor.
func listen(opens, owners bool) (listener int, err error) {
	if err := unix.Prctl(unix.PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0); err != nil {
		return -1, err
	}
	code := filter(opens, owners)
	program := unix.SockFprog{Len: uint16(len(code)), Filter: &code[0]}
	// Waits that only a fatal signal ends exist from Linux 5.19 on.
	for _, flags := range []uintptr{unix.SECCOMP_FILTER_FLAG_NEW_LISTENER | unix.SECCOMP_FILTER_FLAG_WAIT_KILLABLE_RECV,
		unix.SECCOMP_FILTER_FLAG_NEW_LISTENER} {
		fd, _, failed := unix.RawSyscall(unix.SYS_SECCOMP, unix.SECCOMP_SET_MODE_FILTER, flags,
			uintptr(unsafe.Pointer(&program)))
		if failed == 0 {
			return int(fd), nil
		}
		err = failed
	}
	return -1, err
}

// What the kernel reports, and the answers to it (linux/seccomp.h).
type (
	notice struct {
		id         uint64
		pid, flags uint32
		number     int32
		arch       uint32
		at         uint64
		arguments  [6]uint64
	}
	reply struct {
		id    uint64
		value int64
		error int32
		flags uint32
	}
)

// A watch is a record of the files that commands have opened.
type watch struct {
	lock    sync.Mutex
	seen    map[string]bool // lines of the record
	size    int             // of them all
	done    chan error      // of a copy of the program
	owners  bool            // changes of owner are reported to this process
	placing atomic.Bool     // they are recorded
}

// newWatch continues an existing record, if there is one.
func newWatch(record *os.File) *watch {
	w := &watch{seen: map[string]bool{}}
	text, err := io.ReadAll(io.NewSectionReader(record, 0, LargestRecord))
	if err != nil {
		return w
	}
	for line := range strings.Lines(string(text)) {
		w.note(strings.TrimSuffix(line, "\n"))
	}
	return w
}

// LargestRecord is more than any build has written; the rest is dropped, because commands choose
// what they open and must not fill the memory.
const LargestRecord = 64 << 20

// note adds a line to the record.
func (w *watch) note(line string) {
	w.lock.Lock()
	defer w.lock.Unlock()
	if size := w.size + len(line) + 1; !w.seen[line] && size <= LargestRecord {
		w.seen[line], w.size = true, size
	}
}

// changes has changes of owner by commands reported to this process, whose thread starts them. A
// kernel that cannot do that refuses them instead.
func (w *watch) changes() {
	if w.owners {
		return
	}
	if listener, err := listen(false, true); err == nil {
		w.owners = true
		go w.follow(listener)
	}
}

// start starts a watched command.
func (w *watch) start(command *exec.Cmd, what string) error {
	ends, err := unix.Socketpair(unix.AF_UNIX, unix.SOCK_SEQPACKET|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return err
	}
	ours, theirs := ends[0], os.NewFile(uintptr(ends[1]), "watch")
	defer unix.Close(ours)
	command.ExtraFiles = append(slices.Clone(command.ExtraFiles), theirs)
	command.Args = slices.Concat([]string{watchedName, strconv.Itoa(2 + len(command.ExtraFiles)), what, command.Path},
		command.Args)
	command.Path = "/proc/self/exe"
	err = command.Start()
	theirs.Close()
	if err != nil {
		return err
	}
	rights := make([]byte, unix.CmsgSpace(4))
	_, n, _, _, err := unix.Recvmsg(ours, make([]byte, 1), rights, unix.MSG_CMSG_CLOEXEC)
	if err != nil || n == 0 {
		return nil // the copy reports the error itself, and ends
	}
	messages, err := unix.ParseSocketControlMessage(rights[:n])
	if err != nil || len(messages) == 0 {
		return errors.Join(errors.New("the watched command handed over nothing"), err)
	}
	fds, err := unix.ParseUnixRights(&messages[0])
	if err != nil {
		return err
	}
	w.done = make(chan error, 1)
	go func() { w.done <- w.follow(fds[0]) }()
	return nil
}

// follow answers everything that the kernel reports, until no process is left.
func (w *watch) follow(listener int) error {
	defer unix.Close(listener)
	var got notice
	var answer reply
	poll := []unix.PollFd{{Fd: int32(listener), Events: unix.POLLIN}}
	for {
		if _, err := unix.Poll(poll, -1); errors.Is(err, unix.EINTR) {
			continue
		} else if err != nil {
			return err
		}
		if poll[0].Revents&unix.POLLIN == 0 {
			return nil // the last has ended
		}
		got = notice{}
		_, _, failed := unix.Syscall(unix.SYS_IOCTL, uintptr(listener), unix.SECCOMP_IOCTL_NOTIF_RECV,
			uintptr(unsafe.Pointer(&got)))
		switch failed {
		case 0:
		case unix.ENOENT, unix.EINTR: // it was killed meanwhile
			continue
		default:
			return failed
		}
		answer = reply{id: got.id}
		if !w.placing.Load() || !w.takeGiven(&got) {
			w.take(&got)
			answer.flags = unix.SECCOMP_USER_NOTIF_FLAG_CONTINUE
		}
		unix.Syscall(unix.SYS_IOCTL, uintptr(listener), unix.SECCOMP_IOCTL_NOTIF_SEND, uintptr(unsafe.Pointer(&answer)))
	}
}

// take records a call. Relative paths are in the build's own files.
func (w *watch) take(got *notice) {
	i := slices.IndexFunc(calls, func(c call) bool { return c.number == uint32(got.number) })
	if i < 0 {
		return
	}
	path := textAt(int(got.pid), uintptr(got.arguments[calls[i].path]))
	if !filepath.IsAbs(path) || strings.Contains(path, "\n") {
		return
	}
	done := Read
	if calls[i].flags < 0 {
		done = Ran
	}
	w.note(done + " " + path)
}

// textAt reads a text from the memory of a process: at most as long as a path, across the end of
// one page into the next.
func textAt(pid int, at uintptr) string {
	const longest = 4096
	page := uintptr(os.Getpagesize())
	buffer := make([]byte, longest)
	first := min(page-at%page, longest)
	local := []unix.Iovec{{Base: &buffer[0], Len: uint64(longest)}}
	remote := []unix.RemoteIovec{{Base: at, Len: int(first)}}
	n, err := unix.ProcessVMReadv(pid, local, remote, 0)
	if err != nil {
		return ""
	}
	if !bytes.Contains(buffer[:n], []byte{0}) && first < longest {
		local[0] = unix.Iovec{Base: &buffer[n], Len: uint64(longest - n)}
		remote[0] = unix.RemoteIovec{Base: at + first, Len: longest - int(first)}
		more, err := unix.ProcessVMReadv(pid, local, remote, 0)
		if err != nil {
			return ""
		}
		n += more
	}
	text, _, ended := bytes.Cut(buffer[:n], []byte{0})
	if !ended {
		return ""
	}
	return string(text)
}

// write writes the record of all commands so far.
func (w *watch) write(record *os.File) error {
	if w.done != nil {
		if err := <-w.done; err != nil {
			return err
		}
		w.done = nil
	}
	w.lock.Lock()
	defer w.lock.Unlock()
	lines := make([]string, 0, len(w.seen))
	for line := range w.seen {
		lines = append(lines, line+"\n")
	}
	slices.Sort(lines)
	text := []byte(strings.Join(lines, ""))
	if _, err := record.WriteAt(text, 0); err != nil {
		return err
	}
	return record.Truncate(int64(len(text)))
}
