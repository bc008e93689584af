package sandbox

import (
	"os"
	"runtime"
	"syscall"

	"golang.org/x/sys/unix"
	"kernel.org/pub/linux/libs/security/libcap/psx"
)

// apply sets the limits of this process, which everything it starts inherits. others is the
// number of other processes of the user.
func (l Limits) apply(others int) error {
	set := func(what int, soft, hard uint64) error {
		var now unix.Rlimit
		if err := unix.Getrlimit(what, &now); err != nil {
			return err
		}
		now.Max = min(now.Max, hard)
		now.Cur = min(soft, now.Max)
		return syscall.Setrlimit(what, &syscall.Rlimit{Cur: now.Cur, Max: now.Max})
	}
	// A limit of one byte writes no core dump, and is the only value for which the kernel does not
	// start a handler for dumps (core(5)).
	for what, most := range map[int]uint64{unix.RLIMIT_CORE: 1, unix.RLIMIT_RTPRIO: 0} {
		if err := set(what, most, most); err != nil {
			return err
		}
	}
	if l.Processes > 0 {
		if err := set(unix.RLIMIT_NPROC, uint64(l.Processes+others), uint64(l.Processes+others)); err != nil {
			return err
		}
	}
	if l.Files > 0 {
		// The same on every machine, because programs size tables by it.
		if err := set(unix.RLIMIT_NOFILE, uint64(min(l.Files, 4096)), uint64(l.Files)); err != nil {
			return err
		}
	}
	if l.FileSize > 0 {
		if err := set(unix.RLIMIT_FSIZE, uint64(l.FileSize), uint64(l.FileSize)); err != nil {
			return err
		}
	}
	if l.Memory > 0 {
		if err := set(unix.RLIMIT_DATA, uint64(l.Memory), uint64(l.Memory)); err != nil {
			return err
		}
	}
	// When memory runs out, builds are killed before anything else on the machine.
	os.WriteFile("/proc/self/oom_score_adj", []byte("500"), 0)
	return nil
}

// threadsOf counts the threads that a user has.
func threadsOf(user int) (n int) {
	pids, _ := processesOf(user)
	for _, pid := range pids {
		threads, _ := os.ReadDir("/proc/" + pid + "/task")
		n += len(threads)
	}
	return n
}

// unprivileged drops, for all threads and for good, every capability and the means to gain any.
func unprivileged() error {
	if err := everyThread(unix.SYS_PRCTL, unix.PR_SET_NO_NEW_PRIVS, 1, 0); err != nil {
		return err
	}
	if err := everyThread(unix.SYS_PRCTL, unix.PR_CAP_AMBIENT, unix.PR_CAP_AMBIENT_CLEAR_ALL, 0); err != nil {
		return err
	}
	return dropCapabilities()
}

// become makes all threads another user, and so without capabilities. credential has left them no
// other group.
func become(uid, gid int) error {
	if err := syscall.Setresgid(gid, gid, gid); err != nil {
		return err
	}
	return syscall.Setresuid(uid, uid, uid)
}

// everyThread makes a system call on all threads of the process.
func everyThread(call uintptr, a, b, c uintptr) error {
	if _, _, errno := psx.Syscall6(call, a, b, c, 0, 0, 0); errno != 0 {
		return errno
	}
	return nil
}

// ownKeyring gives this thread, and so what it starts, an empty session keyring
// (session-keyring(7)).
func ownKeyring() {
	const join = 1
	runtime.LockOSThread()
	unix.RawSyscall(unix.SYS_KEYCTL, join, 0, 0) // a kernel without keyrings has none to hide
}
