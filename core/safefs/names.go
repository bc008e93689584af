package safefs

import (
	"fmt"
	"io"
	"os"
	"slices"

	"golang.org/x/sys/unix"
)

// names lists what is in the directory, sorted, if that is not more than so many.
func (d *Dir) names(most int) ([]string, error) {
	f, err := d.listing()
	if err != nil {
		return nil, err
	}
	defer f.Close()
	var names []string
	for {
		more, err := f.Readdirnames(1024)
		names = append(names, more...)
		if len(names) > most {
			return nil, &Tangled{fmt.Sprintf("there are more than %d files", MostEntries)}
		}
		if err == io.EOF {
			slices.Sort(names)
			return names, nil
		}
		if err != nil {
			return nil, err
		}
	}
}

// drain calls take, which takes it away, for everything in the directory, until
// nothing is left: a few thousand at a time, for there is no limit to what can be
// in a directory. Where something is in it again and again, another process makes it, or the
// file system does, for a file that is open; then it gives up.
func (d *Dir) drain(take func(name string) error) error {
	const some, enough = 4096, 100
	for again := 0; ; {
		f, err := d.listing()
		if err != nil {
			return err
		}
		names, err := f.Readdirnames(some)
		f.Close()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
		if len(names) < some {
			if again++; again > enough {
				return wrap("remove", d.path, unix.ENOTEMPTY)
			}
		}
		for _, name := range names {
			if err := take(name); err != nil {
				return err
			}
		}
	}
}

// listing opens the directory once more, for a descriptor remembers how far it was
// read.
func (d *Dir) listing() (*os.File, error) {
	fd, err := retry(func() (int, error) {
		return unix.Openat(d.fd(), ".", unix.O_RDONLY|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	})
	if err != nil {
		return nil, wrap("open", d.path, err)
	}
	return os.NewFile(uintptr(fd), d.path), nil
}
