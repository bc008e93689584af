package sandbox

import (
	"bufio"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"golang.org/x/sys/unix"

	"fernladder/core/problem"
)

// NotBare is the problem of a machine that cannot hide parts of the system: its kernel has no
// overlays, or none for ordinary users.
const NotBare problem.Code = "not_bare"

// notBare begins the server's error about that, which is sent as text.
const notBare = "overlay of "

// beneath are the paths that are in a directory.
func beneath(dir string, paths []string) (found []string) {
	for _, path := range paths {
		if strings.HasPrefix(path, dir+"/") {
			found = append(found, path)
		}
	}
	return found
}

// bringBare brings in a directory of the system without its hidden paths: an overlay, whose
// upper directory has a whiteout for each (the kernel's
// Documentation/filesystems/overlayfs.rst). A directory with mounts in it cannot be overlaid,
// because the room's user cannot unmount them: it is assembled from its entries.
func (o order) bringBare(dir string, hidden, mounts []string) error {
	if inside := beneath(dir, mounts); len(inside) > 0 {
		return o.bringEach(dir, hidden, inside)
	}
	layer, done, err := o.layer(dir, hidden)
	if err != nil {
		return fmt.Errorf("%s%s: %w", notBare, dir, err)
	}
	target := o.at(dir)
	if err := os.MkdirAll(target, 0o755); err != nil {
		return err
	}
	flags := uintptr(unix.MS_RDONLY | unix.MS_NOSUID | unix.MS_NODEV)
	lower := layer + ":" + dir
	if o.over(dir) {
		lower = o.Shown.In + ":" + lower
	}
	if err := unix.Mount("overlay", target, "overlay", flags, "lowerdir="+lower); err != nil {
		return fmt.Errorf("%s%s: %w", notBare, dir, err)
	}
	return done()
}

// bringEach makes a directory of the room, in memory, and brings in the entries of the system's;
// a file system that is mounted there is brought in like any other directory.
func (o order) bringEach(dir string, hidden, mounts []string) error {
	if o.over(dir) {
		return fmt.Errorf("%s%s: %s is mounted in it", notBare, dir, mounts[0])
	}
	entries, err := os.ReadDir(dir)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(o.at(dir), 0o755); err != nil {
		return err
	}
	for _, e := range entries {
		path := filepath.Join(dir, e.Name())
		_, isHidden := slices.BinarySearch(hidden, path)
		switch {
		case isHidden || o.whitedOut(path) || path == o.Point:
		case e.Type()&os.ModeSymlink != 0:
			var target string
			if target, err = os.Readlink(path); err == nil {
				err = os.Symlink(target, o.at(path))
			}
		case !e.IsDir():
			err = o.bring(path, true)
		default:
			err = o.directory(path, beneath(path, hidden), mounts)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// whitedOut reports whether the prepared layer hides a path.
func (o order) whitedOut(path string) bool {
	info, err := os.Lstat(filepath.Join(o.Layer, path))
	return o.Layer != "" && err == nil && info.Mode()&os.ModeCharDevice != 0
}

// directory brings in a directory of the system, bare if something in it is hidden.
func (o order) directory(path string, hidden, mounts []string) error {
	if len(hidden) > 0 || o.layered(path) || o.over(path) || o.placeless(path) {
		return o.bringBare(path, hidden, mounts)
	}
	return o.bring(path, true)
}

// inside are the mount points inside a directory of the system. An overlay needs places for
// them.
func (r Room) inside(dir string) []string {
	return beneath(dir, slices.Concat(r.Visible, r.Writable, []string{r.Stands.For, r.Shown.For}))
}

// over reports whether something is mounted over a whole directory of the system.
func (r Room) over(dir string) bool { return r.Shown.In != "" && r.Shown.For == dir }

// placeless reports whether a stand-in is inside a directory of the system, at a path that does
// not exist or leads elsewhere.
func (r Room) placeless(dir string) bool {
	return slices.ContainsFunc(beneath(dir, []string{r.Stands.For, r.Shown.For}), func(path string) bool {
		real, err := filepath.EvalSymlinks(path)
		return errors.Is(err, os.ErrNotExist) || err == nil && real != path
	})
}

// Apart reports whether everything that the room is given is outside of the system, so that a
// layer is enough.
func (r Room) Apart() bool {
	return !slices.ContainsFunc(system, func(dir string) bool { return len(r.inside(dir)) > 0 })
}

// layered reports whether the prepared layer hides something in a directory.
func (o order) layered(dir string) bool {
	if o.Layer == "" {
		return false
	}
	_, err := os.Stat(filepath.Join(o.Layer, dir))
	return err == nil
}

// layer is the upper directory of a directory's overlay: the prepared one, or one in memory.
// done is called when the overlay exists.
func (o order) layer(dir string, hidden []string) (layer string, done func() error, err error) {
	places := o.inside(dir)
	if o.Layer != "" {
		if len(places) > 0 {
			return "", nil, fmt.Errorf("the layer has no place for %s", places[0])
		}
		return filepath.Join(o.Layer, dir), func() error { return nil }, nil
	}
	base := o.at("/run/bare")
	if err := os.MkdirAll(base, 0o700); err != nil {
		return "", nil, err
	}
	if err := unix.Mount("tmpfs", base, "tmpfs", unix.MS_NOSUID|unix.MS_NODEV, "mode=0755"); err != nil {
		return "", nil, err
	}
	if err := whiteouts(base, hidden); err != nil {
		return "", nil, err
	}
	if err := os.MkdirAll(filepath.Join(base, dir), 0o755); err != nil {
		return "", nil, err
	}
	for _, place := range places {
		if info, err := os.Stat(place); err == nil && !info.IsDir() {
			place = filepath.Dir(place)
		}
		if err := os.MkdirAll(filepath.Join(base, place), 0o755); err != nil {
			return "", nil, err
		}
	}
	return filepath.Join(base, dir), func() error { return unix.Unmount(base, unix.MNT_DETACH) }, nil
}

// whiteouts marks paths as hidden, in a directory to lay over the root directory. They are links
// to one mark, up to the file system's limit.
func whiteouts(layer string, hidden []string) error {
	last, mark := "", ""
	for _, path := range hidden {
		in, base := filepath.Split(path)
		if in = filepath.Join(layer, in); in != last {
			if err := os.MkdirAll(in, 0o755); err != nil {
				return err
			}
			last = in
		}
		name := filepath.Join(in, base)
		if mark != "" && unix.Link(mark, name) == nil {
			continue
		}
		err := unix.Mknod(name, unix.S_IFCHR, 0)
		if err != nil && !errors.Is(err, unix.EEXIST) {
			return err
		}
		if err == nil {
			mark = name
		}
	}
	return nil
}

// mountsIn are the mount points in a directory, the outer ones first. Characters that would end
// a field are octal numbers in their paths (proc_pid_mountinfo(5)).
func mountsIn(dir string) (found []string, err error) {
	file, err := os.Open("/proc/self/mountinfo")
	if err != nil {
		return nil, err
	}
	defer file.Close()
	plain := strings.NewReplacer(`\040`, " ", `\011`, "\t", `\012`, "\n", `\134`, `\`)
	lines := bufio.NewScanner(file)
	for lines.Scan() {
		if fields := strings.Fields(lines.Text()); len(fields) > 4 &&
			strings.HasPrefix(fields[4], strings.TrimSuffix(dir, "/")+"/") {
			found = append(found, plain.Replace(fields[4]))
		}
	}
	slices.Sort(found)
	return slices.Compact(found), lines.Err()
}
