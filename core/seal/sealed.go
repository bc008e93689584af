package seal

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"runtime"
	"syscall"

	"golang.org/x/sys/unix"
)

// sealed is the first process of a sealed room: it puts the room together, runs
// the command in it and returns its status. When it ends, the kernel ends
// everything that the command has left running.
func (o order) sealed(in, out, errOut *os.File) (int, error) {
	runtime.LockOSThread() // what follows is about threads as much as processes
	if err := o.furnish(); err != nil {
		return 0, fmt.Errorf("the sealed room cannot be made: %w", err)
	}
	if err := unix.Prctl(unix.PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0); err != nil {
		return 0, err
	}
	var files []*os.File
	for i := range o.Fds {
		files = append(files, os.NewFile(uintptr(3+i), "inherited"))
	}
	command := o.command(in, out, errOut, files)
	signals := make(chan os.Signal, 4)
	signal.Notify(signals, syscall.SIGTERM, syscall.SIGINT, syscall.SIGHUP)
	if err := command.Start(); err != nil {
		return 0, err
	}
	go func() {
		for s := range signals {
			command.Process.Signal(s)
		}
	}()
	return wait(command.Process.Pid)
}

// command is what runs in the room. It is an ordinary user in a namespace of its
// own: what runs as root tries to give files to other users, of whom there are
// none.
func (o order) command(in, out, errOut *os.File, files []*os.File) *exec.Cmd {
	command := exec.Command(o.File)
	command.Args, command.Dir, command.Env = o.Argv, o.Dir, o.Env
	command.Stdout, command.Stderr, command.ExtraFiles = out, errOut, files
	if in != nil {
		command.Stdin = in
	}
	const builder = 1000
	command.SysProcAttr = &syscall.SysProcAttr{
		Cloneflags:  syscall.CLONE_NEWUSER,
		UidMappings: []syscall.SysProcIDMap{{ContainerID: builder, HostID: 0, Size: 1}},
		GidMappings: []syscall.SysProcIDMap{{ContainerID: builder, HostID: 0, Size: 1}},
	}
	return command
}

// wait waits for the command, and for all orphans that come to this process in
// the meantime.
func wait(pid int) (int, error) {
	for {
		var status syscall.WaitStatus
		got, err := syscall.Wait4(-1, &status, 0, nil)
		switch {
		case errors.Is(err, syscall.EINTR):
		case err != nil:
			return 0, err
		case got == pid && status.Signaled():
			return 128 + int(status.Signal()), nil
		case got == pid:
			return status.ExitStatus(), nil
		}
	}
}

// furnish puts the room together at its point and moves into it.
func (o order) furnish() error {
	if err := unix.Mount("", "/", "", unix.MS_REC|unix.MS_PRIVATE, ""); err != nil {
		return fmt.Errorf("mounts: %w", err)
	}
	if err := unix.Mount("tmpfs", o.Point, "tmpfs", unix.MS_NOSUID|unix.MS_NODEV, "mode=0755"); err != nil {
		return err
	}
	for _, dir := range []string{"/tmp", "/var/tmp", "/run", "/dev", "/proc", "/home", "/root"} {
		if err := os.MkdirAll(o.at(dir), 0o755); err != nil {
			return err
		}
	}
	for _, dir := range []string{"/tmp", "/var/tmp"} {
		if err := unix.Mount("tmpfs", o.at(dir), "tmpfs", unix.MS_NOSUID|unix.MS_NODEV, "mode=1777,size=25%"); err != nil {
			return fmt.Errorf("%s: %w", dir, err)
		}
	}
	if err := o.system(); err != nil {
		return err
	}
	if err := o.devices(); err != nil {
		return err
	}
	if err := unix.Mount("proc", o.at("/proc"), "proc", unix.MS_NOSUID|unix.MS_NODEV|unix.MS_NOEXEC, ""); err != nil {
		return fmt.Errorf("/proc: %w", err)
	}
	for _, path := range o.Visible {
		if err := o.bring(path, true); err != nil {
			return err
		}
	}
	for _, path := range o.Writable {
		if err := o.bring(path, false); err != nil {
			return err
		}
	}
	if o.Stands.In != "" {
		if err := o.mount(o.Stands.In, o.Stands.For, false); err != nil {
			return err
		}
	}
	if err := o.user(); err != nil {
		return err
	}
	if err := unix.Sethostname([]byte("room")); err != nil {
		return err
	}
	if err := loopback(); err != nil {
		return fmt.Errorf("loopback: %w", err)
	}
	// Nothing is written to what only looks like the system.
	readOnly := &unix.MountAttr{Attr_set: unix.MOUNT_ATTR_RDONLY}
	if err := unix.MountSetattr(-1, o.Point, 0, readOnly); err != nil {
		return err
	}
	if err := os.Chdir(o.Point); err != nil {
		return err
	}
	if err := unix.PivotRoot(".", "."); err != nil {
		return fmt.Errorf("pivot_root: %w", err)
	}
	if err := unix.Unmount(".", unix.MNT_DETACH); err != nil {
		return err
	}
	return os.Chdir("/")
}

// at is where a path of the room is while it is put together.
func (o order) at(path string) string { return filepath.Join(o.Point, path) }

// system brings the operating system, but for what is private in it.
func (o order) system() error {
	for _, path := range []string{"/usr", "/bin", "/sbin", "/lib", "/lib32", "/lib64", "/libx32", "/etc", "/sys"} {
		if target, err := os.Readlink(path); err == nil { // as /bin is to usr/bin
			if err := os.Symlink(target, o.at(path)); err != nil {
				return err
			}
			continue
		}
		if err := o.bring(path, true); err != nil {
			return err
		}
	}
	nothing := o.at("/run/nothing")
	if err := os.Mkdir(nothing, 0o755); err != nil {
		return err
	}
	for _, path := range o.Private {
		source := nothing
		if info, err := os.Stat(o.at(path)); err != nil {
			continue
		} else if !info.IsDir() {
			source = "/dev/null"
		}
		if err := unix.Mount(source, o.at(path), "", unix.MS_BIND, ""); err != nil {
			return fmt.Errorf("%s: %w", path, err)
		}
	}
	return nil
}

// bring makes a path of the machine visible in the room.
func (o order) bring(path string, readOnly bool) error { return o.mount(path, path, readOnly) }

// mount makes a path of the machine visible in the room as another.
func (o order) mount(path, as string, readOnly bool) error {
	info, err := os.Stat(path)
	if errors.Is(err, os.ErrNotExist) && readOnly {
		return nil
	}
	if err != nil {
		return err
	}
	target := o.at(as)
	if info.IsDir() {
		err = os.MkdirAll(target, 0o755)
	} else if err = os.MkdirAll(filepath.Dir(target), 0o755); err == nil {
		var f *os.File
		if f, err = os.OpenFile(target, os.O_CREATE, 0o644); err == nil {
			f.Close()
		} else if _, there := os.Stat(target); there == nil {
			err = nil
		}
	}
	if err != nil {
		return err
	}
	if err := unix.Mount(path, target, "", unix.MS_BIND|unix.MS_REC, ""); err != nil {
		return fmt.Errorf("%s: %w", path, err)
	}
	set := &unix.MountAttr{Attr_set: unix.MOUNT_ATTR_NOSUID | unix.MOUNT_ATTR_NODEV}
	if readOnly {
		set.Attr_set |= unix.MOUNT_ATTR_RDONLY
	}
	if err := unix.MountSetattr(-1, target, unix.AT_RECURSIVE, set); err != nil {
		return fmt.Errorf("%s: %w", path, err)
	}
	return nil
}

// devices makes a /dev with what every program may expect.
func (o order) devices() error {
	if err := unix.Mount("tmpfs", o.at("/dev"), "tmpfs", unix.MS_NOSUID, "mode=0755"); err != nil {
		return fmt.Errorf("/dev: %w", err)
	}
	for _, name := range []string{"null", "zero", "full", "random", "urandom"} {
		path := filepath.Join("/dev", name)
		if err := os.WriteFile(o.at(path), nil, 0o644); err != nil {
			return err
		}
		if err := unix.Mount(path, o.at(path), "", unix.MS_BIND, ""); err != nil {
			return fmt.Errorf("%s: %w", path, err)
		}
	}
	for link, target := range map[string]string{"fd": "/proc/self/fd", "stdin": "/proc/self/fd/0", "stdout": "/proc/self/fd/1", "stderr": "/proc/self/fd/2"} {
		if err := os.Symlink(target, o.at(filepath.Join("/dev", link))); err != nil {
			return err
		}
	}
	if err := os.Mkdir(o.at("/dev/shm"), 0o1777); err != nil {
		return err
	}
	return unix.Mount("tmpfs", o.at("/dev/shm"), "tmpfs", unix.MS_NOSUID|unix.MS_NODEV, "mode=1777,size=25%")
}

// user makes the one user of the room known by name.
func (o order) user() error {
	home := o.Home
	if home == "" {
		home = "/"
	}
	for file, text := range map[string]string{
		"/etc/passwd": "root:x:0:0:root:/:/bin/sh\nbuilder:x:1000:1000:builder:" + home + ":/bin/sh\nnobody:x:65534:65534:nobody:/:/bin/false\n",
		"/etc/group":  "root:x:0:\nbuilder:x:1000:\nnogroup:x:65534:\n",
	} {
		if _, err := os.Stat(file); err != nil {
			continue
		}
		ours := o.at(filepath.Join("/run", filepath.Base(file)))
		if err := os.WriteFile(ours, []byte(text), 0o644); err != nil {
			return err
		}
		if err := unix.Mount(ours, o.at(file), "", unix.MS_BIND, ""); err != nil {
			return fmt.Errorf("%s: %w", file, err)
		}
	}
	return nil
}

// loopback brings up the room's own loopback, which leads nowhere else. Tests of
// packages use it.
func loopback() error {
	socket, err := unix.Socket(unix.AF_INET, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return err
	}
	defer unix.Close(socket)
	request, err := unix.NewIfreq("lo")
	if err != nil {
		return err
	}
	request.SetUint16(unix.IFF_UP | unix.IFF_RUNNING)
	return unix.IoctlIfreq(socket, unix.SIOCSIFFLAGS, request)
}
