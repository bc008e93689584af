package seal

import (
	"fmt"
	"os"
	"syscall"

	"github.com/landlock-lsm/go-landlock/landlock"
	"golang.org/x/sys/unix"
)

// fenced puts the fence up and becomes the command. It only returns when it
// cannot.
func (o order) fenced() error {
	writable := append([]string{"/dev/null", "/dev/zero", "/dev/full", "/dev/tty", "/dev/shm", "/proc"}, o.Writable...)
	var rules []landlock.Rule
	rules = append(rules, landlock.RODirs("/"))
	for _, path := range writable {
		info, err := os.Stat(path)
		switch {
		case err != nil:
		case info.IsDir():
			rules = append(rules, landlock.RWDirs(path).WithRefer())
		default:
			rules = append(rules, landlock.RWFiles(path))
		}
	}
	// The first version that has no TCP is 4; the first in which files can be
	// moved between directories is 2.
	var err error
	for _, version := range []landlock.Config{landlock.V4, landlock.V3, landlock.V2} {
		if err = version.Restrict(rules...); err == nil {
			break
		}
	}
	if err != nil {
		return fmt.Errorf("the kernel has no Landlock: %w", err)
	}
	return o.exec()
}

func (o order) exec() error {
	if err := unix.Prctl(unix.PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0); err != nil {
		return err
	}
	if err := os.Chdir(o.Dir); err != nil {
		return err
	}
	return syscall.Exec(o.File, o.Argv, o.Env)
}
