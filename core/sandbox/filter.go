package sandbox

import (
	"runtime"
	"slices"
	"syscall"
	"unsafe"

	"golang.org/x/sys/unix"
)

// A filter (seccomp(2)) keeps system calls that no compiler needs from commands: it reduces the
// attack surface of the kernel, and closes what namespaces and Landlock leave open. A refused
// call fails as on a kernel without it, or for a user without the right, so that programs try
// something else.

// A rule says what happens to a system call.
type rule struct {
	call  uint32
	errno syscall.Errno // that it fails with
	only  *match        // if it is not refused whatever its arguments are
}

// match is the condition of a rule on the lower half of an argument.
type match struct {
	argument int
	mask     uint32   // any of these bits; or
	values   []uint32 // one of these values; or
	but      []uint32 // any but these values
}

// abi are the calls of one kind of programs that the kernel runs.
type abi struct {
	arch  uint32 // as the kernel calls it
	rules []rule
}

// newNamespaces are the flags of clone(2) and unshare(2) that make namespaces.
const newNamespaces = unix.CLONE_NEWNS | unix.CLONE_NEWCGROUP | unix.CLONE_NEWUTS | unix.CLONE_NEWIPC |
	unix.CLONE_NEWUSER | unix.CLONE_NEWPID | unix.CLONE_NEWNET

const cloneNewTime = 0x80 // of unshare(2); for clone(2) it is a signal

// common are the calls with the same number everywhere (added after 2019).
var common = []rule{
	{call: 428, errno: syscall.EPERM},  // open_tree
	{call: 429, errno: syscall.EPERM},  // move_mount
	{call: 430, errno: syscall.EPERM},  // fsopen
	{call: 431, errno: syscall.EPERM},  // fsconfig
	{call: 432, errno: syscall.EPERM},  // fsmount
	{call: 433, errno: syscall.EPERM},  // fspick
	{call: 435, errno: syscall.ENOSYS}, // clone3, whose flags cannot be inspected; the C library falls back to clone
	{call: 425, errno: syscall.ENOSYS}, // io_uring_setup
	{call: 426, errno: syscall.ENOSYS}, // io_uring_enter
	{call: 427, errno: syscall.ENOSYS}, // io_uring_register
	{call: 442, errno: syscall.EPERM},  // mount_setattr
	{call: 443, errno: syscall.EPERM},  // quotactl_fd
	{call: 467, errno: syscall.EPERM},  // open_tree_attr
}

// native are the calls of programs like this one.
func native(level Level) abi {
	a := abi{arch: audit[runtime.GOARCH], rules: slices.Clone(common)}
	for _, call := range slices.Concat(architectureCalls, []uint32{
		unix.SYS_KEYCTL, unix.SYS_ADD_KEY, unix.SYS_REQUEST_KEY, unix.SYS_BPF, unix.SYS_PERF_EVENT_OPEN, unix.SYS_USERFAULTFD,
		unix.SYS_MOUNT, unix.SYS_UMOUNT2, unix.SYS_PIVOT_ROOT, unix.SYS_CHROOT, unix.SYS_SETNS,
		unix.SYS_KEXEC_LOAD, unix.SYS_INIT_MODULE, unix.SYS_FINIT_MODULE, unix.SYS_DELETE_MODULE,
		unix.SYS_SWAPON, unix.SYS_SWAPOFF, unix.SYS_REBOOT, unix.SYS_ACCT, unix.SYS_QUOTACTL,
		unix.SYS_OPEN_BY_HANDLE_AT, unix.SYS_SYSLOG, unix.SYS_SETTIMEOFDAY, unix.SYS_CLOCK_SETTIME,
		unix.SYS_SETHOSTNAME, unix.SYS_SETDOMAINNAME, unix.SYS_VHANGUP, unix.SYS_KCMP,
	}) {
		a.rules = append(a.rules, rule{call: call, errno: syscall.EPERM})
	}
	a.rules = append(a.rules,
		rule{unix.SYS_CLONE, syscall.EPERM, &match{argument: cloneFlags, mask: newNamespaces}},
		rule{unix.SYS_UNSHARE, syscall.EPERM, &match{argument: 0, mask: newNamespaces | cloneNewTime}},
	)
	a.rules = append(a.rules, terminals(unix.SYS_IOCTL)...)
	a.rules = append(a.rules, sockets(level, unix.SYS_SOCKET, unix.SYS_SOCKETPAIR)...)
	if level == Fenced { // there are others to reach
		for _, call := range []uint32{unix.SYS_PTRACE, unix.SYS_PROCESS_VM_READV, unix.SYS_PROCESS_VM_WRITEV,
			438 /* pidfd_getfd */, 440 /* process_madvise */} {
			a.rules = append(a.rules, rule{call: call, errno: syscall.EPERM})
		}
		for _, call := range []uint32{unix.SYS_SHMGET, unix.SYS_SEMGET, unix.SYS_MSGGET, unix.SYS_MQ_OPEN} {
			a.rules = append(a.rules, rule{call: call, errno: syscall.ENOSYS})
		}
	}
	return a
}

// terminals refuses calls that type into a terminal, or load modules for one.
func terminals(ioctl uint32) []rule {
	const tiocsti, tioclinux, tiocsetd = 0x5412, 0x541c, 0x5423
	return []rule{{ioctl, syscall.EPERM, &match{argument: 1, values: []uint32{tiocsti, tioclinux, tiocsetd}}}}
}

// sockets allows, in a room with its own network, the kinds of sockets that programs use among
// themselves; without one, only socket pairs.
func sockets(level Level, socket, pair uint32) []rule {
	pairs := rule{pair, syscall.EAFNOSUPPORT, &match{argument: 0, but: []uint32{unix.AF_UNIX}}}
	if level == Fenced {
		return []rule{{call: socket, errno: syscall.EAFNOSUPPORT}, pairs}
	}
	return []rule{
		{socket, syscall.EAFNOSUPPORT,
			&match{argument: 0, but: []uint32{unix.AF_UNIX, unix.AF_INET, unix.AF_INET6, unix.AF_NETLINK}}},
		{socket, syscall.EPROTONOSUPPORT,
			&match{argument: 2, but: []uint32{0, unix.IPPROTO_TCP, unix.IPPROTO_UDP, unix.IPPROTO_ICMP, unix.IPPROTO_ICMPV6}}},
		pairs,
	}
}

// program makes the filter for several kinds of programs (bpf(4)). Programs of other kinds,
// whose calls have other numbers, can make no calls.
func program(abis []abi) []unix.SockFilter {
	const number, arch, arguments = 0, 4, 16 // where they are in struct seccomp_data
	load := func(at uint32) unix.SockFilter {
		return unix.SockFilter{Code: unix.BPF_LD | unix.BPF_W | unix.BPF_ABS, K: at}
	}
	jump := func(kind uint16, k uint32, yes, no uint8) unix.SockFilter {
		return unix.SockFilter{Code: unix.BPF_JMP | kind | unix.BPF_K, K: k, Jt: yes, Jf: no}
	}
	end := func(with uint32) unix.SockFilter { return unix.SockFilter{Code: unix.BPF_RET | unix.BPF_K, K: with} }
	fail := func(errno syscall.Errno) unix.SockFilter { return end(unix.SECCOMP_RET_ERRNO | uint32(errno)) }

	var code []unix.SockFilter
	for _, a := range abis {
		var body []unix.SockFilter
		body = append(body, load(number))
		if a.arch == unix.AUDIT_ARCH_X86_64 { // and not x32, whose numbers have this bit
			body = append(body, jump(unix.BPF_JSET, 0x40000000, 0, 1), fail(syscall.ENOSYS))
		}
		for _, r := range a.rules {
			if r.only == nil {
				body = append(body, jump(unix.BPF_JEQ, r.call, 0, 1), fail(r.errno))
				continue
			}
			test := []unix.SockFilter{load(lowerHalf(arguments, r.only.argument))}
			switch m := r.only; {
			case m.mask != 0:
				test = append(test, jump(unix.BPF_JSET, m.mask, 0, 1), fail(r.errno))
			case m.values != nil:
				for _, v := range m.values {
					test = append(test, jump(unix.BPF_JEQ, v, 0, 1), fail(r.errno))
				}
			default:
				for i, v := range m.but {
					test = append(test, jump(unix.BPF_JEQ, v, uint8(len(m.but)-i), 0))
				}
				test = append(test, fail(r.errno))
			}
			test = append(test, load(number))
			body = append(body, jump(unix.BPF_JEQ, r.call, 0, uint8(len(test))))
			body = append(body, test...)
		}
		body = append(body, end(unix.SECCOMP_RET_ALLOW))
		// A jump in one direction can be long.
		code = append(code, load(arch), jump(unix.BPF_JEQ, a.arch, 1, 0),
			unix.SockFilter{Code: unix.BPF_JMP | unix.BPF_JA, K: uint32(len(body))})
		code = append(code, body...)
	}
	return append(code, fail(syscall.ENOSYS))
}

// lowerHalf is the offset of the lower half of an argument.
func lowerHalf(arguments uint32, i int) uint32 {
	at := arguments + 8*uint32(i)
	if bigEndian {
		at += 4
	}
	return at
}

var bigEndian = func() bool {
	one := uint16(1)
	return *(*byte)(unsafe.Pointer(&one)) == 0
}()

// restrict applies the filter to all threads of this process and everything it starts.
func restrict(level Level) error {
	code := program(append([]abi{native(level)}, older(level)...))
	filter := unix.SockFprog{Len: uint16(len(code)), Filter: &code[0]}
	_, _, errno := unix.Syscall(unix.SYS_SECCOMP, unix.SECCOMP_SET_MODE_FILTER, unix.SECCOMP_FILTER_FLAG_TSYNC,
		uintptr(unsafe.Pointer(&filter)))
	runtime.KeepAlive(code)
	if errno != 0 {
		return errno
	}
	return nil
}
