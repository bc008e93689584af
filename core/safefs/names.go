package safefs

import (
	"fmt"
	"io"
	"os"
	"slices"

	"golang.org/x/sys/unix"
)

// names lists the directory, sorted, if it has no more than so many entries.
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

// drain calls take, which removes it, for each entry of the directory, until none is left: a few
// thousand at a time, because directories have no limit. If entries come again and again, from
// another process or, for an open file, from the file system, it gives up.
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

// listing opens the directory once more, because a descriptor has a position.
func (d *Dir) listing() (*os.File, error) {
	fd, err := retry(func() (int, error) {
		return unix.Openat(d.fd(), ".", unix.O_RDONLY|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	})
	if err != nil {
		return nil, wrap("open", d.path, err)
	}
	return os.NewFile(uintptr(fd), d.path), nil
}
