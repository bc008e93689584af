package sandbox

import (
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"golang.org/x/sys/unix"
)

// mountRoom assembles a sealed room at its point and moves into it.
func (o order) mountRoom() error {
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
	if _, err := os.Stat(o.Layer); o.Layer != "" && err != nil {
		return fmt.Errorf("%s/usr: %w", notBare, err) // it was deleted
	}
	if err := o.devices(); err != nil {
		return err
	}
	if err := o.scratch(); err != nil {
		return err
	}
	if err := o.system(); err != nil {
		return err
	}
	if err := o.processes(); err != nil {
		return err
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
	if o.Shown.In != "" && !slices.Contains(system, o.Shown.For) { // which it is laid over
		if err := o.mount(o.Shown.In, o.Shown.For, true); err != nil {
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
	if !o.Network {
		if err := loopback(); err != nil {
			return fmt.Errorf("loopback: %w", err)
		}
	}
	// Nothing is written to stand-ins of the system.
	readOnly := &unix.MountAttr{Attr_set: unix.MOUNT_ATTR_RDONLY}
	for _, path := range []string{o.Point, o.at("/dev")} {
		if err := unix.MountSetattr(-1, path, 0, readOnly); err != nil {
			return err
		}
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

// at is a path of the room while it is being assembled.
func (o order) at(path string) string { return filepath.Join(o.Point, path) }

// software are the directories of the operating system's software, parts of which can be hidden.
// Some may be links to others.
var software = []string{"/usr", "/bin", "/sbin", "/lib", "/lib32", "/lib64", "/libx32"}

// system are the directories of the operating system that every sealed room has.
var system = append(slices.Clone(software), "/etc", "/sys/devices/system/cpu", "/sys/devices/system/node")

// system brings in the operating system. The user of commands cannot read its private files. Of
// /sys, it brings the processors, which compilers and schedulers ask for.
func (o order) system() error {
	mounts, err := mountsIn("/")
	if err != nil {
		return err
	}
	mounts = slices.DeleteFunc(mounts, func(path string) bool {
		return path == o.Point || strings.HasPrefix(path, o.Point+"/")
	})
	for _, path := range system {
		if target, err := os.Readlink(path); err == nil { // as /bin is to usr/bin
			if err := os.Symlink(target, o.at(path)); err != nil {
				return err
			}
			continue
		}
		if err := o.directory(path, beneath(path, o.Hidden), mounts); err != nil {
			return err
		}
	}
	return nil
}

// scratch makes everything that all users may write to: one file system, so that there is one
// limit.
func (o order) scratch() error {
	base := o.at("/run/scratch")
	if err := os.Mkdir(base, 0o755); err != nil {
		return err
	}
	size := "25%"
	if o.Limits.Scratch > 0 {
		size = fmt.Sprint(o.Limits.Scratch)
	}
	const files = 1 << 20
	if err := unix.Mount("tmpfs", base, "tmpfs", unix.MS_NOSUID|unix.MS_NODEV,
		fmt.Sprintf("mode=0755,size=%s,nr_inodes=%d", size, files)); err != nil {
		return fmt.Errorf("/tmp: %w", err)
	}
	for i, path := range []string{"/tmp", "/var/tmp", "/dev/shm"} {
		dir := filepath.Join(base, fmt.Sprint(i))
		if err := os.Mkdir(dir, 0o700); err != nil {
			return err
		}
		if err := os.Chmod(dir, 0o777|os.ModeSticky); err != nil {
			return err
		}
		if err := unix.Mount(dir, o.at(path), "", unix.MS_BIND, ""); err != nil {
			return fmt.Errorf("%s: %w", path, err)
		}
	}
	return unix.Unmount(base, unix.MNT_DETACH)
}

// processes makes /proc, with the room's own processes. Nothing in it can be written, because
// parts of it belong to the machine.
func (o order) processes() error {
	flags := uintptr(unix.MS_NOSUID | unix.MS_NODEV | unix.MS_NOEXEC)
	if err := unix.Mount("proc", o.at("/proc"), "proc", flags, ""); err != nil {
		return fmt.Errorf("/proc: %w", err)
	}
	for _, secret := range []string{"/proc/keys", "/proc/key-users", "/proc/kcore", "/proc/kallsyms", "/proc/timer_list"} {
		if _, err := os.Stat(o.at(secret)); err != nil {
			continue
		}
		if err := unix.Mount("/dev/null", o.at(secret), "", unix.MS_BIND, ""); err != nil {
			return fmt.Errorf("%s: %w", secret, err)
		}
	}
	if err := unix.Mount("", o.at("/proc"), "", unix.MS_REMOUNT|unix.MS_BIND|unix.MS_RDONLY|flags, ""); err != nil {
		return fmt.Errorf("/proc: %w", err)
	}
	return nil
}

// bring makes a path of the machine visible in the room.
func (o order) bring(path string, readOnly bool) error { return o.mount(path, path, readOnly) }

// mount makes a path of the machine visible at another path of the room.
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

// devices makes a /dev with the devices that programs expect.
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
	for link, target := range map[string]string{"fd": "/proc/self/fd", "stdin": "/proc/self/fd/0",
		"stdout": "/proc/self/fd/1", "stderr": "/proc/self/fd/2"} {
		if err := os.Symlink(target, o.at(filepath.Join("/dev", link))); err != nil {
			return err
		}
	}
	return os.Mkdir(o.at("/dev/shm"), 0o755)
}

// SystemUsers and SystemGroups are those that a room knows besides its own, by number: those
// that systems have long had under the same numbers. Installers look them up.
var (
	SystemUsers = map[int]string{0: "root", 1: "daemon", 2: "bin", 3: "sys", 5: "games", 6: "man", 7: "lp", 8: "mail",
		9: "news", 10: "uucp", 13: "proxy", 33: "www-data", 65534: "nobody"}
	SystemGroups = map[int]string{0: "root", 1: "daemon", 2: "bin", 3: "sys", 4: "adm", 5: "tty", 6: "disk", 7: "lp",
		8: "mail", 9: "news", 10: "uucp", 12: "man", 13: "proxy", 15: "kmem", 20: "dialout",
		29: "audio", 33: "www-data", 42: "shadow", 43: "utmp", 44: "video", 50: "staff", 60: "games", 100: "users",
		999: "wheel", 65534: "nogroup"}
)

// user gives the room's only user a name, and adds system users.
func (o order) user() error {
	home := o.Home
	if home == "" {
		home = "/"
	}
	passwd := fmt.Sprintf("builder:x:%d:%d:builder:%s:/bin/sh\n", builder, builder, home)
	for _, uid := range slices.Sorted(maps.Keys(SystemUsers)) {
		passwd += fmt.Sprintf("%s:x:%d:%d:%[1]s:/:/bin/false\n", SystemUsers[uid], uid, uid)
	}
	group := fmt.Sprintf("builder:x:%d:\n", builder)
	for _, gid := range slices.Sorted(maps.Keys(SystemGroups)) {
		group += fmt.Sprintf("%s:x:%d:\n", SystemGroups[gid], gid)
	}
	for file, text := range map[string]string{"/etc/passwd": passwd, "/etc/group": group} {
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

// loopback brings up the room's own loopback, which leads nowhere else. Tests of packages use
// it.
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
