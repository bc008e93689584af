package sandbox

import (
	"syscall"

	"golang.org/x/sys/unix"
)

// cloneFlags is the index of the flags among the arguments of clone(2).
const cloneFlags = 0

var architectureCalls = []uint32{unix.SYS_IOPL, unix.SYS_IOPERM, unix.SYS_KEXEC_FILE_LOAD, unix.SYS_LOOKUP_DCOOKIE,
	unix.SYS_NFSSERVCTL, unix.SYS_USELIB, unix.SYS__SYSCTL}

// older are programs for the 386, which the same machine runs. Their numbers are in the kernel's
// arch/x86/entry/syscalls/syscall_32.tbl.
func older(level Level) []abi {
	a := abi{arch: unix.AUDIT_ARCH_I386, rules: append([]rule{}, common...)}
	for _, call := range []uint32{
		288, 286, 287, 357, 336, 374, // keyctl, add_key, request_key, bpf, perf_event_open, userfaultfd
		21, 22, 52, 217, 61, 346, // mount, umount, umount2, pivot_root, chroot, setns
		283, 128, 350, 129, // kexec_load, init_module, finit_module, delete_module
		87, 115, 88, 51, 131, // swapon, swapoff, reboot, acct, quotactl
		110, 101, 113, 166, 86, 149, 169, 253, // iopl, ioperm, vm86old, vm86, uselib, _sysctl, nfsservctl, lookup_dcookie
		342, 103, 79, 25, 264, 404, // open_by_handle_at, syslog, settimeofday, stime, clock_settime, clock_settime64
		74, 121, 111, 349, // sethostname, setdomainname, vhangup, kcmp
	} {
		a.rules = append(a.rules, rule{call: call, errno: syscall.EPERM})
	}
	a.rules = append(a.rules,
		rule{120, syscall.EPERM, &match{argument: 0, mask: newNamespaces}},                // clone
		rule{310, syscall.EPERM, &match{argument: 0, mask: newNamespaces | cloneNewTime}}, // unshare
		// Socketcall, whose arguments a filter cannot see.
		rule{call: 102, errno: syscall.ENOSYS},
	)
	a.rules = append(a.rules, terminals(54)...)
	a.rules = append(a.rules, sockets(level, 359, 360)...)
	if level == Fenced {
		// Ptrace, process_vm_readv, process_vm_writev, pidfd_getfd, process_madvise.
		for _, call := range []uint32{26, 347, 348, 438, 440} {
			a.rules = append(a.rules, rule{call: call, errno: syscall.EPERM})
		}
		for _, call := range []uint32{117, 395, 393, 399, 277} { // ipc, shmget, semget, msgget, mq_open
			a.rules = append(a.rules, rule{call: call, errno: syscall.ENOSYS})
		}
	}
	return []abi{a}
}
